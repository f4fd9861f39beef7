/* The built program: the forms in which a search gives what it finds, what it counts, and two spans compared.
 */
#include "support/archives.h"
#include "support/random.h"

static const char rules[] = "store: log\nstate: state\nzone: UTC\ndomain: skerry.example\n"
                            "routes:\n  - {name: all, file: \"{facility}.log\"}\n";

static const char messages[] =
    "<164>1 2026-11-22T04:45:00Z harbour-fw kernel - - - DENY SRC=203.0.113.7 DPT=22 LEN=40\n"
    "<164>1 2026-11-22T05:45:00Z harbour-fw kernel - - - DENY SRC=203.0.113.8 DPT=22 LEN=60\n"
    "<164>1 2026-11-23T04:45:00Z harbour-fw kernel - - - DENY SRC=203.0.113.7 DPT=23 LEN=40\n"
    "<164>1 2026-11-23T04:46:00Z harbour-fw kernel - - - DENY SRC=198.51.100.9 DPT=23 LEN=1.5\n"
    "<187>1 2026-11-23T04:46:30Z pier3-sw2.skerry.example linkd 7 LINK [port@32473 name=\"ge0/24\"] uplink, "
    "down\n"
    "<189>1 2026-11-23T04:47:00Z pier3-sw2.skerry.example linkd 7 LINK - uplink up, \"at last\"\n"
    "<30>1 2026-11-23T06:30:00Z hq-dhcp dhcpd 612 - - DHCPREQUEST for 198.51.100.7\n";

static int set_up_store(void **state)
{
    set_up(state);
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
    ind_write_file(ind_path(folder, "in"), messages);
    run(IND_PROGRAM " collect --from in");
    return 0;
}

#define finds(arguments, expected)                                                                           \
    do {                                                                                                     \
        struct ind_ran ran_ = ind_shell(folder, IND_PROGRAM " search %s", arguments);                        \
        if (strcmp(ran_.out, expected) != 0)                                                                 \
            fail_msg("%s: %s%s", arguments, ran_.out, ran_.err);                                             \
        ind_ran_free(&ran_);                                                                                 \
    } while (0)

static void lines_come_in_the_form_that_is_asked_for(void **state)
{
    (void)state;
    finds("--reverse --first 2 --layout '{time}'",
          "2026-11-22T05:45:00.000000Z\n2026-11-22T04:45:00.000000Z\n");
    finds("--reverse --last 2 --layout '{time}'",
          "2026-11-23T06:30:00.000000Z\n2026-11-23T04:47:00.000000Z\n");
    finds("--around 2026-11-23T04:46:30 --within '30 s' --layout '{text}'",
          "DENY SRC=198.51.100.9 DPT=23 LEN=1.5\nuplink, down\nuplink up, \"at last\"\n");
    finds("--around 2026-11-23T04:46:30 --within 29s --layout '{text}'", "uplink, down\n");
    finds("--columns device,SRC,'data port@32473 name' --since 2026-11-23 --until 2026-11-23T04:46:40",
          "harbour-fw\t203.0.113.7\t-\nharbour-fw\t198.51.100.9\t-\npier3-sw2\t-\tge0/24\n");
    finds(
        "--csv --when 'app is \"linkd\"'",
        "time,device,facility,severity,app,procid,msgid,text\n"
        "2026-11-23T04:46:30.000000Z,pier3-sw2,local7,error,linkd,7,LINK,\"uplink, down\"\n"
        "2026-11-23T04:47:00.000000Z,pier3-sw2,local7,notice,linkd,7,LINK,\"uplink up, \"\"at last\"\"\"\n");
    finds("--json --columns SRC,severity --when 'severity is error or field DPT is \"22\"' --last 2",
          "{\"SRC\":\"203.0.113.8\",\"severity\":\"warning\"}\n{\"severity\":\"error\"}\n");
    finds("--when 'text contains \"down\"' --context 1 | cut -d ' ' -f 3,10-",
          "pier3-sw2(pier3-sw2.skerry.example) uplink, down\n"
          "pier3-sw2(pier3-sw2.skerry.example) uplink up, \"at last\"\n");
}

