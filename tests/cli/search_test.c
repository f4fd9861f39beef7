/* The built program: search and rotate. */
#include "support/support.h"

#include "support/random.h"
#include <sys/stat.h>
#include <unistd.h>

static char *folder;

static const char messages[] =
    "<164>1 2020-11-23T04:45:00Z harbour-fw kernel - - - DENY SRC=203.0.113.7\n"
    "<164>1 2020-11-23T05:45:00Z harbour-fw kernel - - - DENY SRC=203.0.113.8\n"
    "<166>1 2020-11-22T04:45:00Z harbour-fw kernel - - - PERMIT SRC=203.0.113.9\n"
    "<187>1 2020-11-23T04:50:00Z pier3-sw2.skerry.example linkd 7 LINK [port@32473 name=\"ge0/24\"] uplink "
    "down\n"
    "<189>1 2020-11-24T00:30:00Z pier3-sw2.skerry.example linkd 7 LINK - uplink up, \"at last\" \xc3\xa9\n"
    "<30>1 2020-11-23T23:30:00+01:00 hq-dhcp dhcpd 612 - - DHCPREQUEST for 198.51.100.7\n";

static const char config[] =
    "store: log\nstate: state\nzone: UTC\ndomain: skerry.example\n"
    "conditions:\n  trouble: severity at least warning\n"
    "routes:\n  - {name: fw, when: facility is local4, file: \"fw/{severity}.log\", last: yes, archive: gz}\n"
    "  - {name: json, when: facility is daemon, file: dhcp.log, layout: json, last: yes}\n"
    "  - {name: rest, file: \"{facility}/{severity}.log\", layout: LAYOUT}\n"
    "archives:\n  default: {compress: zstd}\n  gz: {compress: gzip}\n";

/* A store with the messages above, the facility local7 in the given layout. */
static int set_up_with(const char *layout)
{
    char text[2048];
    const char *at = strstr(config, "LAYOUT");
    snprintf(text, sizeof text, "%.*s%s%s", (int)(at - config), config, layout, at + 6);
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    ind_write_file(ind_path(folder, "in"), messages);
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in", NULL);
    int status = ran.status;
    ind_ran_free(&ran);
    return status;
}

