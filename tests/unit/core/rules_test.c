/* Conditions, templates, devices, routes, lines. */
#include "support/support.h"

#include "core/condition.h"
#include "core/device.h"
#include "core/header.h"
#include "core/line.h"
#include "core/route.h"

static struct ind_conditions *set;
static struct ind_zone *utc;
static struct ind_answers answers;

static ind_condition read(const char *text)
{
    ind_condition condition;
    struct ind_mistake mistake = {0};
    if (!ind_condition_read(set, ind_slice_of(text), NULL, &condition, &mistake))
        print_error("%s: %s\n", text, mistake.text);
    assert_false(mistake.made);
    return condition;
}

static bool holds(const char *text, const struct ind_message *message)
{
    ind_condition condition = read(text);
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    return ind_condition_holds(set, condition, message, &answers);
}

static struct ind_message example(void)
{
    struct ind_message message = {.facility = 20, .severity = 4, .time = INT64_C(1795409100) * IND_SECOND};
    message.received = message.sent = message.time;
    message.host = IND_SLICE("Pier1-RTR.skerry.example");
    message.device = IND_SLICE("pier1-rtr");
    message.sender = IND_SLICE("192.0.2.9");
    message.app = IND_SLICE("ospf");
    message.text = IND_SLICE("neighbour 192.0.2.131 is down");
    return message;
}

static void conditions_answer_every_operator(void **state)
{
    static const struct {
        const char *condition;
        bool holds;
    } cases[] = {
        {"facility is local4", true},
        {"facility is 20", true},
        {"facility is not local4", false},
        {"facility in (kern, local4)", true},
        {"facility not in (kern, local4)", false},
        {"severity at least warning", true},
        {"severity at least error", false},
        {"severity at most error", true}, /* error and all less severe; a warning is */
        {"severity at most warning", true},
        {"severity at most notice", false},
        {"severity is warn", true},
        {"host is \"pier1-rtr\"", true},
        {"host is 'PIER1-RTR.skerry.example'", true},
        {"host starts with \"pier\"", true},
        {"device in (\"a\", \"pier1-rtr\")", true},
        {"app is \"ospf\"", true},
        {"app is \"OSPF\"", false},
        {"text contains \"is down\"", true},
        {"text contains \"is up\"", false},
        {"text starts with \"neighbour\"", true},
        {"sender within 192.0.2.0/24", true},
        {"sender within (198.51.100.0/24, \"192.0.2.8/30\")", true},
        {"sender within 2001:db8::/32", false},
        {"host within 192.0.2.0/24", false},
        {"facility is kern or severity is warning and app is \"ospf\"", true},
        {"(facility is kern or severity is warning) and app is \"x\"", false},
        {"not facility is kern and not (app is \"x\" or app is \"y\")", true},
        {"not not facility is local4", true},
    };
    struct ind_message message = example();
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        if (holds(cases[i].condition, &message) != cases[i].holds)
            print_error("%s\n", cases[i].condition);
        assert_int_equal(holds(cases[i].condition, &message), cases[i].holds);
    }
}

static void tests_of_absent_fields_are_false_but_the_negated_ones(void **state)
{
    struct ind_message message = {0};
    (void)state;
    assert_false(holds("host is \"a\"", &message));
    assert_false(holds("host contains \"a\"", &message));
    assert_false(holds("sender within 0.0.0.0/0", &message));
    assert_true(holds("host is not \"a\"", &message));
    assert_true(holds("host not in (\"a\", \"b\")", &message));
    assert_true(holds("not text starts with \"a\"", &message));
}

static void equal_tests_are_kept_once(void **state)
{
    (void)state;
    (void)read("app is \"unique-one\" and text contains \"unique-two\"");
    size_t before = ind_conditions_tests(set);
    (void)read("text contains \"unique-two\" or not app is \"unique-one\"");
    assert_int_equal(ind_conditions_tests(set), before);
}