/* What was found stands apart from what was found elsewhere. */
static void what_was_said_before_and_after_is_shown(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(
        folder, IND_PROGRAM
        " search --when 'severity is error or field SRC is \"203.0.113.8\"' --context 1 | cut -c 1-19");
    assert_string_equal(ran.out, "2026-11-22T04:45:00\n2026-11-22T05:45:00\n2026-11-23T04:45:00\n\n"
                                 "2026-11-23T04:46:30\n2026-11-23T04:47:00\n");
    ind_ran_free(&ran);
}

static void groups_are_measured(void **state)
{
    (void)state;
    finds(
        "--by SRC/24 --sum LEN --distinct DPT --share --total --csv --when 'facility is local4'",
        "messages,share,sum LEN,distinct DPT,SRC/24\n3,75,140,2,203.0.113.0/24\n1,25,1.5,1,198.51.100.0/24\n"
        "4,100,141.5,3,total\n");
    finds("--by SRC --sum LEN --sort sum --top 2 --csv --when 'facility is local4'",
          "messages,sum LEN,SRC\n2,80,203.0.113.7\n1,60,203.0.113.8\n");
    finds("--by severity --sort name --json",
          "{\"messages\":1,\"severity\":\"error\"}\n{\"messages\":1,\"severity\":\"info\"}\n"
          "{\"messages\":1,\"severity\":\"notice\"}\n{\"messages\":4,\"severity\":\"warning\"}\n");
    finds("--every hour --since 2026-11-23", "messages  from\n       4  2026-11-23 04:00\n       0  "
                                             "2026-11-23 05:00\n       1  2026-11-23 06:00\n");
    finds("--every day --by severity --csv",
          "messages,from,severity\n2,2026-11-22,warning\n2,2026-11-23,warning\n1,2026-11-23,error\n"
          "1,2026-11-23,info\n1,2026-11-23,notice\n");
    finds("--by peer 2>/dev/null", "messages  peer\n       7  -\n");
}

static void two_spans_are_compared(void **state)
{
    (void)state;
    finds("--by SRC,severity --since 2026-11-23 --until 2026-11-23 --against 2026-11-22..2026-11-22 --csv",
          "change,messages,before,factor,SRC,severity\nnew,1,0,0,-,error\nnew,1,0,0,-,info\nnew,1,0,0,-,"
          "notice\n"
          "new,1,0,0,198.51.100.9,warning\ngone,0,1,0,203.0.113.8,warning\n");
    finds("--by facility --since 2026-11-23 --until 2026-11-23 --against 2026-11-22..2026-11-22 --factor 1 "
          "--top 3 --json",
          "{\"change\":\"new\",\"messages\":2,\"before\":0,\"factor\":0,\"facility\":\"local7\"}\n"
          "{\"change\":\"new\",\"messages\":1,\"before\":0,\"factor\":0,\"facility\":\"daemon\"}\n"
          "{\"change\":\"more\",\"messages\":2,\"before\":2,\"factor\":1,\"facility\":\"local4\"}\n");
    struct ind_ran ran = ind_run(folder, "search", "--by", "facility", "--since", "2026-11-23", "--against",
                                 "2026-11-23..2026-11-24", "--until", "2026-11-24", NULL);
    assert_int_equal(ran.status, 1); /* nothing has changed */
    ind_ran_free(&ran);
}

static void a_result_is_packed_as_its_name_says(void **state)
{
    (void)state;
    run(IND_PROGRAM " search >plain && " IND_PROGRAM " search --to a.zst && " IND_PROGRAM
                    " search --to a.gz && "
                    "zstd -dcq a.zst | cmp - plain && gzip -dc a.gz | cmp - plain");
    run(IND_PROGRAM " search --by device >plain && " IND_PROGRAM
                    " search --by device --to b.gz && gzip -dc b.gz | cmp - plain");
    run("! " IND_PROGRAM " search --to a.zst 2>/dev/null && " IND_PROGRAM
        " search --count --to a.zst --force && "
        "[ \"$(zstd -dcq a.zst)\" = 7 ]");
    run("! ls | grep part");
    /* Nor where somebody interrupts it. */
    run("mkfifo pipe; " IND_PROGRAM " search --to c.zst pipe 2>told & p=$!; exec 3>pipe; "
        "until ls | grep -q part; do sleep 0.01; done; kill -TERM $p; wait $p; [ $? = 143 ] && ! ls | grep "
        "-e part -e c.zst");
}