static int set_up(void **state)
{
    (void)state;
    return set_up_with("plain");
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

#define expect(expected_status, expected_out, ...)                                                           \
    do {                                                                                                     \
        struct ind_ran ran_ = ind_run(folder, __VA_ARGS__, NULL);                                            \
        if (ran_.status != (expected_status) || strcmp(ran_.out, expected_out) != 0)                         \
            print_error("%s%s", ran_.out, ran_.err);                                                         \
        assert_int_equal(ran_.status, expected_status);                                                      \
        assert_string_equal(ran_.out, expected_out);                                                         \
        ind_ran_free(&ran_);                                                                                 \
    } while (0)

#define expect_told(expected_status, expected_err, ...)                                                      \
    do {                                                                                                     \
        struct ind_ran ran_ = ind_run(folder, __VA_ARGS__, NULL);                                            \
        if (!strstr(ran_.err, expected_err))                                                                 \
            print_error("told: %s", ran_.err);                                                               \
        assert_int_equal(ran_.status, expected_status);                                                      \
        assert_non_null(strstr(ran_.err, expected_err));                                                     \
        ind_ran_free(&ran_);                                                                                 \
    } while (0)

static void search_prints_in_order_of_time_over_all_files(void **state)
{
    static const char all[] = "2020-11-22T04:45:00.000000Z PERMIT SRC=203.0.113.9\n"
                              "2020-11-23T04:45:00.000000Z DENY SRC=203.0.113.7\n"
                              "2020-11-23T04:50:00.000000Z uplink down\n"
                              "2020-11-23T05:45:00.000000Z DENY SRC=203.0.113.8\n"
                              "2020-11-23T22:30:00.000000Z DHCPREQUEST for 198.51.100.7\n"
                              "2020-11-24T00:30:00.000000Z uplink up, \"at last\" \xc3\xa9\n";
    (void)state;
    expect(0, all, "search", "--layout", "{time} {text}");
    struct ind_ran ran = ind_run(folder, "rotate", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    expect(0, all, "search", "--layout", "{time} {text}");
}

/* As many of the first, or of the last, as were asked for; all where there are not so many. */
static void the_first_and_the_last_are_given(void **state)
{
    (void)state;
    for (int number = 1; number < 9; number++) {
        struct ind_ran ran = ind_shell(folder,
                                       "%s search >all && %s search --first %d >first && head -n %d all | "
                                       "cmp - first && %s search --last %d "
                                       ">last && tail -n %d all | cmp - last && rm -f into && %s search "
                                       "--last %d --to into && cmp into last",
                                       IND_PROGRAM, IND_PROGRAM, number, number, IND_PROGRAM, number, number,
                                       IND_PROGRAM, number);
        if (ran.status != 0)
            fail_msg("%d: %s%s", number, ran.out, ran.err);
        ind_ran_free(&ran);
    }
    expect(1, "", "search", "--first", "3", "--when", "text contains \"not there at all\"");
}

static void search_takes_conditions_and_spans(void **state)
{
    (void)state;
    expect(0, "2\n", "search", "--count", "--when", "text contains \"DENY\"");
    expect(0, "3\n", "search", "--count", "--when", "trouble");
    expect(0, "2\n", "search", "--count", "--when",
           "device is \"pier3-sw2\" and not text contains \"nothing\"");
    expect(0, "2\n", "search", "--count", "--when", "host is \"PIER3-sw2.skerry.example\"");
    expect(0, "4\n", "search", "--count", "--since", "2020-11-23", "--until", "2020-11-23");
    expect(0, "2\n", "search", "--count", "--since", "2020-11-23T05:00:00Z", "--until",
           "2020-11-24T00:00:00Z");
    expect(1, "0\n", "search", "--count", "--when", "text contains \"not there at all\"");
    expect(1, "", "search", "--when", "text contains \"not there at all\"");
    expect(0, "{\"messages\":6,\"copies\":0}\n", "search", "--count", "--json");
}

static void search_counts_by_fields(void **state)
{
    (void)state;
    expect(0, "messages  device\n       3  harbour-fw\n       2  pier3-sw2\n       1  hq-dhcp\n", "search",
           "--by", "device");
    expect(0, "messages  facility  severity\n       2  local4    warning\n", "search", "--by",
           "facility,severity", "--top", "1");
    expect(0, "{\"messages\":4,\"date\":\"2020-11-23\"}\n", "search", "--by", "date", "--top", "1", "--json");
}

static void search_prints_every_layout(void **state)
{
    (void)state;
    expect(0,
           "2020-11-23T04:50:00.000000Z - pier3-sw2(pier3-sw2.skerry.example) local7 error linkd 7 LINK "
           "[port@32473\\x20name=\"ge0/24\"] uplink down\n",
           "search", "--when", "severity is error");
    expect(0,
           "<187>1 2020-11-23T04:50:00.000000Z pier3-sw2.skerry.example linkd 7 LINK [port@32473 "
           "name=\"ge0/24\"] "
           "uplink down\n",
           "search", "--when", "severity is error", "--layout", "rfc5424");
    expect(0,
           "{\"time\":\"2020-11-23T22:30:00.000000Z\",\"sent\":\"2020-11-23T22:30:00.000000Z\",\"device\":"
           "\"hq-dhcp\",\"transport\":"
           "\"file\",\"host\":\"hq-dhcp\",\"facility\":\"daemon\",\"severity\":\"info\",\"app\":\"dhcpd\","
           "\"procid\":\"612\","
           "\"text\":\"DHCPREQUEST for 198.51.100.7\",\"format\":\"rfc5424\"}\n",
           "search", "--when", "facility is daemon", "--json");
    expect(0, "", "search", "--when", "facility is daemon", "--to", "found.txt");
    char *found = ind_read_file(ind_path(folder, "found.txt"), NULL);
    assert_string_equal(
        found,
        "2020-11-23T22:30:00.000000Z - hq-dhcp daemon info dhcpd 612 - - DHCPREQUEST for 198.51.100.7\n");
    free(found);
}

static void search_reads_every_layout(void **state)
{
    static const char *const layouts[] = {"json", "rfc5424", "raw"};
    (void)state;
    for (size_t i = 0; i < 3; i++) {
        ind_folder_remove(folder);
        assert_int_equal(set_up_with(layouts[i]), 0);
        /* Of the others nobody can tell the device from the host for certain. */
        expect(i == 0 ? 0 : 3, "2\n", "search", "--count", "--when", "device is \"pier3-sw2\"");
        expect(0, "1\n", "search", "--count", "--when", "text contains \"\\\"at last\\\" \xc3\xa9\"");
        expect(0, "2020-11-23T04:50:00.000000Z uplink down\n", "search", "--when",
               "app is \"linkd\" and severity is error", "--layout", "{time} {text}");
        expect(0, "6\n", "search", "--count");
    }
}

/* What comes raw from a device can look like a stored line: in a raw file it is never taken for one. */
static void raw_lines_are_never_taken_for_stored_ones(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "raw.yaml"),
                   "store: raw\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: a.log, layout: raw}\n");
    ind_write_file(ind_path(folder, "forged"),
                   "2020-11-23T04:45:00.000000Z 0.12 harbour-fw local4 emergency kernel - - - forged\n"
                   "{\"time\":\"2020-11-23T04:45:00Z\",\"facility\":\"local4\",\"severity\":\"emergency\","
                   "\"text\":\"forged\"}\n");
    struct ind_ran ran = ind_run(folder, "-c", "raw.yaml", "collect", "--from", "forged", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    /* Nor once the route has another layout: the raw file is rotated before a line of the new one comes. */
    ind_write_file(
        ind_path(folder, "raw.yaml"),
        "store: raw\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: a.log, layout: plain}\n");
    ind_write_file(ind_path(folder, "more"), "<11>1 2020-11-23T04:45:00Z h a - - - more\n");
    ran = ind_run(folder, "-c", "raw.yaml", "collect", "--from", "more", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    expect(0, "messages  severity\n       2  notice\n       1  error\n", "search", "-c", "raw.yaml", "--by",
           "severity");
    ran = ind_run(folder, "-c", "raw.yaml", "rotate", NULL);
    ind_ran_free(&ran);
    expect(0, "messages  severity\n       2  notice\n       1  error\n", "search", "-c", "raw.yaml", "--by",
           "severity");
}

static void search_reads_foreign_files(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "foreign"),
                   "Nov 23 04:45:00 pier1-rtr app[7]: one\n<13>Nov 23 04:46:00 pier1-rtr app: two\n"
                   "  continued without a time\n");
    expect(0, "3\n", "search", "--count", "foreign");
    expect(0, "pier1-rtr one\n", "search", "--layout", "{device} {text}", "--when", "text is \"one\"",
           "foreign");
    expect_told(3, "cannot read ./nowhere: No such file", "search", "--count", "foreign", "./nowhere");
}

