/* Alerts: each kind opens and is over as its rule says, random causes against a second way that keeps every
 * message, and what strangers can make up stays within its bounds. */
#include "core/alert/alerts.h"
#include "support/random.h"
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>

enum { MOST = 20000 };

static struct {
    enum ind_alert_event event;
    char name[40], key[220], who[64];
    uint64_t number, count;
    int64_t at; /* s */
    ind_time first, last;
} seen[MOST];
static size_t seen_count;
static struct ind_alerts *alerts;

static void happened(void *context, enum ind_alert_event event, const struct ind_alert *alert,
                     struct ind_clocks now)
{
    (void)context;
    if (seen_count == MOST)
        return;
    seen[seen_count].event = event;
    snprintf(seen[seen_count].name, sizeof seen->name, "%s", alert->rule->name);
    snprintf(seen[seen_count].key, sizeof seen->key, "%s", alert->key);
    snprintf(seen[seen_count].who, sizeof seen->who, "%s", alert->who);
    seen[seen_count].number = alert->number;
    seen[seen_count].count = alert->count;
    seen[seen_count].first = alert->first;
    seen[seen_count].last = alert->last;
    seen[seen_count++].at = now.wall / IND_SECOND;
}

/* The wall clock and the steady one, `seconds` after the start. */
static struct ind_clocks at(int64_t seconds)
{
    return (struct ind_clocks){seconds * IND_SECOND, {(1000000 + seconds) * IND_SECOND}};
}

static void begin(const struct ind_alert_rule *rules, size_t count, size_t memory)
{
    const struct ind_alerts_settings settings = {.memory = memory, .happened = happened};
    alerts = ind_alerts_new(&settings);
    assert_true(ind_alerts_adopt(alerts, rules, count, at(0)));
    seen_count = 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_alerts_free(alerts);
    alerts = NULL;
    return 0;
}

static void hear(const char *name, const char *key, int64_t seconds, uint64_t count, bool ends)
{
    char line[80];
    snprintf(line, sizeof line, "line of %s at %lld", key, (long long)seconds);
    const struct ind_alert_cause cause = {.alert = ind_slice_of(name),
                                          .key = ind_slice_of(key),
                                          .ends = ends,
                                          .count = count,
                                          .time = seconds * IND_SECOND,
                                          .last = seconds * IND_SECOND,
                                          .line = ind_slice_of(line)};
    ind_alerts_tick(alerts, at(seconds));
    ind_alerts_hear(alerts, &cause, at(seconds));
}

/* As a collector does: at least as often as it is asked to. */
static void pass(int64_t from, int64_t to)
{
    struct ind_steady now = at(from).steady;
    while (now.ns < at(to).steady.ns) {
        struct ind_steady next = ind_alerts_next(alerts, now);
        now = next.ns < at(to).steady.ns ? next : at(to).steady;
        const struct ind_clocks clocks = {now.ns - 1000000 * IND_SECOND, now};
        ind_alerts_tick(alerts, clocks);
    }
}

static void expect(size_t place, enum ind_alert_event event, const char *key, int64_t seconds, uint64_t count)
{
    if (place >= seen_count || seen[place].event != event || strcmp(seen[place].key, key) != 0 ||
        seen[place].at != seconds || seen[place].count != count)
        for (size_t i = 0; i < seen_count && i < 20; i++)
            print_error("%zu: %d %s at %lld, %llu\n", i, seen[i].event, seen[i].key, (long long)seen[i].at,
                        (unsigned long long)seen[i].count);
    assert_true(place < seen_count);
    assert_int_equal(seen[place].event, event);
    assert_string_equal(seen[place].key, key);
    assert_int_equal(seen[place].at, seconds);
    assert_int_equal(seen[place].count, count);
}

