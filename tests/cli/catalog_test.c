/* The catalog of a collector that is killed, of one that runs while it is made anew, and what the commands
 * say of one that does not serve. It has to tell of each line in the store, however it came about. */
#define _GNU_SOURCE
#include "support/archives.h"
#include "support/random.h"

#include <sys/stat.h>

#define HOURS "sqlite3 state/catalog.sqlite 'SELECT * FROM hours ORDER BY 1, 2'"
#define CONFIG                                                                                               \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "routes:\n  - {name: severe, when: severity at least error, file: \"severe.log\", layout: json}\n"       \
    "  - {name: all, file: \"{severity}.log\", archive: other}\n"                                            \
    "archives:\n  default: {rotate: {messages: 40}}\n"                                                       \
    "  other: {rotate: {messages: 70}, compress: gzip, chain: yes}\n"

static uint64_t number_of(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    if (ran.status != 0)
        fail_msg("%s: %s%s", command, ran.out, ran.err);
    const uint64_t number = strtoull(ran.out, NULL, 10);
    ind_ran_free(&ran);
    return number;
}

static char *text_of(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    if (ran.status != 0)
        fail_msg("%s: %s%s", command, ran.out, ran.err);
    char *text = strdup(ran.out);
    ind_ran_free(&ran);
    return text;
}

/* All lines that there are, and all that the catalog tells of. */
static void expect_all_counted(void)
{
    const uint64_t lines =
                       number_of("(find log -name '*.log' -exec cat {} +; find log -name '*.zst' -exec zstd "
                                 "-dcq {} +; find log -name '*.gz' -exec gzip -dc {} +) | wc -l"),
                   counted =
                       number_of("sqlite3 state/catalog.sqlite 'SELECT sum(emergency + alert + critical + "
                                 "error + warning + notice + info + debug + unknown) FROM hours'");
    assert_true(lines > 0);
    assert_int_equal(counted, lines);
}

/* Up to date, equal to one that is made anew, and equal in a list to what there is without one. */
static void expect_right(void)
{
    run(IND_PROGRAM " rotate");
    expect_all_counted();
    char *before = text_of(HOURS), *list = text_of(IND_PROGRAM " archives list --json");
    expect("rebuild", 0, "the catalog is made anew");
    char *after = text_of(HOURS), *again = text_of(IND_PROGRAM " archives list --json");
    assert_string_equal(after, before);
    assert_string_equal(again, list);
    run("mv state/catalog.sqlite elsewhere");
    free(again); /* what nobody has written down is not known without it */
    again = text_of(IND_PROGRAM " archives list --json | sed 's/\"messages\":[0-9]*,//'");
    run("mv elsewhere state/catalog.sqlite");
    free(list);
    list = text_of(IND_PROGRAM " archives list --json | sed 's/\"messages\":[0-9]*,//'");
    assert_string_equal(list, again);
    free(before);
    free(after);
    free(list);
    free(again);
}

static void begin_to_listen(void)
{
    begin("listen: [{tcp: \"127.0.0.1:0\"}]\n" IND_QUIET CONFIG);
}

static bool is_stored(void *wanted)
{
    json_t *object = status();
    const unsigned long stored = number(json_object_get(object, "ledger"), "stored");
    json_decref(object);
    return stored >= *(const unsigned long *)wanted;
}

static void whenever_it_is_killed_all_is_counted(void **state)
{
    (void)state;
    uint64_t seed = IND_RANDOM_START;
    for (int round = 0; round < 4; round++) {
        begin_to_listen();
        const unsigned port = ind_reported_port(&running, "tcp 127.0.0.1:");
        unsigned long wanted = 1 + ind_random(&seed, 900);
        struct ind_ran ran =
            ind_shell(folder, "%s emit --to tcp:127.0.0.1:%u --count %lu --severity %u text", IND_PROGRAM,
                      port, wanted + ind_random(&seed, 600), ind_random(&seed, 8));
        assert_int_equal(ran.status, 0);
        ind_ran_free(&ran);
        ind_wait_until(is_stored, &wanted, "some messages stored");
        end_with(SIGKILL, -1);
    }
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    expect_right();
}

