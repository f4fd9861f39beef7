/* The calendar, and times in the form of RFC 3339. */
#include "support/support.h"

#include "core/time/civil.h"
#include <time.h>

/* Against the C library, day by day and at odd seconds, over 400 years. */
static void civil_agrees_with_the_c_library(void **state)
{
    (void)state;
    for (int64_t seconds = INT64_C(-6000000000); seconds < INT64_C(7000000000);
         seconds += 86400 * 3 + 12345) {
        struct ind_civil civil;
        struct tm expected;
        time_t time = (time_t)seconds;
        ind_civil_from_seconds(seconds, &civil);
        gmtime_r(&time, &expected);
        assert_int_equal(civil.year, expected.tm_year + 1900);
        assert_int_equal(civil.month, expected.tm_mon + 1);
        assert_int_equal(civil.day, expected.tm_mday);
        assert_int_equal(civil.hour, expected.tm_hour);
        assert_int_equal(civil.second, expected.tm_sec);
        assert_int_equal((civil.weekday + 1) % 7, expected.tm_wday);
        assert_int_equal(ind_days_from_civil(civil.year, civil.month, civil.day) * 86400 + civil.hour * 3600 +
                             civil.minute * 60 + civil.second,
                         seconds);
    }
}

static void times_are_read_and_written(void **state)
{
    static const struct {
        const char *text, *written;
        size_t used;
    } cases[] = {
        {"2026-11-23T04:45:00Z", "2026-11-23T04:45:00.000000Z", 20},
        {"2026-11-23T04:45:00.5+02:00 x", "2026-11-23T02:45:00.500000Z", 27},
        {"2026-12-31T23:59:60Z", "2027-01-01T00:00:00.000000Z", 20},
        {"1969-12-31T23:59:59.999999Z", "1969-12-31T23:59:59.999999Z", 27},
        {"2026-02-29T00:00:00Z", NULL, 0},
        {"2026-11-23T24:00:00Z", NULL, 0},
        {"2026-11-23T04:45:00.Z", NULL, 0},
        {"2026-11-23T04:45:00.1234567890Z", NULL, 0},
        {"2026-11-23", NULL, 0},
    };
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[64];
        ind_time time;
        enum ind_time_style style;
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
        assert_int_equal(ind_time_read(ind_slice_of(cases[i].text), &time, &style), cases[i].used);
        if (!cases[i].written)
            continue;
        ind_time_write(&buffer, time);
        assert_slice(ind_buffer_view(&buffer), cases[i].written);
    }
}

/* Fractions of every length, with and without bytes behind them: they are read by different means. */
static void fractions_of_every_length_are_read(void **state)
{
    static const char digits[] = "905070301", *const ends[] = {"Z", "+00:00", "Z host app - - - text"};
    (void)state;
    for (size_t end = 0; end < 3; end++) {
        int64_t expected = 0, scale = IND_SECOND;
        for (size_t count = 1; count <= 9; count++) {
            char text[80];
            ind_time time;
            enum ind_time_style style;
            scale /= 10;
            expected += (digits[count - 1] - '0') * scale;
            snprintf(text, sizeof text, "1970-01-01T00:00:00.%.*s%s", (int)count, digits, ends[end]);
            assert_int_equal(ind_time_read(ind_slice_of(text), &time, &style),
                             20 + count + (end == 1 ? 6 : 1));
            assert_true(time == expected);
        }
    }
    ind_time time;
    enum ind_time_style style;
    assert_int_equal(ind_time_read(IND_SLICE("1970-01-01T00:00:00.x23456789Z"), &time, &style), 0);
    assert_int_equal(
        ind_time_read(IND_SLICE("1970-01-01T00:00:00.1\xff\xff\xff\xff\xff\xff\xffZ"), &time, &style), 21);
    assert_true(time == IND_SECOND / 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(civil_agrees_with_the_c_library),
        cmocka_unit_test(times_are_read_and_written),
        cmocka_unit_test(fractions_of_every_length_are_read),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