static void each_message_opens_one_that_stays_until_somebody_has_seen_to_it(void **state)
{
    const struct ind_alert_rule rule = {
        .name = "down", .kind = IND_ALERT_EACH, .remind = 4 * 3600 * IND_SECOND};
    (void)state;
    begin(&rule, 1, 1 << 20);
    hear("down", "a", 10, 1, false);
    hear("down", "a", 20, 2, false);
    hear("down", "b", 30, 1, false);
    pass(30, 3600 * 5);
    expect(0, IND_ALERT_OPENED, "a", 10, 1);
    expect(1, IND_ALERT_OPENED, "b", 30, 1);
    expect(2, IND_ALERT_REMINDER, "a", 4 * 3600 + 10, 3);
    expect(3, IND_ALERT_REMINDER, "b", 4 * 3600 + 30, 1);
    assert_int_equal(ind_alerts_acknowledge(alerts, "down", "a", "tern", "seen", at(20000)), 1);
    assert_int_equal(ind_alerts_acknowledge(alerts, "down", "a", "tern", "seen", at(20000)), 0);
    expect(4, IND_ALERT_OVER, "a", 20000, 3);
    assert_string_equal(seen[4].who, "tern");
    hear("down", "a", 20010, 1, false); /* a new one */
    expect(5, IND_ALERT_OPENED, "a", 20010, 1);
    assert_int_equal(seen[5].number, 3);
    assert_int_equal(ind_alerts_acknowledge(alerts, "down", NULL, "tern", NULL, at(20020)), 2);
    assert_int_equal(ind_alerts_counts(alerts).open, 0);
    assert_int_equal(ind_alerts_counts(alerts).watched, 0);
}

static void a_message_ends_it_and_what_comes_soon_after_joins(void **state)
{
    const struct ind_alert_rule rule = {
        .name = "link", .kind = IND_ALERT_EACH, .over = IND_OVER_WHEN, .join = 300 * IND_SECOND};
    (void)state;
    begin(&rule, 1, 1 << 20);
    hear("link", "a", 10, 1, true); /* nothing is open */
    hear("link", "a", 20, 1, false);
    hear("link", "b", 30, 1, true); /* another one's */
    hear("link", "a", 40, 1, true);
    hear("link", "a", 100, 1, false);
    hear("link", "a", 110, 1, true);
    hear("link", "a", 411, 1, false);
    expect(0, IND_ALERT_OPENED, "a", 20, 1);
    expect(1, IND_ALERT_OVER, "a", 40, 1);
    expect(2, IND_ALERT_REOPENED, "a", 100, 2);
    expect(3, IND_ALERT_OVER, "a", 110, 2);
    expect(4, IND_ALERT_OPENED, "a", 411, 1);
    assert_int_equal(seen[2].number, seen[0].number);
    assert_int_equal(seen[4].number, seen[0].number + 1);
    assert_int_equal(seen_count, 5);
    assert_int_equal(ind_alerts_acknowledge(alerts, "link", "a", "tern", NULL, at(420)), 1);
    assert_int_equal(seen_count, 5); /* it is not over with that */
    hear("link", "a", 430, 1, true);
    expect(5, IND_ALERT_OVER, "a", 430, 1);
}

static void silence_is_told_once_and_ends_with_a_message(void **state)
{
    const struct ind_alert_rule rule = {
        .name = "silent", .kind = IND_ALERT_NOTHING, .span = 900 * IND_SECOND, .over = IND_OVER_HEARD};
    (void)state;
    begin(&rule, 1, 1 << 20);
    ind_alerts_watch(alerts, ind_slice_of("silent"), ind_slice_of("sw1"), IND_TIME_NONE, at(0));
    hear("silent", "fw", 100, 1, false);
    pass(100, 3000);
    expect(0, IND_ALERT_OPENED, "sw1", 900, 0);
    expect(1, IND_ALERT_OPENED, "fw", 1000, 0);
    assert_int_equal(seen[1].last, 100 * IND_SECOND);
    assert_int_equal(seen_count, 2);
    assert_int_equal(ind_alerts_acknowledge(alerts, "silent", "fw", "tern", NULL, at(3000)), 1);
    pass(3000, 9000);
    assert_int_equal(seen_count, 2);
    hear("silent", "fw", 9000, 1, false);
    expect(2, IND_ALERT_OVER, "fw", 9000, 1);
    pass(9000, 9901);
    expect(3, IND_ALERT_OPENED, "fw", 9900, 0);
}