/* What is read twice cannot be a pipe. */
static void a_pipe_is_not_read_twice(void **state)
{
    (void)state;
    run("cat in | " IND_PROGRAM " search --count - | grep -qx 7");
    run("cat in | " IND_PROGRAM
        " search --context 1 - 2>told; [ $? = 2 ] && grep -q 'a pipe can be read once' told");
    run("cat in | " IND_PROGRAM " search --by host --against 2026-11-22..2026-11-22 - 2>told; [ $? = 2 ]");
}

/* An archive that is named has its index, too; a folder of archives likewise. */
static void archives_that_are_named_are_asked_by_their_index(void **state)
{
    (void)state;
    FILE *more = fopen(ind_path(folder, "more"), "w");
    for (unsigned i = 0; i < 20000; i++)
        fprintf(more, "<34>1 2026-11-23T%02u:%02u:00Z d%u a - - - text number %u\n", i / 1000, i / 20 % 60,
                i % 7, i);
    fclose(more);
    run(IND_PROGRAM " collect --from more && " IND_PROGRAM " rotate >rotated");
    run(IND_PROGRAM
        " search --why --count --when 'text mentions \"12345\"' log/auth-*.zst 2>why | grep -qx 1");
    run("grep -q 'the index of 1 archive left out' why");
    /* A host longer than any that is written is asked for like any other. */
    run("h=$(printf '%0700d' 1); " IND_PROGRAM " search --count --when \"host is \\\"$h\\\" or text mentions "
        "\\\"12345\\\"\" log/auth-*.zst | grep -qx 1");
}

/* ---- What the catalog tells, and what the files do ---- */

/* The lowest bits of neighbours are alike. */
static unsigned any(uint64_t *random, unsigned below)
{
    return ind_random(random, 100003) % below;
}

static void the_catalog_changes_no_answer(void **state)
{
    static const char *const conditions[] = {
        "severity at least warning", "device is \"pier3-sw2\"",
        "not facility is local4",    "device contains \"a\" or severity is info",
        "facility is local5",        "severity is error and device is \"nobody\"",
        "text contains \"1\"",       "host is \"d3\" and severity at least error"};
    static const char *const forms[] = {"--count",
                                        "--by severity,device",
                                        "--by hour,facility",
                                        "--every '2 h'",
                                        "--every day --by device",
                                        "--by weekday",
                                        "--first 3",
                                        "--by minute"};
    uint64_t random = IND_RANDOM_START;
    size_t counted = 0, left_out = 0;
    (void)state;
    FILE *in = fopen(ind_path(folder, "more"), "w");
    for (unsigned i = 0; i < 3000; i++)
        fprintf(in, "<%u>1 2026-11-%02uT%02u:%02u:00Z d%u a - - - text %u\n", ind_random(&random, 192),
                10 + i / 300, i / 12 % 24, ind_random(&random, 60), ind_random(&random, 5), i);
    fclose(in);
    for (int part = 0; part < 4; part++) {
        char command[500];
        snprintf(command, sizeof command,
                 "tail -n +%d more | head -n 750 >in && " IND_PROGRAM " collect --from in && " IND_PROGRAM
                 " rotate >rotated",
                 1 + 750 * part);
        run(command);
    }
    run("sed 's/state: state/state: nowhere/' indagator.yaml >read.yaml && " IND_PROGRAM
        " archives rebuild >rebuilt");
    for (int i = 0; i < (getenv("IND_ALL") ? 600 : 24); i++) {
        char span[120] = "";
        const unsigned day = 10 + any(&random, 10), hour = any(&random, 24);
        const char *when = conditions[any(&random, 8)], *form = forms[any(&random, 8)];
        if (any(&random, 2))
            snprintf(span, sizeof span, "--since 2026-11-%02uT%02u:%s:00Z --until 2026-11-%02uT%02u:00:00Z",
                     day, hour, any(&random, 2) ? "00" : "30", day + 1, hour);
        const char *copies = strncmp(form, "--first", 7) == 0 ? "" : "--copies";
        struct ind_ran ran =
            ind_shell(folder,
                      "%s search --why --when '%s' %s %s %s >one 2>why; a=$?; %s search -c read.yaml "
                      "--when '%s' %s %s %s >two; [ $a = $? ] && cmp one two && cat why",
                      IND_PROGRAM, when, span, form, copies, IND_PROGRAM, when, span, form, copies);
        if (ran.status != 0)
            fail_msg("--when '%s' %s %s: %s%s", when, span, form, ran.out, ran.err);
        counted += strstr(ran.out, "the catalog counts 1") || strstr(ran.out, "nothing was read");
        left_out += strstr(ran.out, "the catalog left out") != NULL;
        ind_ran_free(&ran);
    }
    assert_true(counted > 5 && left_out > 5);
}

