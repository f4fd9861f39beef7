/* When a report is due, and of what span: by the clock on the wall, also where days have another length. */
#include "collect/reporting/due.h"
#include "config/zones.h"
#include "support/support.h"

static struct ind_zone *zone;

static int set_up(void **state)
{
    (void)state;
    zone = ind_zone_named("Europe/Lisbon");
    return zone ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_zone_free(zone);
    return 0;
}

/* At that time in UTC it is of this span, which begins and ends so. */
static void expect(enum ind_report_every every, unsigned at, const char *now, const char *name,
                   const char *since, const char *until)
{
    const struct ind_report_rule rule = {.name = "r", .every = every, .at = at};
    struct ind_report_span span;
    enum ind_time_style style;
    ind_time time, begin, end;
    char text[16];
    assert_true(ind_time_read(ind_slice_of(now), &time, &style) > 0);
    assert_true(ind_time_read(ind_slice_of(since), &begin, &style) > 0);
    assert_true(ind_time_read(ind_slice_of(until), &end, &style) > 0);
    assert_true(ind_report_due(&rule, time, zone, &span));
    ind_report_due_name(&rule, &span, zone, text);
    if (strcmp(text, name) != 0 || span.since != begin || span.until != end)
        fail_msg("%s: %s", now, text);
    /* The name says the same to `report --for`. */
    struct ind_report_span again;
    assert_true(ind_report_span_read(ind_slice_of(text), time, zone, &again));
    assert_true(again.since == span.since && again.until == span.until);
}

static void the_last_span_that_was_over_at_that_time_of_day(void **state)
{
    enum { SEVEN = 7 * 3600 };
    (void)state;
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-11-24T06:59:59Z", "2026-11-22", "2026-11-22T00:00:00Z",
           "2026-11-23T00:00:00Z");
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-11-24T07:00:00Z", "2026-11-23", "2026-11-23T00:00:00Z",
           "2026-11-24T00:00:00Z");
    expect(IND_REPORT_EVERY_WEEK, SEVEN, "2026-11-30T06:59:00Z", "2026-W47", "2026-11-16T00:00:00Z",
           "2026-11-23T00:00:00Z");
    expect(IND_REPORT_EVERY_WEEK, SEVEN, "2026-11-30T07:00:00Z", "2026-W48", "2026-11-23T00:00:00Z",
           "2026-11-30T00:00:00Z");
    expect(IND_REPORT_EVERY_MONTH, 0, "2026-12-01T00:00:00Z", "2026-11", "2026-11-01T00:00:00Z",
           "2026-12-01T00:00:00Z");
    expect(IND_REPORT_EVERY_MONTH, SEVEN, "2027-01-01T06:00:00Z", "2026-11", "2026-11-01T00:00:00Z",
           "2026-12-01T00:00:00Z");
    /* A week of two years, and one of 53. */
    expect(IND_REPORT_EVERY_WEEK, 0, "2026-01-05T00:00:00Z", "2026-W01", "2025-12-29T00:00:00Z",
           "2026-01-05T00:00:00Z");
    expect(IND_REPORT_EVERY_WEEK, 0, "2027-01-04T00:00:00Z", "2026-W53", "2026-12-28T00:00:00Z",
           "2027-01-04T00:00:00Z");
    /* Summer time begins on 2026-03-29, and ends on 2026-10-25: seven is seven. */
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-03-29T05:59:59Z", "2026-03-27", "2026-03-27T00:00:00Z",
           "2026-03-28T00:00:00Z");
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-03-29T06:00:00Z", "2026-03-28", "2026-03-28T00:00:00Z",
           "2026-03-29T00:00:00Z");
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-03-30T06:00:00Z", "2026-03-29", "2026-03-29T00:00:00Z",
           "2026-03-29T23:00:00Z");
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-10-25T06:59:59Z", "2026-10-23", "2026-10-22T23:00:00Z",
           "2026-10-23T23:00:00Z");
    expect(IND_REPORT_EVERY_DAY, SEVEN, "2026-10-25T07:00:00Z", "2026-10-24", "2026-10-23T23:00:00Z",
           "2026-10-24T23:00:00Z");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(the_last_span_that_was_over_at_that_time_of_day, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