/* Facility and severity alone decide as much as they can; the rest stays open. */
static void pri_decides_what_it_can(void **state)
{
    (void)state;
    ind_condition condition = read("facility is local4 and (severity at least warning or app is \"x\")");
    assert_int_equal(ind_condition_by_pri(set, condition, 20, 4), IND_YES);
    assert_int_equal(ind_condition_by_pri(set, condition, 20, 5), IND_OPEN);
    assert_int_equal(ind_condition_by_pri(set, condition, 19, 0), IND_NO);
}

static void check_literals(const char *text, size_t count, const char *first, const char *second)
{
    struct ind_slice found[8];
    assert_int_equal(ind_condition_literals(set, read(text), found, 8), count);
    if (count > 0)
        assert_slice(found[0], first);
    if (count > 1)
        assert_slice(found[1], second);
}

static void conditions_know_literals_of_which_all_answers_hold_one(void **state)
{
    (void)state;
    check_literals("severity is error and text contains \"needle\" and app is \"a\"", 1, "needle", NULL);
    check_literals("text contains \"needle\" or app is \"a\"", 2, "needle", "a");
    check_literals("text contains \"needle\" or severity is error", 0, NULL, NULL);
    check_literals("not text contains \"needle\"", 0, NULL, NULL);
    check_literals("text contains \"needle\" ignoring case", 0, NULL, NULL);
    check_literals("text contains \"a\" and (text contains \"bcd\")", 1, "bcd", NULL);
    check_literals("app in (\"xyz\", \"abc\") and (text contains \"bcd\" or text is \"d\" or app is \"q\")",
                   2, "xyz", "abc");
}

static void deep_nesting_is_a_mistake_not_a_crash(void **state)
{
    char text[4096];
    ind_condition condition;
    struct ind_mistake mistake = {0};
    (void)state;
    memset(text, '(', sizeof text);
    assert_false(ind_condition_read(set, (struct ind_slice){text, sizeof text}, NULL, &condition, &mistake));
    assert_true(mistake.made);
    mistake.made = false;
    for (size_t i = 0; i + 4 <= sizeof text; i += 4)
        memcpy(text + i, "not ", 4);
    assert_false(ind_condition_read(set, (struct ind_slice){text, sizeof text}, NULL, &condition, &mistake));
}

static struct ind_slice path_for(const char *source, const struct ind_message *message, bool series)
{
    static char room[IND_PATH];
    struct ind_template template;
    struct ind_mistake mistake = {0};
    struct ind_path_clock clock = {.zone = utc};
    struct ind_buffer buffer = ind_buffer_on(room, sizeof room);
    assert_true(ind_template_read(ind_slice_of(source), IND_TEMPLATE_PATH, &template, &mistake));
    ind_template_path(&template, message, &clock, series, &buffer);
    assert_false(buffer.full);
    return ind_buffer_view(&buffer);
}

static void paths_are_made_from_messages(void **state)
{
    struct ind_message message = example();
    (void)state;
    assert_slice(path_for("{facility}/{severity}.log", &message, false), "local4/warning.log");
    assert_slice(path_for("{device}/{year}/{month}-{day}/{hour}.log", &message, false),
                 "pier1-rtr/2026/11-23/04.log");
    assert_slice(path_for("fw/{date}.log", &message, false), "fw/2026-11-23.log");
    assert_slice(path_for("fw/{date}.log", &message, true), "fw/.log");
    assert_slice(path_for("{label site}/{listener}.log", &message, false), "unknown/unknown.log");
    assert_slice(path_for("a{{b}}.log", &message, false), "a{b}.log");
}

