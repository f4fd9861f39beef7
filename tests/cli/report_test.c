/* A report against searches: the same numbers to the message, of whatever span, zone, step and condition,
 * with archives, live files, a catalog and without one; and what strangers name themselves is shown as what
 * it is. */
#define _GNU_SOURCE
#include "support/archives.h"
#include "support/random.h"

#include <sys/stat.h>

/* Monday 2026-10-05 to Sunday 2026-11-29. */
#define FIRST (INT64_C(1791158400))
enum { DAYS = 56, MESSAGES = 3000, DEVICES = 7 };

static const char *const names[DEVICES] = {"harbour-fw", "pier1-sw", "hq-mail", "=cmd",
                                           "pier2-rtr",  "<b>x</b>", "late-ap"};

#define CONFIG                                                                                               \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "devices: [{name: harbour-fw, labels: {site: harbour}}, {name: pier1-sw, labels: {site: pier}}, {name: " \
    "never-heard}]\n"                                                                                        \
    "routes:\n  - {name: severe, when: severity at least error, file: \"severe.log\", layout: json, last: "  \
    "yes}\n"                                                                                                 \
    "  - {name: all, file: \"{facility}.log\"}\n"                                                            \
    "archives: {default: {rotate: {messages: 400}, keep: {for: 9999 days}}}\n"

static void write_messages(uint64_t *random, size_t from, size_t to)
{
    char path[300];
    snprintf(path, sizeof path, "%s", ind_path(folder, "messages.log"));
    FILE *file = fopen(path, "w");
    assert_non_null(file);
    int64_t seconds = FIRST + (int64_t)(from * DAYS * 86400 / MESSAGES);
    for (size_t i = from; i < to; i++) {
        char time[40];
        seconds += ind_random(random, 2 * DAYS * 86400 / MESSAGES);
        const time_t at = (time_t)seconds;
        struct tm civil;
        gmtime_r(&at, &civil);
        strftime(time, sizeof time, "%Y-%m-%dT%H:%M:%S", &civil);
        const unsigned device = ind_random(random, i < MESSAGES * 3 / 4 ? DEVICES - 1 : DEVICES);
        fprintf(file, "%s.%06uZ - %s %s %s app - - - text %zu\n", time, ind_random(random, 1000000),
                names[device], ind_random(random, 2) ? "local4" : "daemon",
                ind_random(random, 9) == 0 ? "critical"
                : ind_random(random, 3)    ? "info"
                                           : "warning",
                i);
    }
    fclose(file);
}

static void file_messages(uint64_t *random, size_t from, size_t to)
{
    write_messages(random, from, to);
    run(IND_PROGRAM " collect --from messages.log --as plain >/dev/null");
}

static json_t *json_of(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    json_error_t error;
    if (ran.status > 1)
        fail_msg("%s: %s", command, ran.err);
    json_t *object = json_loads(ran.out, 0, &error);
    if (!object)
        fail_msg("%s: %s", command, ran.out);
    ind_ran_free(&ran);
    return object;
}

/* Of a search: objects on lines. */
static json_t *list_of(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    json_error_t error;
    json_t *list = json_array();
    if (ran.status > 1)
        fail_msg("%s: %s", command, ran.err);
    for (const char *at = ran.out; *at; at = strchr(at, '\n') + 1)
        json_array_append_new(list, json_loads(at, JSON_DISABLE_EOF_CHECK, &error));
    ind_ran_free(&ran);
    return list;
}

static json_t *rows_of(const json_t *report, const char *section)
{
    return json_object_get(json_object_get(json_object_get(report, "sections"), section), "rows");
}

static uint64_t sum_where(const json_t *list, const char *key, const char *value, const char *what)
{
    uint64_t sum = 0;
    size_t i;
    json_t *one;
    json_array_foreach(list, i, one)
    {
        const char *text = key ? json_string_value(json_object_get(one, key)) : NULL;
        if (!key || (text && strcmp(text, value) == 0))
            sum += (uint64_t)json_integer_value(json_object_get(one, what));
    }
    return sum;
}

