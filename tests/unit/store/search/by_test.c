/* What messages are told apart by: fields, networks, steps of time; and how values are written. */
#include "support/support.h"

#include "store/search/by.h"
#include "store/search/columns.h"
#include "support/random.h"

static void fields_are_read(void **state)
{
    static const struct {
        const char *text;
        unsigned what;
        int network;
        const char *name;
    } good[] = {{"device", IND_FIELD_DEVICE, 0, ""},        {"sender/24", IND_FIELD_SENDER, 24, ""},
                {"field peer", IND_FIELD_FIELD, 0, "peer"}, {"field peer/24", IND_FIELD_FIELD, 24, "peer"},
                {"field a/b", IND_FIELD_FIELD, 0, "a/b"},   {"label site", IND_FIELD_LABEL, 0, "site"},
                {"data x@1 a", IND_FIELD_DATA, 0, "a"},     {"hour", IND_BY_HOUR, 0, ""},
                {"host/128", IND_FIELD_HOST, 128, ""}};
    static const char *const bad[] = {"",        "time",       "day/24", "device/129", "device/0",
                                      "field ",  "field",      "data x", "data x ",    "lag",
                                      "devices", "severity/8", "/24"};
    struct ind_search_by by;
    (void)state;
    for (size_t i = 0; i < sizeof good / sizeof *good; i++) {
        assert_true(ind_search_by_read(ind_slice_of(good[i].text), &by));
        assert_int_equal(by.what, good[i].what);
        assert_int_equal(by.network, good[i].network);
        assert_slice(by.name, good[i].name);
        assert_slice(by.text, good[i].text);
    }
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        if (ind_search_by_read(ind_slice_of(bad[i]), &by))
            fail_msg("\"%s\" is taken for a field", bad[i]);
    assert_true(ind_search_column_read(IND_SLICE("time"), &by));
    assert_true(ind_search_column_read(IND_SLICE("lag"), &by));
    assert_false(ind_search_column_read(IND_SLICE("hour"), &by));
}

static void write_step(const struct ind_every *every, int64_t local, const char *expected)
{
    char text[40];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_every_write(every, ind_every_begin(every, local), &out);
    assert_slice(ind_buffer_view(&out), expected);
}

static void steps_of_time_are_read_and_written(void **state)
{
    static const char *const bad[] = {"",    "5",       "7 min", "25 h",      "2 days",
                                      "0 s", "1500 ms", "year",  "fortnight", "13 s"};
    const int64_t local =
        ind_days_from_civil(2026, 11, 26) * IND_DAY_SECONDS + 4 * 3600 + 47 * 60 + 12; /* a Thursday */
    struct ind_every every;
    (void)state;
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        if (ind_every_read(ind_slice_of(bad[i]), &every))
            fail_msg("\"%s\" is taken for a step", bad[i]);
    assert_true(ind_every_read(IND_SLICE("5 min"), &every));
    write_step(&every, local, "2026-11-26 04:45");
    assert_true(ind_every_read(IND_SLICE("10s"), &every));
    write_step(&every, local, "2026-11-26 04:47:10");
    assert_true(ind_every_read(IND_SLICE("hour"), &every));
    write_step(&every, local, "2026-11-26 04:00");
    assert_true(ind_every_read(IND_SLICE("1 day"), &every));
    write_step(&every, local, "2026-11-26");
    assert_true(ind_every_read(IND_SLICE("week"), &every));
    write_step(&every, local, "2026-11-23");
    assert_true(ind_every_read(IND_SLICE("month"), &every));
    write_step(&every, local, "2026-11");
    write_step(&every, -1, "1969-12");
}