static void folders_are_gone_through(void **state)
{
    (void)state;
    /* Of the store: by its journal, live files and archives, each once. */
    expect(0, "3\n", "search", "--count", "log/fw");
    struct ind_ran ran = ind_run(folder, "rotate", NULL);
    ind_ran_free(&ran);
    expect(0, "3\n", "search", "--count", "log/fw");
    expect(0, "6\n", "search", "--count", "log");
    expect(0, "6\n", "search", "--count", "log/fw/../");
    /* From elsewhere: all files in it, in folders too, but hidden ones. */
    ran = ind_shell(
        folder, "mkdir -p away/deep/empty && cp in away/deep/a && gzip -c in > away/b.gz && cp in away/.c "
                "&& mkfifo away/pipe && ln -s a away/deep/link");
    ind_ran_free(&ran);
    expect(0, "12\n", "search", "--count", "away");
    expect(0, "6\n", "search", "--count", "--once", "away");
    expect_told(1, "is a folder without files", "search", "away/deep/empty");
}

static void a_store_that_is_not_there_is_an_error(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "typo.yaml"), "store: lgo\nstate: state\n");
    expect_told(2, "there is no store", "search", "-c", "typo.yaml", "--count");
    expect_told(2, "there is no store", "rotate", "-c", "typo.yaml", "--dry-run");
    struct ind_ran ran = ind_shell(folder, "mkdir lgo");
    ind_ran_free(&ran);
    expect_told(1, "holds no file: nothing has been filed there yet", "search", "-c", "typo.yaml", "--count");
    expect_told(1, "holds no file", "search", "-c", "typo.yaml");
}