/* What arrives is hostile: no host leaves the store or passes for an archive. */
static void paths_survive_hostile_hosts(void **state)
{
    struct ind_message message = example();
    static const struct {
        const char *host, *path;
    } cases[] = {
        {"../../etc/x", "_._.._etc_x.log"},
        {"..", "_..log"},
        {".hidden", "_hidden.log"},
        {"a/b", "a_b.log"},
        {"a\nb\x1b", "a_b_.log"},
        {"caf\xc3\xa9", "caf__.log"},
        {"w-20261123T044500Z-000007", "w-20261123T044500Z_000007.log"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        message.host = ind_slice_of(cases[i].host);
        assert_slice(path_for("{host}.log", &message, false), cases[i].path);
    }
    char longest[300];
    memset(longest, 'x', sizeof longest);
    message.host = (struct ind_slice){longest, sizeof longest};
    assert_int_equal(path_for("{host}.log", &message, false).length, IND_PATH_PART + 4);
    message.host = message.device = IND_NOTHING;
    assert_slice(path_for("{host}.log", &message, false), "unknown.log");
    message.host = IND_SLICE("x");
    message.app = IND_SLICE("20261123T044500Z-000007");
    assert_slice(path_for("{host}-{app}.log", &message, false), "x-20261123T044500Z_000007.log");
}

static void devices_are_found_by_longest_prefix_and_by_name(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *net = ind_devices_add(devices, IND_SLICE("net"));
    struct ind_device *one = ind_devices_add(devices, IND_SLICE("one"));
    struct ind_network network;
    struct ind_address address;
    (void)state;
    (void)ind_network_read(IND_SLICE("192.0.2.0/24"), &network);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, net), net);
    (void)ind_network_read(IND_SLICE("192.0.2.9"), &network);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, one), one);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, net), one);
    assert_ptr_equal(ind_devices_tie_name(devices, IND_SLICE("Harbour-FW"), one), one);
    (void)ind_address_read(IND_SLICE("192.0.2.9"), &address);
    assert_ptr_equal(ind_devices_by_address(devices, &address), one);
    (void)ind_address_read(IND_SLICE("192.0.2.10"), &address);
    assert_ptr_equal(ind_devices_by_address(devices, &address), net);
    (void)ind_address_read(IND_SLICE("192.0.3.10"), &address);
    assert_null(ind_devices_by_address(devices, &address));
    assert_ptr_equal(ind_devices_by_name(devices, IND_SLICE("harbour-fw.SKERRY.example.")), one);
    assert_null(ind_devices_by_name(devices, IND_SLICE("harbour-fw.example")));
    ind_devices_free(devices);
}

static void only_relays_speak_for_others(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *relay = ind_devices_add(devices, IND_SLICE("hq-relay"));
    struct ind_device *fw = ind_devices_add(devices, IND_SLICE("harbour-fw"));
    char scratch[IND_DEVICE_SCRATCH];
    (void)state;
    relay->relay = true;
    (void)ind_devices_tie_name(devices, IND_SLICE("hfw"), fw);
    struct ind_message message = {.host = IND_SLICE("HFW.skerry.example"),
                                  .sender = IND_SLICE("192.0.2.200")};
    ind_device_resolve(devices, relay, &message, scratch);
    assert_ptr_equal(message.configured, fw);
    assert_slice(message.device, "harbour-fw");
    ind_device_resolve(devices, fw, &message, scratch);
    message.host = IND_SLICE("somebody-else");
    ind_device_resolve(devices, fw, &message, scratch);
    assert_slice(message.device, "harbour-fw");
    message.host = IND_SLICE("HFW.skerry.example");
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_null(message.configured);
    assert_slice(message.device, "192.0.2.200");
    assert_ptr_equal(message.claimed, fw);
    static const char *const names[][2] = {{"pier1-rtR", "pier1-rtr"},
                                           {"A", "a"},
                                           {"Pier-three-switch-two", "pier-three-switch-two"},
                                           {"@[`{\xc1\xda-@[`{", "@[`{\xc1\xda-@[`{"},
                                           {"ZZZZZZZZAAAA", "zzzzzzzzaaaa"}};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        message.host = ind_slice_of(names[i][0]);
        ind_device_resolve(devices, NULL, &message, scratch);
        assert_slice(message.device, names[i][1]);
    }
    message.host = IND_NOTHING;
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_slice(message.device, "192.0.2.200");
    ind_devices_free(devices);
}