static void compare_once(const char *options, const char *span)
{
    static const char *const severities[] = {"critical", "warning", "info"};
    char command[900];
    snprintf(command, sizeof command, IND_PROGRAM " report --json %s", options);
    json_t *report = json_of(command);
    const char *since = json_string_value(json_object_get(report, "since")),
               *until = json_string_value(json_object_get(report, "until"));
    snprintf(command, sizeof command,
             IND_PROGRAM " search --copies --json --by device,severity --since %s --until %s %s", since,
             until, span);
    json_t *found = list_of(command);
    const uint64_t all = sum_where(found, NULL, NULL, "messages");
    if ((uint64_t)json_integer_value(json_object_get(report, "messages")) != all)
        fail_msg("report %s: %lld, %s: %llu", options,
                 (long long)json_integer_value(json_object_get(report, "messages")), command,
                 (unsigned long long)all);
    assert_int_equal(sum_where(rows_of(report, "volume"), NULL, NULL, "messages"), all);
    for (size_t i = 0; i < 3; i++)
        assert_int_equal(sum_where(rows_of(report, "volume"), NULL, NULL, severities[i]),
                         sum_where(found, "severity", severities[i], "messages"));
    for (size_t i = 0; i < DEVICES; i++)
        assert_int_equal(sum_where(rows_of(report, "devices"), "device", names[i], "messages"),
                         sum_where(found, "device", names[i], "messages"));
    json_decref(report);
    json_decref(found);
}

/* Each step against a search of its own, as search puts steps. */
static void compare_steps(const char *options, const char *every, const char *span)
{
    char command[900];
    snprintf(command, sizeof command, IND_PROGRAM " report --json --every %s %s", every, options);
    json_t *report = json_of(command), *row;
    snprintf(command, sizeof command,
             IND_PROGRAM " search --copies --json --by severity --every %s --since %s --until %s %s", every,
             json_string_value(json_object_get(report, "since")),
             json_string_value(json_object_get(report, "until")), span);
    json_t *found = list_of(command);
    size_t i, shown = 0;
    json_array_foreach(rows_of(report, "volume"), i, row)
    {
        char from[40];
        const char *time = json_string_value(json_object_get(row, "from"));
        snprintf(from, sizeof from, "%.10s %.5s", time, time + 11);
        if (strcmp(every, "hour") != 0)
            from[strcmp(every, "month") == 0 ? 7 : 10] = '\0';
        const uint64_t messages = (uint64_t)json_integer_value(json_object_get(row, "messages"));
        shown += messages > 0;
        if (messages != sum_where(found, "from", from, "messages"))
            fail_msg("%s: %s has %llu", command, from, (unsigned long long)messages);
    }
    assert_true(shown > 0);
    json_decref(report);
    json_decref(found);
}

static void compare_all(void)
{
    static const struct {
        const char *report, *search;
    } zones[] = {{"", ""}, {"--zone +05:30", ""}, {"--zone Europe/Lisbon", ""}},
      conditions[] = {{"", ""},
                      {"--when 'severity at least warning'", "--when 'severity at least warning'"},
                      {"--when 'device is \"harbour-fw\" or label site is \"pier\"'",
                       "--when 'device is \"harbour-fw\" or label site is \"pier\"'"},
                      {"--when 'text contains \"7\"'", "--when 'text contains \"7\"'"}};
    static const char *const spans[] = {"--for 2026-11-17", "--for 2026-W47", "--for 2026-10", "--for 2026",
                                        "--since 2026-11-03T04:17 --until 2026-11-11T19:45"};
    char options[400];
    for (size_t c = 0; c < 4; c++)
        for (size_t s = 0; s < 5; s++) {
            const size_t z = (c + s) % 3;
            snprintf(options, sizeof options, "%s %s %s", spans[s], zones[z].report, conditions[c].report);
            compare_once(options, conditions[c].search);
        }
    compare_steps("--for 2026-10-17", "hour", "");
    compare_steps("--for 2026-10 --when 'severity is info'", "day", "--when 'severity is info'");
    compare_steps("--for 2026", "month", "");
}

static void numbers_are_those_of_a_search(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    file_messages(&random, 0, MESSAGES / 2);
    compare_all(); /* no catalog */
    run(IND_PROGRAM " rotate >/dev/null");
    expect("rebuild", 0, "the catalog is made anew");
    file_messages(&random, MESSAGES / 2, MESSAGES); /* newer than the catalog, and live files */
    compare_all();
    run(IND_PROGRAM " rotate >/dev/null");
    expect("rebuild", 0, "the catalog is made anew");
    compare_all();
    json_t *report = json_of(IND_PROGRAM " report --json --for 2026");
    assert_int_equal(json_integer_value(json_object_get(report, "read_files")), 0);
    assert_true(json_integer_value(json_object_get(report, "archives_counted")) > 5);
    json_decref(report);
    run("rm state/catalog.sqlite");
    compare_once("--for 2026-10", "");
}

