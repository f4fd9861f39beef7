/* `archives protect` against what rotations remove, and `archives restore` against other ways to the same
 * text. */
#define _GNU_SOURCE
#include "support/archives.h"

/* Sanitizers take more than all that there is. */
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
#define LITTLE_MEMORY ""
#elif defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
#define LITTLE_MEMORY ""
#endif
#endif
#ifndef LITTLE_MEMORY
#define LITTLE_MEMORY "ulimit -v 400000; "
#endif

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

static bool many_are_protected(void *context)
{
    (void)context;
    json_t *object = status();
    const bool many = number(json_object_get(object, "files"), "protected_archives") > 10;
    json_decref(object);
    return many;
}

static void a_running_collector_is_asked(void **state)
{
    (void)state;
    make_store();
    begin("listen: [{udp: 127.0.0.1:0}]\n" IND_QUIET ROUTES);
    expect("protect --since 2026-11-23T04:00:00Z --why 'a \"case\" & more'", 0, "are protected");
    ind_wait_until(many_are_protected, NULL, "the status knows of them");
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

/* Two stores whose archives have the same names: each needs a place of its own. */
static void two_stores_at_one_place_do_not_mix(void **state)
{
    (void)state;
    static const char *const words[] = {"ours", "theirs"};
    for (int i = 0; i < 2; i++) {
        char config[600], message[100];
        snprintf(config, sizeof config,
                 "store: log%d\nstate: state%d\nzone: UTC\nroutes: [{name: a, file: a.log}]\n"
                 "archives: {default: {second place: share, keep: {number: 1}}}\n",
                 i, i);
        snprintf(message, sizeof message, "<13>1 2026-11-23T04:45:00Z pier1-rtr app - - - %s\n", words[i]);
        ind_write_file(ind_path(folder, "indagator.yaml"), config);
        ind_write_file(ind_path(folder, "messages.log"), message);
        run("mkdir -p share && " IND_PROGRAM " collect --from messages.log && " IND_PROGRAM " rotate");
    }
    run("zstd -dcq share/a-20261123T044500Z-000001.log.zst | grep -q ours");
    struct ind_ran ran = ind_shell(folder, "%s rotate 2>&1", IND_PROGRAM);
    if (!strstr(ran.out, "the copies of another store are there"))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
    /* What has not been copied does not go. */
    ind_write_file(ind_path(folder, "messages.log"), "<13>1 2026-11-23T04:46:00Z pier1-rtr app - - - more\n");
    run(IND_PROGRAM " collect --from messages.log && " IND_PROGRAM
                    " rotate && test $(ls log1/a-* | wc -l) = 2");
    run("sed -i 's/share/other/' indagator.yaml && mkdir other && " IND_PROGRAM
        " rotate && test $(ls other/a-* | wc -l) = 2");
}

/* An archive that unpacks to a thousand times its size is read in pieces: little memory, no more time than
 * its text takes; one whose frames say more than they hold is named. */
static void what_unpacks_to_very_much_takes_little_memory(void **state)
{
    (void)state;
    make_store();
    run("head -c 150000000 /dev/zero | tr '\\0' 'x' | fold -w 1000 | zstd -q -o "
        "log/bomb-20261123T044500Z-000001.log.zst");
    run("head -c 90000000 /dev/zero | zstd -q -o log/line-20261123T044500Z-000001.log.zst"); /* one line */
    struct ind_ran ran = ind_shell(
        folder,
        LITTLE_MEMORY
        "%s archives verify >/dev/null; %s search --since 2026-11-01 nothing >out 2>&1; "
        "cat out; "
        "%s archives rebuild; %s archives restore --since 2026-11-01 --until 2026-11-24 bomb >/dev/null",
        IND_PROGRAM, IND_PROGRAM, IND_PROGRAM, IND_PROGRAM);
    if (strstr(ran.out, "memory") || strstr(ran.err, "memory") ||
        !strstr(ran.out, "the catalog is made anew") || !strstr(ran.out, "64 MiB"))
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
}

/* What a restore that was stopped has left is named, and nobody else's file is touched. */
static void an_unfinished_restore_is_told(void **state)
{
    (void)state;
    make_store();
    run(IND_PROGRAM " archives restore --to whole c/ >/dev/null");
    run("mkdir -p again/c && for f in $(cd whole && find . -type f); do echo torn >again/$f.part; done");
    expect("restore --to again c/app1", 3, ".log.part is there already: of a restore that was stopped");
    run("grep -q torn again/c/app1-*-000001.log.part && rm again/c/*.part");
    expect("restore --to again c/", 0, "restored");
    run("diff -r whole again");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(no_rule_removes_what_is_protected, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_running_collector_is_asked, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_restored_is_what_was_stored, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_not_right_is_named_and_left_out, set_up, tear_down),
        cmocka_unit_test_setup_teardown(two_stores_at_one_place_do_not_mix, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_unpacks_to_very_much_takes_little_memory, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_unfinished_restore_is_told, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