static void too_few_are_told_and_enough_end_it(void **state)
{
    const struct ind_alert_rule rule = {.name = "few",
                                        .kind = IND_ALERT_FEWER,
                                        .number = 10,
                                        .span = 300 * IND_SECOND,
                                        .over = IND_OVER_HEARD};
    (void)state;
    begin(&rule, 1, 1 << 20);
    ind_alerts_watch(alerts, ind_slice_of("few"), IND_NOTHING, IND_TIME_NONE, at(0));
    for (int64_t i = 0; i < 1200; i += 20)
        hear("few", "", i, 1, false);
    assert_int_equal(seen_count, 0); /* fifteen in each span */
    pass(1180, 2000);
    assert_int_equal(seen_count, 1);
    assert_true(seen[0].event == IND_ALERT_OPENED && seen[0].at > 1270 && seen[0].at < 1320);
    for (int64_t i = 2000; i < 2200; i += 20)
        hear("few", "", i, 1, false);
    expect(1, IND_ALERT_OVER, "", 2180, 10);
}

/* ---- A second way ---- */

enum { KEYS = 5, SECONDS = 4000 };
static unsigned counts[KEYS][SECONDS];

/* How many there were, of those that the window has: whole parts of it. */
static uint64_t within(unsigned key, int64_t now, int64_t from, int64_t span)
{
    const int64_t part = span / IND_ALERT_PARTS;
    uint64_t sum = 0;
    for (int64_t i = from; i <= now; i++)
        if ((now + 1000000) / part - (i + 1000000) / part < IND_ALERT_PARTS)
            sum += counts[key][i];
    return sum;
}

static void random_causes_open_as_a_second_way_says(void **state)
{
    (void)state;
    for (unsigned round = 0; round < 60; round++) {
        uint64_t random = IND_RANDOM_START + round;
        const int64_t span = (1 + ind_random(&random, 12)) * IND_ALERT_PARTS;
        const uint64_t most = ind_random(&random, 12);
        const int64_t quiet = 20 + ind_random(&random, 200);
        const struct ind_alert_rule rule = {.name = "r",
                                            .kind = IND_ALERT_MORE,
                                            .number = most,
                                            .span = span * IND_SECOND,
                                            .over = IND_OVER_QUIET,
                                            .quiet = quiet * IND_SECOND};
        int64_t from[KEYS] = {0}, last[KEYS];
        bool open[KEYS] = {false};
        size_t expected = 0;
        begin(&rule, 1, 1 << 20);
        memset(counts, 0, sizeof counts);
        for (int64_t now = 0; now < SECONDS; now++) {
            ind_alerts_tick(alerts, at(now));
            for (unsigned k = 0; k < KEYS; k++) {
                if (open[k] && now - last[k] >= quiet) {
                    open[k] = false;
                    from[k] = now; /* what was before counts no more */
                    expected++;
                }
            }
            assert_int_equal(seen_count, expected);
            for (unsigned i = ind_random(&random, 3); i > 0; i--) {
                char key[2] = {0};
                const unsigned k = ind_random(&random, KEYS), count = 1 + ind_random(&random, 3);
                if (ind_random(&random, 40) < 30 * (unsigned)(now / 500 % 2))
                    continue;
                key[0] = (char)('a' + k);
                counts[k][now] += count;
                last[k] = now;
                hear("r", key, now, count, false);
                if (!open[k] && within(k, now, from[k], span) > most) {
                    open[k] = true;
                    assert_int_equal(seen_count, expected + 1);
                    expect(expected, IND_ALERT_OPENED, key, now, within(k, now, from[k], span));
                    assert_true(seen[expected].first <= seen[expected].last &&
                                seen[expected++].first > (now - span) * IND_SECOND);
                }
                assert_int_equal(seen_count, expected);
            }
        }
        ind_alerts_free(alerts);
        alerts = NULL;
    }
}

