/* A quick look at a plain line tells what reading it does, or nothing. */
#include "support/odd.h"
#include "support/support.h"

#include "core/message/names.h"
#include "store/disk/stored.h"
#include "store/search/quick.h"
#include "store/search/stamp.h"
#include "support/random.h"

static const char *const odd[] = {IND_ODD_PIECES};

static const char *any(uint64_t *random, const char *const *list, size_t count)
{
    return ind_random(random, 12) ? list[ind_random(random, (unsigned)count)]
                                  : odd[ind_random(random, sizeof odd / sizeof *odd)];
}

#define ANY(list) any(&random, list, sizeof(list) / sizeof *(list))

static void what_is_told_is_what_is_read(void **state)
{
    static const char *const times[] = {
        "2026-11-23T04:45:00.123456Z",      "2026-11-23T04:45:59.000000Z",      "2026-11-23T05:00:00.000001Z",
        "2026-11-23T04:45:00.123456+01:00", "2026-11-23T04:45:00.123456+05:30", "2026-13-23T04:45:00.123456Z",
        "2026-11-23T04:60:00.123456Z",      "2026-11-23T24:00:00.123456Z",      "2026-11-23t04:45:00.123456Z",
        "2026-11-23T04:45:00.12345Z"};
    static const char *const lags[] = {"0.12", "-", "-3.00", "12.345", "", "x", "99999999.00"};
    static const char *const devices[] = {
        "harbour-fw", "pier1-rtr(pier1-rtr.skerry.example)", "a\\x20b", "-", "(x)", "a(", "dev1", "dev2",
        "dev3"};
    static const char *const facilities[] = {"local4", "kern", "locale", "LOCAL4"};
    static const char *const severities[] = {"warning", "info", "warn", "-"};
    static const char *const rests[] = {
        "kernel - - - text",       "- - - - ",    "app 1 ID47 [a b=\"c\"] text",
        "app 1 ID47 [broken text", "a b c - d e", "a b c d"};
    uint64_t random = IND_RANDOM_START;
    struct ind_quick quick = {0}, times_only = {0};
    size_t told = 0;
    (void)state;
    for (int i = 0; i < 200000; i++) {
        char line[600], scratch[600];
        const int length = snprintf(line, sizeof line, "%s %s %s %s %s %s", ANY(times), ANY(lags),
                                    ANY(devices), ANY(facilities), ANY(severities), ANY(rests));
        const struct ind_slice slice = {line, (size_t)length};
        struct ind_message whole;
        const bool readable = ind_line_read_plain(slice, scratch, &whole);
        const struct ind_message *seen = ind_quick_read(&quick, slice);
        if (seen && !readable)
            fail_msg("told of what cannot be read: %s", line);
        if (seen) {
            told++;
            assert_int_equal(seen->time, whole.time);
            assert_int_equal(seen->facility, whole.facility);
            assert_int_equal(seen->severity, whole.severity);
            assert_true(ind_slice_equal(seen->device, whole.device) &&
                        ind_slice_equal(seen->host, whole.host));
            assert_int_equal(seen->text.length + seen->app.length, 0);
        }
        const ind_time time = ind_quick_time(&times_only, slice);
        size_t width;
        if (time != IND_TIME_NONE)
            assert_int_equal(time, ind_line_plain_time(slice, &width));
        if (readable)
            assert_int_equal(ind_search_stamp_time(IND_LAYOUT_PLAIN, slice), whole.time);
    }
    assert_true(told > 500);
    ind_quick_free(&quick);
    ind_quick_free(&times_only);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(what_is_told_is_what_is_read)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