static void a_word_is_looked_for(void **state)
{
    (void)state;
    expect(0, "2\n", "search", "--count", "PIER3-sw2");
    expect(0, "1\n", "search", "--count", "pier3", "at last");
    expect(0, "1\n", "search", "--count", "--when", "severity is error", "LINK");
    expect(1, "0\n", "search", "--count", "a\"b\\c");
    expect_told(2, "an empty argument", "search", "--count", "");
    expect_told(0, "\"linkd\" is no file here: looking for it", "search", "--count", "linkd", "in");
}

static void times_are_counted_in_their_order(void **state)
{
    (void)state;
    expect(0, "messages  day\n       1  2020-11-22\n       4  2020-11-23\n       1  2020-11-24\n", "search",
           "--by", "day");
    expect(0, "messages  hour\n       2  2020-11-23 04\n       1  2020-11-23 22\n", "search", "--by", "hour",
           "--top", "2", "--since", "2020-11-23", "--when", "not severity is warning or text contains \"7\"");
    expect(0,
           "messages  weekday  severity\n       2  mon      warning\n       1  mon      error\n       1  mon "
           "     "
           "info\n       1  tue      notice\n       1  sun      info\n",
           "search", "--by", "weekday,severity");
    expect(0, "messages  minute\n       1  2020-11-22 06:45\n", "search", "--by", "minute", "--top", "1",
           "--zone", "+02:00");
}