/* ---- Bounds ---- */

static void many_keys_stay_within_their_memory_and_the_oldest_go(void **state)
{
    const struct ind_alert_rule rule = {
        .name = "r", .kind = IND_ALERT_MORE, .number = 3, .span = 3000 * IND_SECOND};
    char key[40];
    (void)state;
    begin(&rule, 1, 1 << 20);
    for (unsigned i = 0; i < 30000; i++) {
        snprintf(key, sizeof key, "key %u", i);
        hear("r", key, 10 + i / 100, 1, false);
    }
    const struct ind_alerts_counts counts_now = ind_alerts_counts(alerts);
    assert_true(counts_now.forgotten > 20000);
    assert_int_equal(counts_now.watched + counts_now.forgotten, 30000);
    for (unsigned n = 0; n < 3; n++)
        hear("r", key, 400, 1, false); /* the newest is still known */
    expect(0, IND_ALERT_OPENED, key, 400, 4);
}

static void too_many_open_ones_come_together(void **state)
{
    const struct ind_alert_rule rule = {.name = "r", .kind = IND_ALERT_EACH};
    char key[40];
    (void)state;
    begin(&rule, 1, 64 << 20);
    for (unsigned i = 0; i < IND_ALERT_OPEN + 500; i++) {
        snprintf(key, sizeof key, "key %u", i);
        hear("r", key, 10, 1, false);
    }
    assert_int_equal(seen_count, IND_ALERT_OPEN + 1);
    assert_string_equal(seen[IND_ALERT_OPEN].key, IND_ALERT_OTHERS);
    assert_int_equal(ind_alerts_counts(alerts).joined, 500);
    assert_int_equal(ind_alerts_acknowledge(alerts, "r", IND_ALERT_OTHERS, "tern", NULL, at(20)), 1);
    assert_int_equal(seen[seen_count - 1].count, 500);
    assert_int_equal(ind_alerts_acknowledge(alerts, "r", NULL, "tern", NULL, at(20)), IND_ALERT_OPEN);
    assert_int_equal(ind_alerts_counts(alerts).open, 0);
}

/* ---- What outlives a start ---- */

static struct ind_alert kept;
static char kept_key[40], kept_line[80];

static void keep(void *context, const struct ind_alert *alert)
{
    (void)context;
    kept = *alert;
    snprintf(kept_key, sizeof kept_key, "%s", alert->key);
    snprintf(kept_line, sizeof kept_line, "%s", alert->lines[0]);
    kept.key = kept_key;
    kept.note = NULL;
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        kept.lines[i] = i ? NULL : kept_line;
}

static void one_that_is_open_goes_on_after_a_start(void **state)
{
    const struct ind_alert_rule rule = {.name = "down", .kind = IND_ALERT_EACH, .remind = 3600 * IND_SECOND};
    (void)state;
    begin(&rule, 1, 1 << 20);
    hear("down", "a", 10, 3, false);
    ind_alerts_visit(alerts, true, keep, NULL);
    assert_string_equal(kept.key, "a");
    ind_alerts_free(alerts);
    begin(&rule, 1, 1 << 20);
    assert_true(ind_alerts_restore(alerts, ind_slice_of("down"), &kept, at(100)));
    assert_false(ind_alerts_restore(alerts, ind_slice_of("gone"), &kept, at(100)));
    hear("down", "a", 110, 1, false);
    assert_int_equal(seen_count, 0);
    pass(110, 3710);
    expect(0, IND_ALERT_REMINDER, "a", 3700, 4);
    assert_int_equal(ind_alerts_acknowledge(alerts, "down", "a", "tern", NULL, at(4000)), 1);
    kept.state = IND_ALERT_ACKNOWLEDGED; /* by somebody, while no collector ran */
    assert_true(ind_alerts_restore(alerts, ind_slice_of("down"), &kept, at(4100)));
    expect(2, IND_ALERT_OVER, "a", 4100, 3);
    assert_int_equal(ind_alerts_counts(alerts).open, 0);
}