/* A megabyte of tests is read, and each of them can decide. */
static void a_condition_may_be_very_long(void **state)
{
    enum { SIZE = 1 << 20, TESTS = 30000 };
    char *text = malloc(SIZE), wanted[32];
    size_t length = 0;
    (void)state;
    assert_non_null(text);
    for (unsigned i = 0; i < TESTS; i++)
        length += (size_t)snprintf(text + length, SIZE - length, "%stext contains \"reason %05u\"",
                                   i ? " or " : "", i);
    ind_condition condition = read(text);
    struct ind_message message = example();
    for (int compiled = 0; compiled < 2; compiled++) {
        if (compiled)
            assert_true(ind_conditions_compile(set));
        ind_answers_free(&answers);
        assert_true(ind_answers_begin(&answers, set));
        for (unsigned i = 0; i < TESTS; i += 2999) {
            snprintf(wanted, sizeof wanted, "the reason %05u.", i);
            message.text = ind_slice_of(wanted);
            ind_answers_next(&answers);
            assert_true(ind_condition_holds(set, condition, &message, &answers));
        }
        message.text = IND_SLICE("no reason 0000");
        ind_answers_next(&answers);
        assert_false(ind_condition_holds(set, condition, &message, &answers));
    }
    free(text);
}

/* Each name is used twice by the next: going through them wherever they are used would never end. */
static enum ind_resolved doubled(void *context, size_t index, ind_condition *condition)
{
    *condition = ((const ind_condition *)context)[index];
    return IND_RESOLVED;
}

static void names_that_use_names_are_asked_once(void **state)
{
    enum { NAMES = 50 };
    static char texts[NAMES][8];
    const char *names[NAMES];
    ind_condition conditions[NAMES];
    struct ind_mistake mistake = {0};
    struct ind_message message = example();
    struct ind_reason reasons[8];
    struct ind_slice literals[8];
    char text[64];
    (void)state;
    conditions[0] = read("text contains \"nowhere\"");
    for (size_t i = 0; i < NAMES; i++) {
        const struct ind_named named = {names, i, doubled, conditions};
        snprintf(texts[i], sizeof texts[i], "n%zu", i);
        names[i] = texts[i];
        if (i == 0)
            continue;
        snprintf(text, sizeof text, "n%zu or not n%zu and n%zu", i - 1, i - 1, i - 1);
        assert_true(ind_condition_read(set, ind_slice_of(text), &named, &conditions[i], &mistake));
    }
    ind_condition last = conditions[NAMES - 1];
    struct ind_route route = {.when = last};
    uint32_t taken[1];
    assert_true(ind_conditions_compile(set));
    struct ind_router *router = ind_router_new(set, &route, 1);
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set) && ind_router_prepare(router, &answers));
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 0);
    assert_int_equal(ind_condition_why(set, last, &message, &answers, reasons, 8), 8);
    (void)ind_condition_literals(set, last, literals, 8);
    (void)ind_condition_doubt(set, last, true, &mistake);
    ind_router_free(router);
}

/* What is asked for and what is there may hold any byte. */
static void any_byte_may_be_asked_for(void **state)
{
    char text[700] = "text contains \"", bytes[256];
    size_t length = strlen(text);
    ind_condition condition;
    struct ind_mistake mistake = {0};
    struct ind_message message = example();
    (void)state;
    for (unsigned i = 0; i < 256; i++) {
        bytes[i] = (char)i;
        if (i == '"' || i == '\\')
            text[length++] = '\\';
        text[length++] = (char)i;
    }
    text[length++] = '"';
    assert_true(ind_condition_read(set, (struct ind_slice){text, length}, NULL, &condition, &mistake));
    message.text = (struct ind_slice){bytes, 256};
    ind_answers_free(&answers);
    assert_true(ind_conditions_compile(set) && ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    assert_true(ind_condition_holds(set, condition, &message, &answers));
    message.text.length = 255;
    ind_answers_next(&answers);
    assert_false(ind_condition_holds(set, condition, &message, &answers));
}

static void routes_stop_at_last(void **state)
{
    struct ind_route routes[3] = {{.when = read("severity at least error"), .last = true},
                                  {.when = read("text contains \"down\"")},
                                  {.when = IND_CONDITION_ALWAYS}};
    struct ind_router *router = ind_router_new(set, routes, 3);
    struct ind_message message = example();
    uint32_t taken[3];
    size_t above;
    (void)state;
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set));
    assert_true(ind_router_prepare(router, &answers));
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 2);
    assert_int_equal(taken[0], 1);
    assert_int_equal(taken[1], 2);
    message.severity = 3;
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 1);
    assert_int_equal(taken[0], 0);
    assert_false(ind_router_unreachable(router, 1, &above));
    ind_router_free(router);
    routes[0].when = IND_CONDITION_ALWAYS;
    router = ind_router_new(set, routes, 3);
    assert_true(ind_router_unreachable(router, 2, &above));
    assert_int_equal(above, 0);
    ind_router_free(router);
}