static void it_is_made_anew_under_load(void **state)
{
    (void)state;
    begin_to_listen();
    struct ind_ran ran =
        ind_shell(folder,
                  "%s emit --to tcp:127.0.0.1:%u --count 6000 --rate 6000 text >/dev/null 2>&1 & "
                  "while kill -0 $! 2>/dev/null; do %s archives rebuild --json; done; wait",
                  IND_PROGRAM, ind_reported_port(&running, "tcp 127.0.0.1:"), IND_PROGRAM);
    if (ran.status != 0 || strstr(ran.err, "catalog") || !strstr(ran.out, "\"broken\":0"))
        fail_msg("%d: %s%s", ran.status, ran.out, ran.err);
    ind_ran_free(&ran);
    unsigned long wanted = 6000;
    ind_wait_until(is_stored, &wanted, "all messages stored");
    end();
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    expect_right();
}

/* Messages from files leave nothing to be counted, however many files they are filed into. */
static void what_came_from_files_is_counted_at_the_end(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\n"
                   "routes: [{name: all, file: \"{facility}/{severity}/{device}.log\"}]\n"
                   "archives: {default: {rotate: {messages: 30}}}\n");
    uint64_t seed = IND_RANDOM_START;
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    for (unsigned i = 0; i < 8000; i++)
        fprintf(file, "<%u>1 2026-11-23T%02u:45:00Z pier%u-rtr a - - - text %u\n",
                (unsigned)ind_random(&seed, 24), (unsigned)ind_random(&seed, 24),
                (unsigned)ind_random(&seed, 12), i);
    fclose(file);
    run(IND_PROGRAM " collect --from messages.log");
    expect_all_counted();
    char *before = text_of(HOURS);
    expect("rebuild", 0, "the catalog is made anew");
    char *after = text_of(HOURS);
    assert_string_equal(after, before);
    free(before);
    free(after);
    /* Also what came after the files were counted by the way, which is done at intervals only. */
    run("head -n 1 messages.log >more; mkfifo pipe; before=$(sqlite3 state/catalog.sqlite 'SELECT count(*) "
        "FROM hours'); rm state/catalog.sqlite; " IND_PROGRAM
        " collect --from pipe >/dev/null & exec 3>pipe; until [ \"$(sqlite3 state/catalog.sqlite 'SELECT "
        "count(*) "
        "FROM hours' 2>/dev/null)\" = \"$before\" ]; do sleep 0.02; done; cat more >&3; exec 3>&-; wait");
    expect_all_counted();
}

static void mistakes_are_told(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    expect("rebuild", 3, "log: No such file or directory");
    ind_write_file(ind_path(folder, "messages.log"),
                   "<13>1 2026-11-23T04:45:00Z pier1-rtr a - - - link down\n");
    run(IND_PROGRAM " collect --from messages.log");
    expect("rebuild all", 2, "leave names out");
    expect("rebuild --to elsewhere", 2, "has no option --to");
    expect("rebuild", 0, "1 file, ");
    /* What is of something else goes out of the way. */
    run("mv state/catalog.sqlite state/mine; echo 'somebody put this here, where it is in the way of all the "
        "rest' "
        ">state/catalog.sqlite");
    expect("list", 1, "0 archives");
    expect("rebuild", 0, "is now state/catalog-set-aside.sqlite");
    expect_right();
    run("grep -q somebody state/catalog-set-aside.sqlite");
    /* An archive that is broken off is named by verify; what can be read of it is counted. */
    run("truncate -s -8 $(find log -name '*.gz' | head -1)");
    expect("rebuild", 1, "could not be read to the end");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(whenever_it_is_killed_all_is_counted, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_is_made_anew_under_load, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_came_from_files_is_counted_at_the_end, set_up, tear_down),
        cmocka_unit_test_setup_teardown(mistakes_are_told, set_up, tear_down)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