/* What was counted, out of one table and into the next. */
struct counted_one {
    struct ind_alert alert;
    struct ind_alert_counted counted;
    char key[40], line[80];
};
static struct counted_one all_counted[KEYS];
static size_t all_count;

static void keep_counted(void *context, const struct ind_alert *alert,
                         const struct ind_alert_counted *counted)
{
    struct counted_one *one = &all_counted[all_count++];
    (void)context;
    *one = (struct counted_one){.alert = {.first = alert->first, .last = alert->last, .count = alert->count},
                                .counted = *counted};
    snprintf(one->key, sizeof one->key, "%s", alert->key);
    snprintf(one->line, sizeof one->line, "%s", alert->lines[0]);
    one->alert.key = one->key;
    one->alert.lines[0] = one->line;
}

/* A start, with another steady clock, after `gap` seconds; the wall clock is at `now` then. */
static struct ind_clocks start_anew(const struct ind_alert_rule *rule, int64_t now, int64_t gap,
                                    int64_t *since)
{
    static int64_t boots = 1;
    all_count = 0;
    const struct ind_clocks before = {(now - gap) * IND_SECOND, {(now - gap + *since) * IND_SECOND}};
    (void)ind_alerts_visit_counted(alerts, KEYS, keep_counted, NULL, before);
    assert_int_equal(ind_alerts_visit_counted(alerts, KEYS, keep_counted, NULL, before), 0);
    ind_alerts_free(alerts);
    *since = 1 + boots++ * 7 % 40 - now; /* the machine has just begun */
    const struct ind_clocks clocks = {now * IND_SECOND, {(now + *since) * IND_SECOND}};
    const struct ind_alerts_settings settings = {.memory = 1 << 20, .happened = happened};
    alerts = ind_alerts_new(&settings);
    assert_true(ind_alerts_adopt(alerts, rule, 1, clocks));
    for (size_t i = 0; i < all_count; i++) {
        const struct counted_one *one = &all_counted[i];
        assert_false(
            ind_alerts_restore_counted(alerts, ind_slice_of("r"), "app", &one->alert, &one->counted, clocks));
        assert_true(
            ind_alerts_restore_counted(alerts, ind_slice_of("r"), "", &one->alert, &one->counted, clocks));
    }
    return clocks;
}

static void hear_at(struct ind_clocks now, const char *key)
{
    const struct ind_alert_cause cause = {.alert = ind_slice_of("r"),
                                          .key = ind_slice_of(key),
                                          .count = 1,
                                          .time = now.wall,
                                          .last = now.wall,
                                          .line = ind_slice_of(key)};
    ind_alerts_tick(alerts, now);
    ind_alerts_hear(alerts, &cause, now);
}