static const json_t *row_of(const json_t *report, const char *section, const char *device)
{
    size_t i;
    const json_t *row;
    json_array_foreach(rows_of(report, section), i, row)
    {
        if (strcmp(json_string_value(json_object_get(row, "device")), device) == 0)
            return row;
    }
    return NULL;
}

static const char *change_of(const json_t *report, const char *section, const char *device)
{
    const json_t *row = row_of(report, section, device);
    return row ? json_string_value(json_object_get(row, "change")) : "none";
}

/* `count` messages of a device at noon of a day of November. */
static void add_day(FILE *file, const char *device, int day, unsigned count)
{
    for (unsigned i = 0; i < count; i++)
        fprintf(file, "2026-11-%02dT12:%02u:%02u.000000Z - %s local4 info app - - - text\n", day, i / 60 % 60,
                i % 60, device);
}

static void it_says_who_changed_is_silent_or_new(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    char path[300];
    snprintf(path, sizeof path, "%s", ind_path(folder, "messages.log"));
    FILE *file = fopen(path, "w");
    assert_non_null(file);
    for (int day = 2; day <= 23; day += 7) { /* Mondays */
        add_day(file, "steady", day, 100);
        add_day(file, "loud", day, day == 23 ? 900 : 100 + (unsigned)day);
        add_day(file, "weak", day, day == 23 ? 10 : 100);
        add_day(file, "gone", day, day == 23 ? 0 : 50);
        add_day(file, "again", day, day == 2 ? 5 : day == 23 ? 30 : 0);
        add_day(file, "fresh", day, day == 23 ? 1 : 0);
    }
    fclose(file);
    run(IND_PROGRAM " collect --from messages.log --as plain >/dev/null");
    for (int catalog = 0; catalog < 2; catalog++) {
        json_t *report = json_of(IND_PROGRAM " report --json --for 2026-11-23");
        assert_string_equal(json_string_value(json_object_get(report, "usual_by")), "weekdays");
        assert_string_equal(change_of(report, "changes", "loud"), "more");
        assert_string_equal(change_of(report, "changes", "weak"), "less");
        assert_string_equal(change_of(report, "changes", "steady"), "none");
        assert_string_equal(change_of(report, "silent", "gone"), "silent");
        assert_string_equal(change_of(report, "silent", "never-heard"), "silent");
        assert_string_equal(change_of(report, "silent", "fresh"), "first heard");
        assert_string_equal(change_of(report, "silent", "again"), "heard again");
        const json_t *gone = row_of(report, "silent", "gone");
        assert_int_equal(json_integer_value(json_object_get(gone, "usual")), 50);
        json_decref(report);
        run(IND_PROGRAM " rotate >/dev/null");
        expect("rebuild", 0, "the catalog is made anew");
    }
}

static void expect_note(const char *part)
{
    json_t *report = json_of(IND_PROGRAM " report --json --for 2026"), *note;
    bool found = false;
    size_t i;
    json_array_foreach(json_object_get(report, "notes"), i, note)
    {
        found |= strstr(json_string_value(note), part) != NULL;
    }
    assert_true(found);
    assert_int_equal(json_integer_value(json_object_get(report, "messages")), MESSAGES);
    json_decref(report);
}

static void a_catalog_that_does_not_serve_is_told_and_all_is_read(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    file_messages(&random, 0, MESSAGES);
    run(IND_PROGRAM " rotate >/dev/null");
    expect("rebuild", 0, "the catalog is made anew");
    run("cp state/catalog.sqlite good.sqlite; rm -f state/catalog.sqlite-*");
    /* Half of it, bytes in its middle that are none, something else, nothing, and a link. */
    run("head -c 8000 good.sqlite >state/catalog.sqlite");
    expect_note("There is no catalog that can be read");
    run("cp good.sqlite state/catalog.sqlite; printf 'XXXXXXXXXXXXXXXXXXXXXXXXXXXXX' | dd "
        "of=state/catalog.sqlite bs=1 "
        "seek=9000 conv=notrunc 2>/dev/null");
    compare_once("--for 2026-10", "");
    run("printf 'no database at all, and long enough to be looked at' >state/catalog.sqlite");
    expect_note("There is no catalog that can be read");
    run("rm state/catalog.sqlite; ln -s /dev/zero state/catalog.sqlite");
    expect_note("There is no catalog that can be read");
    run("rm state/catalog.sqlite");
    compare_once("--for 2026-10", "");
}

