/* Zones against the C library, and what periods make of them. */
#define _GNU_SOURCE /* tm_gmtoff */
#include "support/moment.h"
#include "support/random.h"
#include "support/support.h"

#include "config/moment.h"
#include "config/quantity.h"
#include "config/zones.h"
#include "core/archive/rotation.h"
#include <time.h>

static void offsets_agree_with_the_c_library(void **state)
{
    static const char *const names[] = {
        "Europe/Lisbon",  "Atlantic/Faroe",    "America/New_York", "Australia/Lord_Howe", "America/Sao_Paulo",
        "Asia/Kathmandu", "Africa/Casablanca", "Pacific/Apia",     "Antarctica/Troll",    "UTC"};
    (void)state;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        struct ind_zone *zone = ind_zone_named(names[i]);
        assert_non_null(zone);
        setenv("TZ", names[i], 1);
        tzset();
        for (int64_t seconds = 0; seconds < INT64_C(3700000000); seconds += 3600 * 7 + 900) {
            struct tm local;
            time_t time = (time_t)seconds;
            localtime_r(&time, &local);
            if (ind_zone_offset(zone, seconds) != local.tm_gmtoff)
                print_error("%s at %lld\n", names[i], (long long)seconds);
            assert_int_equal(ind_zone_offset(zone, seconds), local.tm_gmtoff);
            /* Back again: the same instant, or the first of two with that local time. */
            int64_t back = ind_zone_to_utc(zone, seconds + ind_zone_offset(zone, seconds));
            assert_true(back <= seconds && seconds - back <= 86400);
            assert_int_equal(back + ind_zone_offset(zone, back), seconds + ind_zone_offset(zone, seconds));
        }
        ind_zone_free(zone);
    }
    unsetenv("TZ");
}

static void periods_end_at_local_turns_across_clock_changes(void **state)
{
    static const struct {
        enum ind_period every;
        const char *time, *end;
    } cases[] = {
        {IND_PERIOD_DAY, "2026-11-23T04:45:00Z", "2026-11-24T00:00:00Z"},
        {IND_PERIOD_DAY, "2026-07-01T23:00:00Z", "2026-07-02T23:00:00Z"},  /* summer time */
        {IND_PERIOD_DAY, "2026-03-29T00:30:00Z", "2026-03-29T23:00:00Z"},  /* a day of 23 hours */
        {IND_PERIOD_DAY, "2026-10-24T23:30:00Z", "2026-10-26T00:00:00Z"},  /* a day of 25 hours */
        {IND_PERIOD_HOUR, "2026-10-25T00:30:00Z", "2026-10-25T02:00:00Z"}, /* 01:xx comes twice: one period */
        {IND_PERIOD_HOUR, "2026-10-25T01:30:00Z", "2026-10-25T02:00:00Z"},
        {IND_PERIOD_HOUR, "2026-03-29T00:59:59Z", "2026-03-29T01:00:00Z"},
        {IND_PERIOD_WEEK, "2026-11-23T00:00:00Z", "2026-11-30T00:00:00Z"},
        {IND_PERIOD_WEEK, "2026-10-25T12:00:00Z", "2026-10-26T00:00:00Z"},
        {IND_PERIOD_MONTH, "2026-11-23T04:45:00Z", "2026-12-01T00:00:00Z"},
        {IND_PERIOD_MONTH, "2026-12-31T23:59:59Z", "2027-01-01T00:00:00Z"},
        {IND_PERIOD_MONTH, "2028-02-01T00:00:00Z", "2028-03-01T00:00:00Z"}, /* a leap year */
        {IND_PERIOD_MONTH, "2026-02-28T12:00:00Z", "2026-03-01T00:00:00Z"},
        {IND_PERIOD_MONTH, "2026-06-30T22:59:59Z", "2026-06-30T23:00:00Z"}, /* summer time */
        {IND_PERIOD_MONTH, "2026-06-30T23:00:00Z", "2026-07-31T23:00:00Z"},
        {IND_PERIOD_MONTH, "2026-03-15T12:00:00Z", "2026-03-31T23:00:00Z"}, /* an hour short */
        {IND_PERIOD_MONTH, "2026-10-15T12:00:00Z", "2026-11-01T00:00:00Z"}, /* an hour long */
    };
    (void)state;
    struct ind_zone *zone = ind_zone_named("Europe/Lisbon");
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        assert_true(ind_period_end(cases[i].every, zone, at(cases[i].time)) == at(cases[i].end));
    ind_zone_free(zone);
}