/* An archive that is not as it was when it was counted is read. */
static void what_was_changed_by_hand_is_read(void **state)
{
    (void)state;
    run(IND_PROGRAM " rotate >rotated && " IND_PROGRAM " archives rebuild >rebuilt");
    finds("--count --when 'facility is daemon'", "1\n");
    run("f=$(ls log/daemon-*.zst) && { zstd -dcq $f; zstd -dcq $f; } | zstd -q >x && mv x $f");
    finds("--count --when 'facility is daemon'", "2\n");
}

/* ---- No room ---- */

static void a_full_folder_for_temporary_files_is_told(void **state)
{
    (void)state;
    FILE *out = fopen(ind_path(folder, "long"), "w");
    for (unsigned i = 0; i < 280000; i++)
        fprintf(out, "<34>Nov 23 04:%02u:%02u pier1-rtr app[%u]: %0120u\n", i / 3 % 60, i * 7 % 60, i, i);
    fclose(out);
    struct ind_ran ran = ind_shell(folder, "TMPDIR=/nowhere %s search long >out", IND_PROGRAM);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "/nowhere, does not take what has no room in memory"));
    ind_ran_free(&ran);
    run(IND_PROGRAM " search long | wc -l | grep -qx 280000");
    run(IND_PROGRAM " search long | sort -C -s -k1,1");
}

/* ---- While a collector writes, rotates and packs ---- */

static bool has_stored_all(void *context)
{
    (void)context;
    struct ind_ran ran = ind_shell(folder, "%s search --count --copies --when 'app is \"n\"'", IND_PROGRAM);
    const bool all = atoi(ran.out) == 20000;
    ind_ran_free(&ran);
    return all;
}

static void a_search_beside_a_collector_finds_each_message_once(void **state)
{
    (void)state;
    begin(IND_QUIET "store: log\nstate: state\nzone: UTC\nlisten: [{tcp: \"127.0.0.1:0\"}]\n"
                    "routes: [{name: a, file: a.log}]\narchives: {default: {rotate: {size: 64 KiB}}}\n");
    const unsigned port = ind_reported_port(&running, "tcp 127.0.0.1:");
    FILE *out = fopen(ind_path(folder, "numbers"), "w");
    for (unsigned i = 1; i <= 20000; i++)
        fprintf(out, "<14>1 - h n - - - %u\n", i);
    fclose(out);
    struct ind_ran ran =
        ind_shell(folder, "%s emit --to tcp:127.0.0.1:%u --from numbers --rate 10000 >emitted 2>&1 & echo $!",
                  IND_PROGRAM, port);
    ind_ran_free(&ran);
    /* All that one search has found was stored before the next one began. */
    ran = ind_shell(folder,
                    "before=0; for i in 1 2 3 4 5 6 7 8; do %s search --when 'app is \"n\"' --layout "
                    "'{text}' >found || true; "
                    "[ -z \"$(sort found | uniq -d)\" ] || { echo twice; exit 1; }; "
                    "[ $(sort -n found | awk '$1 == NR' | wc -l) -ge $before ] || { echo missing; exit 1; }; "
                    "before=$(sort -n found | awk '$1 == NR' | wc -l); [ $(wc -l <found) = $before ] || { "
                    "echo gap; exit 1; }; done",
                    IND_PROGRAM);
    if (ran.status != 0)
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
    ind_wait_until(has_stored_all, NULL, "all are stored");
    end();
    finds("--count --copies --when 'app is \"n\"'", "20000\n");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(lines_come_in_the_form_that_is_asked_for, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(what_was_said_before_and_after_is_shown, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(groups_are_measured, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(two_spans_are_compared, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(a_result_is_packed_as_its_name_says, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(a_pipe_is_not_read_twice, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(archives_that_are_named_are_asked_by_their_index, set_up_store,
                                        tear_down),
        cmocka_unit_test_setup_teardown(the_catalog_changes_no_answer, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(what_was_changed_by_hand_is_read, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(a_full_folder_for_temporary_files_is_told, set_up_store, tear_down),
        cmocka_unit_test_setup_teardown(a_search_beside_a_collector_finds_each_message_once, set_up,
                                        tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