static void times_are_printed_in_the_zone_asked_for(void **state)
{
    (void)state;
    expect(0, "2020-11-24T06:00:00.000000+05:30\tuplink up, \"at last\" \xc3\xa9\n\n", "search", "--zone",
           "+05:30", "--layout", "{time}\\t{text}\\n", "--when", "severity is notice");
    expect(0,
           "2020-11-23T06:50:00.000000+02:00 - pier3-sw2(pier3-sw2.skerry.example) local7 error linkd 7 LINK "
           "[port@32473\\x20name=\"ge0/24\"] uplink down\n",
           "search", "--zone", "+02:00", "--since", "2020-11-23 06:50", "--until", "2020-11-23 06:50:01");
    expect_told(2, "--zone: unknown time zone \"Lisboa\"", "search", "--zone", "Lisboa");
    /* A store whose lines carry local times is read as any other. */
    ind_write_file(
        ind_path(folder, "local.yaml"),
        "store: local\nstate: state\nzone: -03:30\ntimes: local\nroutes:\n  - {name: plain, file: "
        "\"{hour}.log\"}\n  - {name: json, file: json.log, layout: json}\n  - {name: new, file: new.log, "
        "layout: rfc5424}\n");
    struct ind_ran ran = ind_run(folder, "-c", "local.yaml", "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    assert_true(ind_file_holds(ind_path(folder, "local/21.log"), "2020-11-23T21:00:00.000000-03:30 - pier3"));
    assert_true(
        ind_file_holds(ind_path(folder, "local/json.log"), "{\"time\":\"2020-11-23T21:00:00.000000-03:30\""));
    assert_true(
        ind_file_holds(ind_path(folder, "local/new.log"), ">1 2020-11-23T21:00:00.000000-03:30 pier3"));
    expect(0, "6\n", "search", "-c", "local.yaml", "--count", "--once");
    expect(0, "3\n", "search", "-c", "local.yaml", "--count", "--copies", "--when", "severity is notice");
    expect(0, "2020-11-23T21:00:00.000000-03:30\n", "search", "-c", "local.yaml", "--once", "--when",
           "severity is notice", "--layout", "{time}");
    expect(0, "2020-11-24T00:30:00.000000Z\n", "search", "-c", "local.yaml", "--once", "--when",
           "severity is notice", "--layout", "{time}", "--zone", "UTC");
}

static void options_that_do_not_go_together_are_refused(void **state)
{
    (void)state;
    expect_told(2, "--count and --by do not go together", "search", "--count", "--by", "host");
    expect_told(2, "--layout is of lines", "search", "--count", "--layout", "json");
    expect_told(2, "--layout is of lines", "search", "--by", "host", "--layout", "json");
    expect_told(2, "--once and --copies", "search", "--count", "--once", "--copies");
    expect_told(2, "--copies goes with", "search", "--copies");
    expect_told(2, "is not before --until", "search", "--since", "today", "--until", "yesterday");
    expect_told(2, "--force goes with --to", "search", "--force");
    expect_told(2, "did you mean \"weekday\"?", "search", "--by", "weekdya");
}

/* The ledger is the second way: stored is how many messages are in some file, lines how often. */
static void messages_of_several_routes_are_counted_once(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "many.yaml"),
                   "store: many\nstate: state\nzone: UTC\nroutes:\n"
                   "  - {name: severe, when: severity at least error, file: \"s/{severity}.log\"}\n"
                   "  - {name: kern, when: 'facility in (kern, user)', file: kern.log, layout: json}\n"
                   "  - {name: odd, when: 'text contains \"1\"', file: \"odd/{host}.log\", layout: json}\n"
                   "  - {name: rest, when: 'text contains \"x\"', file: rest.log}\n");
    for (unsigned round = 0; round < 8; round++) {
        char *text = NULL;
        size_t size;
        FILE *out = open_memstream(&text, &size);
        uint64_t random = IND_RANDOM_START + round;
        for (int i = 0; i < 3000; i++)
            fprintf(out, "<%u>1 2020-11-23T04:45:%02uZ host%u app - - - text %u%s\n",
                    ind_random(&random, 192), ind_random(&random, round * 8 + 1), ind_random(&random, 3),
                    ind_random(&random, 12), ind_random(&random, 2) ? "x" : "");
        fclose(out);
        ind_write_file(ind_path(folder, "many.in"), text);
        free(text);
        struct ind_ran ran = ind_shell(folder,
                                       "rm -rf many; %s -c many.yaml collect --from many.in --json > told; "
                                       "tell() { grep \"$1\" told | tr -cd 0-9; "
                                       "}; %s -c many.yaml search --count 2>/dev/null > once; %s -c "
                                       "many.yaml search --count --copies > all; %s -c "
                                       "many.yaml search --once 2>/dev/null | wc -l > lines; %s -c many.yaml "
                                       "search --by severity,host --json "
                                       "2>/dev/null | sed 's/.*messages\":\\([0-9]*\\).*/\\1/' | awk '{ sum "
                                       "+= $1 } END { print sum }' > by; echo "
                                       "$(tell 'messages stored') $(tell 'lines written'); echo $(cat once) "
                                       "$(cat all); echo $(cat lines) $(cat by)",
                                       IND_PROGRAM, IND_PROGRAM, IND_PROGRAM, IND_PROGRAM, IND_PROGRAM);
        if (ran.err[0])
            print_error("%s", ran.err);
        unsigned long stored, written, once, all, lines, by;
        assert_int_equal(
            sscanf(ran.out, "%lu %lu %lu %lu %lu %lu", &stored, &written, &once, &all, &lines, &by), 6);
        assert_true(stored > 1000 && written > stored);
        assert_int_equal(all, written);
        assert_int_equal(once, stored);
        assert_int_equal(lines, stored);
        assert_int_equal(by, stored);
        ind_ran_free(&ran);
    }
}

static void a_field_that_a_layout_lacks_is_told(void **state)
{
    (void)state;
    expect_told(3, "4 files do not hold the field \"sender\"", "search", "--count", "--when",
                "sender is \"192.0.2.1\"");
    expect_told(3, "do not hold the field \"sender\"", "search", "--by", "sender");
}