static struct ind_slice written(enum ind_layout layout, const struct ind_message *message)
{
    static char room[1 << 20];
    struct ind_buffer buffer = ind_buffer_on(room, sizeof room);
    static struct ind_line_clock clock;
    assert_false(ind_line_write(layout, message, &clock, &buffer));
    assert_false(buffer.full);
    return ind_buffer_view(&buffer);
}

static void lines_are_written_in_every_layout(void **state)
{
    struct ind_message message = example();
    (void)state;
    message.sent -= IND_SECOND * 12 / 100;
    message.procid = IND_SLICE("a b");
    message.data = IND_SLICE("[x@1 a=\"1\" b=\"q\\\"\" a=\"2\"]");
    message.text = IND_SLICE("one\ntwo \"q\"");
    message.original = IND_SLICE("<164>one\ntwo \"q\"");
    message.form = IND_FORM_RFC3164;
    assert_slice(
        written(IND_LAYOUT_PLAIN, &message),
        "2026-11-23T04:45:00.000000Z 0.12 pier1-rtr(Pier1-RTR.skerry.example) local4 warning ospf a\\x20b - "
        "[x@1\\x20a=\"1\"\\x20b=\"q\\\"\"\\x20a=\"2\"] one\\ntwo \"q\"\n");
    assert_slice(written(IND_LAYOUT_JSON, &message),
                 "{\"time\":\"2026-11-23T04:45:00.000000Z\",\"sent\":\"2026-11-23T04:44:59.880000Z\","
                 "\"received\":\"2026-11-23T04:"
                 "45:00.000000Z\",\"device\":\"pier1-rtr\",\"sender\":\"192.0.2.9\",\"transport\":\"file\","
                 "\"host\":\"Pier1-RTR."
                 "skerry.example\",\"facility\":\"local4\",\"severity\":\"warning\",\"app\":\"ospf\","
                 "\"procid\":\"a b\",\"data\":{"
                 "\"x@1\":{\"a\":[\"1\",\"2\"],\"b\":\"q\\\"\"}},\"text\":\"one\\ntwo "
                 "\\\"q\\\"\",\"format\":\"rfc3164\"}\n");
    assert_slice(written(IND_LAYOUT_RFC5424, &message),
                 "<164>1 2026-11-23T04:45:00.000000Z Pier1-RTR.skerry.example ospf a\\x20b - [x@1 a=\"1\" "
                 "b=\"q\\\"\" a=\"2\"] "
                 "one\\ntwo \"q\"\n");
    assert_slice(written(IND_LAYOUT_RAW, &message), "<164>one\\ntwo \"q\"\n");
    message.host = IND_SLICE("other/name");
    message.device = IND_SLICE("a b");
    message.app = message.procid = message.data = message.text = IND_NOTHING;
    message.received = IND_TIME_NONE;
    assert_slice(written(IND_LAYOUT_PLAIN, &message),
                 "2026-11-23T04:45:00.000000Z - a\\x20b(other/name) local4 warning - - - - -\n");
}

static bool read_plain(const char *text, struct ind_message *back)
{
    static char room[256];
    return ind_line_read_plain(ind_slice_of(text), room, back);
}