/* Nothing older than the span counts; each start may let a part more go than the window itself does. */
static void what_was_counted_goes_on_after_a_start(void **state)
{
    size_t opened = 0;
    (void)state;
    for (unsigned round = 0; round < 200; round++) {
        uint64_t random = IND_RANDOM_START + round;
        const int64_t part = 1 + ind_random(&random, 9), span = part * IND_ALERT_PARTS;
        const uint64_t most = 2 + ind_random(&random, 12);
        const struct ind_alert_rule rule = {
            .name = "r", .kind = IND_ALERT_MORE, .number = most, .span = span * IND_SECOND};
        int64_t heard[200], now = 5000, since = 1000000;
        size_t count = 0;
        unsigned starts = 0;
        begin(&rule, 1, 1 << 20);
        while (count < 200 && seen_count == 0 && starts < 4) {
            const int64_t gap = ind_random(&random, (unsigned)(9 * part));
            now += gap;
            struct ind_clocks clocks = {now * IND_SECOND, {(now + since) * IND_SECOND}};
            if (ind_random(&random, 4) == 0) {
                clocks = start_anew(&rule, now, gap, &since);
                starts++;
            }
            heard[count++] = now;
            hear_at(clocks, "a");
            uint64_t may = 0, must = 0;
            for (size_t i = 0; i < count; i++) {
                may += now - heard[i] < span;
                must += now - heard[i] < span - part * (1 + (int64_t)starts);
            }
            if (seen_count > 0)
                assert_true(may > most);
            else
                assert_true(must <= most);
        }
        opened += seen_count;
        if (seen_count > 0) {
            const int64_t first = heard[count - seen[0].count] * IND_SECOND;
            assert_true(seen[0].first <= first && first - seen[0].first < part * IND_SECOND * (1 + starts));
            assert_int_equal(seen[0].number, 1);
        }
        ind_alerts_free(alerts);
        alerts = NULL;
    }
    assert_in_range(opened, 20, 180);
}

static void a_window_of_another_length_begins_anew(void **state)
{
    struct ind_alert_rule rule = {.name = "r", .kind = IND_ALERT_MORE, .number = 3, .span = 60 * IND_SECOND};
    (void)state;
    begin(&rule, 1, 1 << 20);
    hear("r", "a", 10, 3, false);
    rule.span = 3600 * IND_SECOND;
    assert_true(ind_alerts_adopt(alerts, &rule, 1, at(20)));
    hear("r", "a", 30, 1, false);
    hear("r", "a", 4000, 3, false); /* those of 30 lie before the window */
    assert_int_equal(seen_count, 0);
    hear("r", "a", 4010, 1, false);
    expect(0, IND_ALERT_OPENED, "a", 4010, 4);
}

static void rules_come_and_go(void **state)
{
    struct ind_alert_rule rules[2] = {{.name = "one", .kind = IND_ALERT_EACH},
                                      {.name = "two", .kind = IND_ALERT_EACH}};
    (void)state;
    begin(rules, 2, 1 << 20);
    hear("one", "", 10, 1, false);
    hear("two", "", 10, 1, false);
    assert_true(ind_alerts_adopt(alerts, rules, 1, at(20)));
    expect(2, IND_ALERT_OVER, "", 20, 1);
    assert_string_equal(seen[2].name, "two");
    hear("two", "", 30, 1, false);
    assert_int_equal(seen_count, 3);
    rules[0].by_text = "device"; /* its keys mean something else */
    assert_true(ind_alerts_adopt(alerts, rules, 1, at(40)));
    assert_int_equal(seen_count, 4);
    assert_int_equal(ind_alerts_counts(alerts).open, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_teardown(each_message_opens_one_that_stays_until_somebody_has_seen_to_it, tear_down),
        cmocka_unit_test_teardown(a_message_ends_it_and_what_comes_soon_after_joins, tear_down),
        cmocka_unit_test_teardown(silence_is_told_once_and_ends_with_a_message, tear_down),
        cmocka_unit_test_teardown(too_few_are_told_and_enough_end_it, tear_down),
        cmocka_unit_test_teardown(random_causes_open_as_a_second_way_says, tear_down),
        cmocka_unit_test_teardown(many_keys_stay_within_their_memory_and_the_oldest_go, tear_down),
        cmocka_unit_test_teardown(too_many_open_ones_come_together, tear_down),
        cmocka_unit_test_teardown(one_that_is_open_goes_on_after_a_start, tear_down),
        cmocka_unit_test_teardown(what_was_counted_goes_on_after_a_start, tear_down),
        cmocka_unit_test_teardown(a_window_of_another_length_begins_anew, tear_down),
        cmocka_unit_test_teardown(rules_come_and_go, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