#define TEXTS                                                                                                \
    "store: log\nstate: state\nzone: UTC\n"                                                                  \
    "patterns:\n  - name: login-failed\n    text: ['Failed {:word} for {user:word} from {peer:ip}']\n"       \
    "  - name: link-state\n    text: ['Interface {interface:interface} link {state:word}']\n"                \
    "routes: [{name: all, file: all.log, layout: json}]\n"

static void add_text(FILE *file, int day, const char *text, unsigned count)
{
    for (unsigned i = 0; i < count; i++)
        fprintf(file, "<38>1 2026-11-%02dT12:%02u:00Z sw1 app - - - %s %u\n", day, i % 60, text, i);
}

static const json_t *row_with(const json_t *report, const char *section, const char *key, const char *value)
{
    size_t i;
    const json_t *row;
    json_array_foreach(rows_of(report, section), i, row)
    {
        if (strcmp(json_string_value(json_object_get(row, key)), value) == 0)
            return row;
    }
    fail_msg("no %s in %s", value, section);
    return NULL;
}

static void file_day(int day, bool last)
{
    char command[200];
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    add_text(file, day, "fan at speed", 10);
    add_text(file, day, "lease for 192.0.2.7 number", last ? 90 : 30);
    if (last) {
        add_text(file, day, "%FAN-2-DEAD: fan", 3);
        for (int i = 0; i < 30; i++)
            fprintf(file,
                    "<38>1 2026-11-%02dT12:00:00Z sw1 sshd - - - Failed password for tern from 203.0.113.7\n",
                    day);
        for (int i = 0; i < 8; i++)
            fprintf(file, "<38>1 2026-11-%02dT12:00:00Z sw1 linkd - - - Interface ge0/3 link %s\n", day,
                    i % 2 ? "up" : "down");
        fprintf(file, "<38>1 2026-11-%02dT04:00:00Z late app - - - fan at speed 1\n", day);
    }
    fclose(file);
    snprintf(command, sizeof command,
             IND_PROGRAM " collect --from messages.log --received 2026-11-%02dT12:30:00Z >/dev/null", day);
    run(command);
}

static void texts_tell_of_events_logins_interfaces_and_clocks(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), TEXTS);
    file_day(22, false);
    file_day(23, true);
    json_t *report = json_of(IND_PROGRAM " report --json --for 2026-11-23");
    const json_t *lease = row_with(report, "events", "event", "lease for # number #");
    assert_string_equal(json_string_value(json_object_get(lease, "change")), "more");
    assert_int_equal(json_integer_value(json_object_get(lease, "before")), 30);
    assert_string_equal(
        json_string_value(json_object_get(row_with(report, "events", "event", "%FAN-2-DEAD"), "change")),
        "new");
    assert_string_equal(
        json_string_value(json_object_get(row_with(report, "events", "event", "login-failed"), "change")),
        "new");
    assert_int_equal(json_array_size(rows_of(report, "events")), 4); /* with link-state */
    assert_int_equal(
        json_integer_value(json_object_get(row_with(report, "logins", "peer", "203.0.113.7"), "messages")),
        30);
    assert_int_equal(
        json_integer_value(json_object_get(row_with(report, "interfaces", "interface", "ge0/3"), "messages")),
        8);
    assert_int_equal(
        json_integer_value(json_object_get(row_with(report, "clocks", "device", "late"), "messages")), 1);
    assert_null(rows_of(report, "ports")); /* no pattern tells of them */
    json_decref(report);
    report = json_of(IND_PROGRAM " report --json --quick --for 2026-11-23");
    assert_null(rows_of(report, "events"));
    json_decref(report);
}