static void plain_lines_read_back(void **state)
{
    struct ind_message back;
    (void)state;
    assert_false(read_plain("2026-11-23T04:45:00.000000Z 0.12 a local9 warning - - - - x", &back));
    assert_false(read_plain("2026-11-23T04:45:00.000000Z x a local4 warning - - - - x", &back));
    assert_false(read_plain("2026-11-23T04:45:00.000000Z 0.12 a(b local4 warning - - - - x", &back));
    assert_true(read_plain("2026-11-23T04:45:00.000000Z - a local4 warning - - - - x", &back));
    assert_true(back.sent == IND_TIME_NONE);
    assert_true(read_plain("2026-11-23T04:45:00.000000Z -3.25 a(b) local4 warning - - - - x  y", &back));
    assert_slice(back.device, "a");
    assert_slice(back.host, "b");
    assert_slice(back.text, "x  y");
    assert_true(back.sent == back.time + 3250 * (IND_SECOND / 1000));
    assert_true(read_plain(
        "2026-11-23T04:45:00.000000Z - a(-) local4 warning a\\x20b \\x2d - [x\\x20a=\"1\"] \\x2d", &back));
    assert_int_equal(back.host.length, 0);
    assert_slice(back.app, "a b");
    assert_slice(back.procid, "-");
    assert_slice(back.data, "[x a=\"1\"]");
    assert_slice(back.text, "-");
}

/* A lag that no instant has is no lag. */
static void absurd_lags_are_no_stored_line(void **state)
{
    static const char *const lags[] = {"9999999999999.99", "-9999999999999.99", "9223372036.86",
                                       "99999999999.99"};
    struct ind_message back;
    (void)state;
    for (size_t i = 0; i < sizeof lags / sizeof *lags; i++) {
        char line[128];
        snprintf(line, sizeof line, "2026-11-23T04:45:00.000000Z %s a local4 warning - - - - x", lags[i]);
        if (read_plain(line, &back))
            assert_true(ind_lag_hundredths(back.received, back.sent) > 0);
    }
    assert_false(
        read_plain("2026-11-23T04:45:00.000000Z 9999999999999.99 a local4 warning - - - - x", &back));
}

/* Lines of before, whose escapes stay. */
static void old_plain_lines_are_read_as_they_were_written(void **state)
{
    struct ind_message back;
    (void)state;
    assert_true(ind_line_read_plain_old(
        IND_SLICE("2026-11-23T04:45:00.000000Z 0.12 a/b local4 warning x\\x20y - - - C:\\new"), &back));
    assert_slice(back.device, "a");
    assert_slice(back.host, "b");
    assert_slice(back.app, "x\\x20y");
    assert_slice(back.text, "C:\\new");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(conditions_answer_every_operator),
        cmocka_unit_test(tests_of_absent_fields_are_false_but_the_negated_ones),
        cmocka_unit_test(equal_tests_are_kept_once),
        cmocka_unit_test(pri_decides_what_it_can),
        cmocka_unit_test(conditions_know_literals_of_which_all_answers_hold_one),
        cmocka_unit_test(deep_nesting_is_a_mistake_not_a_crash),
        cmocka_unit_test(paths_are_made_from_messages),
        cmocka_unit_test(paths_survive_hostile_hosts),
        cmocka_unit_test(devices_are_found_by_longest_prefix_and_by_name),
        cmocka_unit_test(only_relays_speak_for_others),
        cmocka_unit_test(a_condition_may_be_very_long),
        cmocka_unit_test(names_that_use_names_are_asked_once),
        cmocka_unit_test(any_byte_may_be_asked_for),
        cmocka_unit_test(routes_stop_at_last),
        cmocka_unit_test(lines_are_written_in_every_layout),
        cmocka_unit_test(plain_lines_read_back),
        cmocka_unit_test(absurd_lags_are_no_stored_line),
        cmocka_unit_test(old_plain_lines_are_read_as_they_were_written),
    };
    set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    utc = ind_zone_fixed(0);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_answers_free(&answers);
    ind_conditions_free(set);
    ind_zone_free(utc);
    return failed;
}