/* Whatever the step: each begins where the one before ends, and holds all between. */
static void steps_leave_no_gap(void **state)
{
    static const char *const steps[] = {"1 s", "45 min", "6 h", "hour", "day", "week", "month"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 20000; i++) {
        struct ind_every every;
        assert_true(ind_every_read(ind_slice_of(steps[i % 7]), &every));
        const int64_t local = (int64_t)ind_random(&random, UINT32_MAX) * 2 - UINT32_MAX;
        const int64_t begin = ind_every_begin(&every, local), next = ind_every_next(&every, begin);
        assert_true(begin <= local && local < next);
        assert_int_equal(ind_every_begin(&every, begin), begin);
        assert_int_equal(ind_every_begin(&every, next), next);
        assert_int_equal(ind_every_begin(&every, next - 1), begin);
    }
}

static void check_value(const char *by_text, const char *sender, const char *expected)
{
    struct ind_search_by by;
    struct ind_by_reader reader = {.zone = NULL};
    struct ind_conditions *set = ind_conditions_new(IND_NOTHING, NULL, NULL);
    struct ind_answers answers;
    char text[IND_BY_WRITTEN_MOST];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    const struct ind_message message = {
        .sender = ind_slice_of(sender),
        .data = IND_SLICE("[y@1 a=\"no\"][x@1 a=\"one \\\"two\\\"\" a=\"three\"]")};
    assert_true(ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    assert_true(ind_search_by_read(ind_slice_of(by_text), &by));
    ind_search_by_write(&by, &message, &answers, &reader, &out);
    assert_slice(ind_buffer_view(&out), expected);
    ind_by_reader_free(&reader);
    ind_answers_free(&answers);
    ind_conditions_free(set);
}

static void addresses_are_told_apart_by_networks(void **state)
{
    (void)state;
    check_value("sender/24", "203.0.113.77", "203.0.113.0/24");
    check_value("sender/32", "203.0.113.77", "203.0.113.77");
    check_value("sender/1", "203.0.113.77", "128.0.0.0/1");
    check_value("sender/24", "::ffff:203.0.113.77", "203.0.113.0/24");
    check_value("sender/24", "2001:db8:1:2:3::4", "2001:db8:1:2::/64");
    check_value("sender/48", "2001:db8:1:2:3::4", "2001:db8:1::/48");
    check_value("sender/48", "203.0.113.77", "203.0.113.77");
    check_value("sender/24", "no address", "no address");
    check_value("sender/24", "", "-");
    check_value("sender", "-", "\\x2d");
    check_value("data x@1 a", "", "one \"two\"");
    check_value("data z@1 a", "", "-");
}

static void csv_is_as_the_standard_has_it(void **state)
{
    static const struct {
        const char *value, *written;
    } cases[] = {{"a", "a"},         {"", ""},         {"a,b", "\"a,b\""}, {"a\"b", "\"a\"\"b\""},
                 {"\"", "\"\"\"\""}, {" a", "\" a\""}, {"a b", "a b"},     {"a ", "\"a \""}};
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char room[40];
        struct ind_buffer out = ind_buffer_on(room, sizeof room);
        ind_csv_write(&out, ind_slice_of(cases[i].value));
        assert_slice(ind_buffer_view(&out), cases[i].written);
        /* The same by way of a line. */
        const struct ind_search_by column = {.what = IND_FIELD_TEXT, .text = IND_SLICE("text")};
        const struct ind_search_settings settings = {
            .columns = &column, .column_count = 1, .column_form = IND_COLUMNS_CSV};
        const struct ind_message message = {.text = ind_slice_of(cases[i].value)};
        struct ind_by_reader reader = {.zone = NULL};
        char line[1000];
        out = ind_buffer_on(line, sizeof line);
        ind_columns_write(&settings, &message, NULL, &reader, &out);
        out.length--;
        assert_slice(ind_buffer_view(&out), cases[i].written);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(fields_are_read),
        cmocka_unit_test(steps_of_time_are_read_and_written),
        cmocka_unit_test(steps_leave_no_gap),
        cmocka_unit_test(addresses_are_told_apart_by_networks),
        cmocka_unit_test(csv_is_as_the_standard_has_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