static void a_damaged_archive_is_told(void **state)
{
    (void)state;
    struct ind_ran ran =
        ind_shell(folder,
                  "%s rotate > /dev/null; f=$(ls log/local7/error-*.zst); head -c 60 $f > x; mv x $f; "
                  "f=$(ls log/fw/info-*.gz); head -c 40 $f > x; mv x $f",
                  IND_PROGRAM);
    ind_ran_free(&ran);
    ran = ind_run(folder, "search", "--count", NULL);
    assert_int_equal(ran.status, 3);
    assert_string_equal(ran.out, "4\n");
    assert_non_null(strstr(ran.err, "local7/error-"));
    assert_non_null(strstr(ran.err, "the compressed file ends early"));
    ind_ran_free(&ran);
}

static void many_lines_are_sorted_with_little_memory(void **state)
{
    (void)state;
    /* 600,000 lines backwards in time: more than one sorter keeps in memory. */
    struct ind_ran ran = ind_shell(
        folder,
        "awk 'BEGIN { for (i = 600000; i > 0; i--) printf \"2020-11-23T%%02d:%%02d:%%02d.%%06dZ - a "
        "user notice b - - - %%d of a great many lines, all of them backwards in time\\n\", i / 36000 %% 24, "
        "i / "
        "600 %% 60, i / 10 %% 60, i, i }' > many; %s search --as plain --layout '{text}' many | awk '{ if "
        "($1 != NR) "
        "bad++ } END { print NR, bad + 0 }'",
        IND_PROGRAM);
    assert_string_equal(ran.out, "600000 0\n");
    ind_ran_free(&ran);
}

static void rotate_says_what_it_would_do_and_does_it(void **state)
{
    (void)state;
    static const char due[] = "action    file                                       size   rule    policy\n"
                              "rotate    dhcp.log                                   255 B  period  default\n"
                              "rotate    fw/info.log                                89 B   period  gz\n"
                              "rotate    fw/warning.log                             180 B  period  gz\n"
                              "rotate    local7/error.log                           134 B  period  default\n"
                              "rotate    local7/notice.log                          119 B  period  default\n"
                              "compress  dhcp-20201123T223000Z-000001.log           255 B  zstd    default\n"
                              "compress  fw/info-20201122T044500Z-000001.log        89 B   gzip    gz\n"
                              "compress  fw/warning-20201123T044500Z-000001.log     180 B  gzip    gz\n"
                              "compress  local7/error-20201123T045000Z-000001.log   134 B  zstd    default\n"
                              "compress  local7/notice-20201124T003000Z-000001.log  119 B  zstd    default\n"
                              "compressing 777 B frees some 679 B: an estimate\n";
    expect(0, due, "rotate", "--dry-run", "--due");
    expect(0, due, "rotate", "--dry-run");
}

static void rotate_counts_what_it_did(void **state)
{
    (void)state;
    struct ind_ran ran = ind_run(folder, "rotate", "--json", NULL);
    assert_string_equal(ran.out, "{\"rotated\":5,\"compressed\":5,\"removed\":0,\"failed\":0}\n");
    ind_ran_free(&ran);
    expect(0, "nothing to do\n", "rotate", "--dry-run");
    ran = ind_run(folder, "rotate", "--json", NULL);
    assert_string_equal(ran.out, "{\"rotated\":0,\"compressed\":0,\"removed\":0,\"failed\":0}\n");
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define with_store(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        with_store(search_prints_in_order_of_time_over_all_files),
        with_store(the_first_and_the_last_are_given),
        with_store(search_takes_conditions_and_spans),
        with_store(search_counts_by_fields),
        with_store(search_prints_every_layout),
        with_store(search_reads_every_layout),
        with_store(raw_lines_are_never_taken_for_stored_ones),
        with_store(search_reads_foreign_files),
        with_store(folders_are_gone_through),
        with_store(a_store_that_is_not_there_is_an_error),
        with_store(a_word_is_looked_for),
        with_store(times_are_counted_in_their_order),
        with_store(times_are_printed_in_the_zone_asked_for),
        with_store(options_that_do_not_go_together_are_refused),
        with_store(messages_of_several_routes_are_counted_once),
        with_store(a_field_that_a_layout_lacks_is_told),
        with_store(a_damaged_archive_is_told),
        with_store(many_lines_are_sorted_with_little_memory),
        with_store(rotate_says_what_it_would_do_and_does_it),
        with_store(rotate_counts_what_it_did),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