/* The end of a month is the end of its last day: found by going from day to day. */
static void a_month_ends_with_its_last_day(void **state)
{
    static const char *const names[] = {"Europe/Lisbon", "America/St_Johns", "Pacific/Apia", "UTC"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (size_t n = 0; n < sizeof names / sizeof *names; n++) {
        struct ind_zone *zone = ind_zone_named(names[n]);
        for (int i = 0; i < 2000; i++) {
            const ind_time time = ((ind_time)ind_random(&random, 20000) * IND_DAY_SECONDS +
                                   ind_random(&random, IND_DAY_SECONDS)) *
                                  IND_SECOND;
            struct ind_civil civil = {0};
            ind_time end = time;
            do {
                end = ind_period_end(IND_PERIOD_DAY, zone, end);
                ind_zone_civil(zone, end, &civil);
            } while (civil.day != 1);
            assert_true(ind_period_end(IND_PERIOD_MONTH, zone, time) == end);
        }
        ind_zone_free(zone);
    }
}

static void zones_that_are_none_are_refused(void **state)
{
    static const char *const names[] = {
        "Mars/Olympus", "../../../etc/passwd", "/etc/localtime", "", "Europe", "+99", "+1:0"};
    (void)state;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        assert_null(ind_zone_named(names[i]));
    struct ind_zone *zone = ind_zone_named("-03:30");
    assert_int_equal(ind_zone_offset(zone, 0), -12600);
    ind_zone_free(zone);
    unsigned char bytes[64] = "TZif2";
    for (size_t length = 0; length < sizeof bytes; length++)
        assert_null(ind_zone_read(bytes, length));
}

static void moments_are_dates_times_or_ages(void **state)
{
    ind_time time, now = at("2026-11-23T04:45:00Z");
    struct ind_zone *zone = ind_zone_named("Europe/Lisbon");
    (void)state;
    assert_true(ind_moment_read(IND_SLICE("2026-07-01"), now, zone, false, &time) &&
                time == at("2026-06-30T23:00:00Z"));
    assert_true(ind_moment_read(IND_SLICE("2026-07-01"), now, zone, true, &time) &&
                time == at("2026-07-01T23:00:00Z"));
    assert_true(ind_moment_read(IND_SLICE("2026-07-01T12:00:00"), now, zone, false, &time) &&
                time == at("2026-07-01T11:00:00Z"));
    assert_true(ind_moment_read(IND_SLICE("24h"), now, zone, false, &time) &&
                time == at("2026-11-22T04:45:00Z"));
    assert_true(ind_moment_read(IND_SLICE("30d"), now, zone, false, &time) &&
                time == at("2026-10-24T04:45:00Z"));
    static const struct {
        const char *text, *begin, *end;
    } words[] = {
        {"now", "2026-11-23T04:45:00Z", "2026-11-23T04:45:00Z"}, /* a Monday */
        {"today", "2026-11-23T00:00:00Z", "2026-11-24T00:00:00Z"},
        {"Yesterday", "2026-11-22T00:00:00Z", "2026-11-23T00:00:00Z"},
        {"yesterday 08:00", "2026-11-22T08:00:00Z", "2026-11-22T08:00:00Z"},
        {"mon", "2026-11-23T00:00:00Z", "2026-11-24T00:00:00Z"},
        {"tuesday", "2026-11-17T00:00:00Z", "2026-11-18T00:00:00Z"},
        {"sun 23:59:59", "2026-11-22T23:59:59Z", "2026-11-22T23:59:59Z"},
        {"04:45", "2026-11-23T04:45:00Z", "2026-11-23T04:45:00Z"},
        {"04:46", "2026-11-22T04:46:00Z", "2026-11-22T04:46:00Z"},
        {"2026-11-22T22:00", "2026-11-22T22:00:00Z", "2026-11-22T22:00:00Z"},
        {"2026-07-01 22:00", "2026-07-01T21:00:00Z", "2026-07-01T21:00:00Z"},
        {"2026-07-01T22:00Z", "2026-07-01T22:00:00Z", "2026-07-01T22:00:00Z"},
        {"1h30m", "2026-11-23T03:15:00Z", "2026-11-23T03:15:00Z"},
        {"90 min ago", "2026-11-23T03:15:00Z", "2026-11-23T03:15:00Z"},
    };
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        for (int end = 0; end < 2; end++) {
            assert_true(ind_moment_read(ind_slice_of(words[i].text), now, zone, end, &time));
            assert_int_equal(time, at(end ? words[i].end : words[i].begin));
        }
    static const char *const none[] = {
        "",     "tomorrow", "24:00",         "4:45",       "yesterday 25:00",  "mon08:00",
        "moon", "today ",   "2026-11-22T22", "2026-02-30", "2026-02-30T22:00", "22:00Z"};
    for (size_t i = 0; i < sizeof none / sizeof *none; i++)
        assert_false(ind_moment_read(ind_slice_of(none[i]), now, zone, false, &time));
    assert_false(ind_moment_read(IND_SLICE("24"), now, zone, false, &time));
    ind_zone_free(zone);
}

static void quantities_are_read_whole_or_not_at_all(void **state)
{
    uint64_t number;
    int64_t span;
    unsigned percent, mode;
    (void)state;
    assert_true(ind_read_size(IND_SLICE("1.5 GiB"), &number) && number == UINT64_C(1610612736));
    assert_true(ind_read_size(IND_SLICE("10kB"), &number) && number == 10000);
    assert_false(ind_read_size(IND_SLICE("10 apples"), &number));
    assert_false(ind_read_size(IND_SLICE("-1"), &number));
    assert_false(ind_read_size(IND_SLICE("99999999999999999999"), &number));
    assert_true(ind_read_span(IND_SLICE("1 year"), &span) && span == 31536000 * IND_SECOND);
    assert_true(ind_read_span(IND_SLICE("12 months"), &span) && span == 31536000 * IND_SECOND);
    assert_true(ind_read_span(IND_SLICE("1h30m"), &span) && span == 5400 * IND_SECOND);
    assert_true(ind_read_span(IND_SLICE("2 min 30 s"), &span) && span == 150 * IND_SECOND);
    assert_true(ind_read_span(IND_SLICE("1m"), &span) && span == 60 * IND_SECOND);
    assert_true(ind_read_span(IND_SLICE("300ms"), &span) && span == IND_SECOND * 3 / 10);
    assert_false(ind_read_span(IND_SLICE("30m1h"), &span));
    assert_false(ind_read_span(IND_SLICE("1h1h"), &span));
    assert_false(ind_read_span(IND_SLICE("1h "), &span));
    assert_false(ind_read_span(IND_SLICE("101 years"), &span));
    assert_false(ind_read_span(IND_SLICE("year"), &span));
    assert_true(ind_read_percent(IND_SLICE("80 %"), &percent) && percent == 80);
    assert_false(ind_read_percent(IND_SLICE("0 %"), &percent));
    assert_true(ind_read_mode(IND_SLICE("0640"), &mode) && mode == 0640);
    assert_false(ind_read_mode(IND_SLICE("1777"), &mode));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(offsets_agree_with_the_c_library),
        cmocka_unit_test(periods_end_at_local_turns_across_clock_changes),
        cmocka_unit_test(a_month_ends_with_its_last_day),
        cmocka_unit_test(zones_that_are_none_are_refused),
        cmocka_unit_test(moments_are_dates_times_or_ages),
        cmocka_unit_test(quantities_are_read_whole_or_not_at_all),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
