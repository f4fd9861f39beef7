/* Templates and stored lines. */
#include "support/message.h"
#include "support/support.h"

#include "core/line/line.h"
#include "core/message/header.h"

static struct ind_zone *utc;

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
    assert_true(series || ind_template_could_make(&template, ind_buffer_view(&buffer)));
    return ind_buffer_view(&buffer);
}

static bool could_make(const char *source, const char *path)
{
    struct ind_template template;
    struct ind_mistake mistake = {0};
    if (!ind_template_read(ind_slice_of(source), IND_TEMPLATE_PATH, &template, &mistake))
        fail_msg("%s", source);
    return ind_template_could_make(&template, ind_slice_of(path));
}

static void a_path_tells_whose_it_can_be(void **state)
{
    (void)state;
    assert_true(could_make("{facility}/{severity}.log", "local4/warning.log"));
    assert_false(could_make("{facility}/{severity}.log", "local4/warn.log"));
    assert_false(could_make("{facility}/{severity}.log", "local4/warning.logs"));
    assert_false(could_make("{facility}/{severity}.log", "/warning.log"));
    assert_true(could_make("{host}-{app}.log", "a-b-c-d.log"));
    assert_false(could_make("{host}-{app}.log", "ab.log"));
    assert_false(could_make("{host}-{app}.log", "a/b-c.log"));
    assert_false(could_make("{host}-{app}.log", "a -c.log"));
    assert_true(could_make("fw/{date}.log", "fw/2026-11-23.log"));
    assert_false(could_make("fw/{date}.log", "fw/2026-1-23.log"));
    assert_true(could_make("{year}{month}/{day}-{hour}.log", "202611/23-04.log"));
    assert_true(could_make("all.log", "all.log"));
    assert_false(could_make("all.log", "all"));
    assert_false(could_make("all.log", ""));
    char longest[IND_PATH + 8];
    memset(longest, 'x', sizeof longest);
    memcpy(longest + IND_PATH_PART, ".log", 5);
    assert_true(could_make("{app}.log", longest));
    memset(longest, 'x', sizeof longest);
    memcpy(longest + IND_PATH_PART + 1, ".log", 5);
    assert_false(could_make("{app}.log", longest)); /* no value is that long */
    memset(longest, 'x', sizeof longest);
    longest[IND_PATH + 7] = '\0';
    assert_false(could_make("{app}-{app}.log", longest));
}

static void paths_are_made_from_messages(void **state)
{
    struct ind_message message = ind_example_message();
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
    struct ind_message message = ind_example_message();
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
    struct ind_message message = ind_example_message();
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
        cmocka_unit_test(paths_are_made_from_messages),
        cmocka_unit_test(a_path_tells_whose_it_can_be),
        cmocka_unit_test(paths_survive_hostile_hosts),
        cmocka_unit_test(lines_are_written_in_every_layout),
        cmocka_unit_test(plain_lines_read_back),
        cmocka_unit_test(absurd_lags_are_no_stored_line),
        cmocka_unit_test(old_plain_lines_are_read_as_they_were_written),
    };
    utc = ind_zone_fixed(0);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_zone_free(utc);
    return failed;
}
