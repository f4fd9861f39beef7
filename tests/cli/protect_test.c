/* `archives protect` against what rotations remove, and `archives restore` against other ways to the same
 * text. */
#define _GNU_SOURCE
#include "support/archives.h"

#define ROUTES                                                                                               \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "routes:\n  - {name: a, when: facility is kern, file: \"a.log\", archive: few, last: yes}\n"             \
    "  - {name: b, when: facility is mail, file: \"b.log\", archive: other, layout: json, last: yes}\n"      \
    "  - {name: c, file: \"c/{app}.log\", archive: other}\n"                                                 \
    "archives:\n  few: {rotate: {messages: 4}, keep: {number: 3}, chain: yes}\n"                             \
    "  other: {rotate: {messages: 5}, compress: gzip, chain: yes}\n"

static void write_messages(int from, int to)
{
    char text[40000];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    for (int i = from; i < to; i++) {
        char line[200];
        snprintf(line, sizeof line,
                 "<%d>1 2026-11-23T04:%02d:%02dZ pier1-rtr app%d - - - message %d \\ \x01\n",
                 i % 3 * 16 + 5 - (i % 3 == 2 ? 0 : i % 3 * 3), i / 60, i % 60, i % 2, i);
        ind_buffer_text(&out, line);
    }
    text[out.length] = '\0';
    ind_write_file(ind_path(folder, "messages.log"), text);
}

static void make_store(void)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), ROUTES);
    write_messages(0, 120);
    run(IND_PROGRAM " collect --from messages.log");
    run(IND_PROGRAM " rotate");
}

static size_t count(const char *pattern)
{
    struct ind_ran ran = ind_shell(folder, "ls %s 2>/dev/null | wc -l", pattern);
    const size_t files = strtoul(ran.out, NULL, 10);
    ind_ran_free(&ran);
    return files;
}

static void no_rule_removes_what_is_protected(void **state)
{
    (void)state;
    make_store();
    assert_int_equal(count("log/a-*"), 3);
    expect("protect a.log --why 'case 7'", 0, "3 archives are protected");
    expect("list a.log", 0, "protected: case 7");
    write_messages(120, 200);
    run(IND_PROGRAM " collect --from messages.log && " IND_PROGRAM " rotate");
    assert_int_equal(count("log/a-*"), 6); /* the number is of the others */
    expect("verify", 0, "nothing is wrong");
    expect("unprotect a-2 --why 'it is closed'", 0, "6 archives are protected no more");
    run(IND_PROGRAM " rotate");
    assert_int_equal(count("log/a-*"), 3);
    expect("verify", 0, "nothing is wrong");
    run("grep -q '\"event\":\"unprotected\".*\"reason\":\"it is closed\"' log/.indagator/journal.jsonl");
}

static void a_running_collector_is_asked(void **state)
{
    (void)state;
    make_store();
    begin("listen: [{udp: 127.0.0.1:0}]\n" IND_QUIET ROUTES);
    expect("protect --since 2026-11-23T04:00:00Z --why 'a \"case\" & more'", 0, "are protected");
    json_t *object = status();
    assert_true(number(json_object_get(object, "files"), "protected_archives") > 10);
    json_decref(object);
    expect("list a.log --json", 0, "\"protected\":\"a \\\"case\\\" & more\"");
    write_messages(120, 200);
    struct ind_ran ran = ind_shell(
        folder, "%s emit --to udp:127.0.0.1:%u --facility kern --count 40 --rate 2000 text && %s rotate 2>&1",
        IND_PROGRAM, running.port, IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    end();
    run(IND_PROGRAM " rotate");
    assert_true(count("log/a-*") >= 6);
    expect("unprotect a.log", 0, "no more");
    run(IND_PROGRAM " rotate");
    assert_int_equal(count("log/a-*"), 3);
    expect("verify", 0, "nothing is wrong");
}

static void what_is_restored_is_what_was_stored(void **state)
{
    (void)state;
    make_store();
    expect("restore --to out", 0, "archives restored to out");
    run("cd log && for f in $(find . -name '*.zst'); do zstd -dcq $f | cmp - ../out/${f%.zst} || exit 1; "
        "done");
    run("cd log && for f in $(find . -name '*.gz'); do gzip -dc $f | cmp - ../out/${f%.gz} || exit 1; done");
    run("test $(find log -name '*.log.*' | wc -l) = $(find out -type f | wc -l)");
    /* A second time nothing is written over. */
    expect("restore --to out", 3, "it is there already");
    /* To standard output: what a search finds. */
    run(IND_PROGRAM
        " archives restore a.log c/ >restored; cat out/a-* out/c/* | sort >all; sort restored | cmp - all; "
        "sort -s -k1,1 restored | cmp - restored");
    run(IND_PROGRAM " archives restore b.log | sort >restored; cat out/b-* | sort | cmp - restored");
    run(IND_PROGRAM
        " archives restore a.log --since 2026-11-23T04:01:00Z --until 2026-11-23T04:01:30Z >restored; "
        "awk '$1 >= \"2026-11-23T04:01:00\" && $1 < \"2026-11-23T04:01:30\"' out/a-* | cmp - restored");
    expect("restore nothing", 1, "no such archive");
    expect("restore --to log/out", 2, "lies in the store");
}

static void what_is_not_right_is_named_and_left_out(void **state)
{
    (void)state;
    make_store();
    run("f=$(ls log/a-*.zst | head -1); zstd -dcq $f | sed s/message/massage/ | zstd -q > new; mv new $f");
    run("truncate -s -9 $(ls log/b-*.gz | head -1)");
    expect("restore --to out", 3, "its text is not the one that was hashed");
    expect("restore --to out2", 3, "the compressed file ends early");
    run("test $(($(find log -name '*.log.*' | wc -l) - 2)) = $(find out -type f | wc -l)");
    run("! grep -rq massage out && test -z \"$(find out -name '*.part')\"");
    expect("restore a.log", 3, "its text is not the one that was hashed");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(no_rule_removes_what_is_protected, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_running_collector_is_asked, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_restored_is_what_was_stored, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_not_right_is_named_and_left_out, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