static void what_was_removed_is_known_from_the_catalog(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    file_messages(&random, 0, MESSAGES);
    run(IND_PROGRAM " rotate >/dev/null");
    expect("rebuild", 0, "the catalog is made anew");
    json_t *before = json_of(IND_PROGRAM " report --json --for 2026-10");
    run("sed -i 's/for: 9999 days/number: 1/' indagator.yaml");
    run(IND_PROGRAM " rotate >/dev/null"); /* removes all but one of each series */
    run(IND_PROGRAM " rotate >/dev/null");
    json_t *after = json_of(IND_PROGRAM " report --json --for 2026-10"),
           *found = list_of(IND_PROGRAM
                            " search --copies --json --by severity --since 2026-10-01 --until 2026-10-31");
    const int64_t messages = json_integer_value(json_object_get(before, "messages"));
    assert_int_equal(json_integer_value(json_object_get(after, "messages")), messages);
    assert_int_equal(json_integer_value(json_object_get(after, "removed")),
                     messages - (int64_t)sum_where(found, NULL, NULL, "messages"));
    assert_true(json_integer_value(json_object_get(after, "removed")) > 500);
    assert_true(json_equal(rows_of(before, "devices"), rows_of(after, "devices")));
    assert_true(json_equal(rows_of(before, "volume"), rows_of(after, "volume")));
    json_decref(before);
    json_decref(after);
    json_decref(found);
}

static void a_table_each_and_no_formula_in_any(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    ind_write_file(ind_path(folder, "messages.log"),
                   "2026-11-23T12:00:00.000000Z - =1+1 local4 error app - - - text\n"
                   "2026-11-23T12:00:01.000000Z - @sum local4 error app - - - text\n"
                   "2026-11-23T12:00:02.000000Z - a,\"b\" local4 info app - - - text\n");
    run(IND_PROGRAM " collect --from messages.log --as plain >/dev/null");
    run(IND_PROGRAM " report --for 2026-11-23 --csv tables");
    struct ind_ran ran = ind_shell(folder, "cat tables/devices.csv");
    assert_string_equal(
        ran.out,
        "device,severe,warning,messages,usual\n'=1+1,1,0,1,\n'@sum,1,0,1,\n\"a,\"\"b\"\"\",0,0,1,\n");
    ind_ran_free(&ran);
    ran = ind_shell(folder, "ls tables | tr '\\n' ' '");
    assert_string_equal(
        ran.out,
        "archives.csv changes.csv clocks.csv devices.csv events.csv ledger.csv silent.csv volume.csv ");
    ind_ran_free(&ran);
}

static void what_is_no_span_is_told(void **state)
{
    static const struct {
        const char *options, *part;
    } calls[] = {{"--for never", "is no span"},
                 {"--for 2026-13", "is no span"},
                 {"--for 2026-W54", "is no span"},
                 {"--for 22:00", "is no span"},
                 {"--for 2026 --since today", "leave out --since"},
                 {"--until today", "needs --since"},
                 {"--since today --until yesterday", "before --since"},
                 {"--for 2026 --every '7 min'", "no step of time"},
                 {"--for 2026 --every '1 s'", "more than"},
                 {"--when 'severity is'", "--when"},
                 {"--zone nowhere", "unknown time zone"},
                 {"2026", "--for 2026"}};
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    run("mkdir log");
    for (size_t i = 0; i < sizeof calls / sizeof *calls; i++) {
        struct ind_ran ran = ind_shell(folder, "%s report %s 2>&1", IND_PROGRAM, calls[i].options);
        if (ran.status != 2 || !strstr(ran.out, calls[i].part))
            fail_msg("%s: %d %s", calls[i].options, ran.status, ran.out);
        ind_ran_free(&ran);
    }
    struct ind_ran ran = ind_shell(folder, "%s report", IND_PROGRAM);
    assert_int_equal(ran.status, 1); /* there was nothing */
    assert_non_null(strstr(ran.out, "Nothing was filed"));
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(numbers_are_those_of_a_search, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_says_who_changed_is_silent_or_new, set_up, tear_down),
        cmocka_unit_test_setup_teardown(texts_tell_of_events_logins_interfaces_and_clocks, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_catalog_that_does_not_serve_is_told_and_all_is_read, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(what_was_removed_is_known_from_the_catalog, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_table_each_and_no_formula_in_any, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_no_span_is_told, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
