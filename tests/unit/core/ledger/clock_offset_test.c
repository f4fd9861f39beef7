#include "support/support.h"

#include "core/ledger/clock_offset.h"

static struct ind_clock_offset lag;
static ind_time now;

static const char *words(void)
{
    static char text[200];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    struct ind_clock_offset_summary summary;
    ind_clock_offset_sum_up(&lag, &summary);
    ind_clock_offset_write(&out, &summary);
    text[out.length] = '\0';
    return text;
}

static void begin(void)
{
    lag = (struct ind_clock_offset){0};
    now = INT64_C(1795409100) * IND_SECOND;
}

/* `count` messages, `every` seconds apart, from a clock that is `off` seconds behind and loses `drift` a day.
 */
static void hear(int count, int every, double off, double drift)
{
    ind_time start = now;
    for (int i = 0; i < count; i++, now += every * IND_SECOND) {
        double days = (double)(now - start) / 86400e9;
        ind_clock_offset_add(&lag, now, (ind_time)((off + drift * days + 0.01 * (i % 7)) * 1e9), false);
    }
}

static void a_clock_is_told_in_words(void **state)
{
    static const struct {
        double off;
        const char *words;
    } cases[] = {
        {0.3, "right"},
        {-1.2, "right"},
        {12, "12 s behind"},
        {-190, "3 min 10 s ahead"},
        {18000.4, "5 h 00 min behind: is its zone set?"},
        {-3599, "1 h 00 min ahead: is its zone set?"},
        {5 * 3600 + 1800, "5 h 30 min behind: is its zone set?"},
        {5 * 3600 + 300, "5 h 05 min behind"},
        {86400 * 3 + 3600 * 4, "3 d 04 h behind"},
        {86400.0 * 20000, "never set"},
    };
    (void)state;
    begin();
    assert_string_equal(words(), "-");
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        begin();
        hear(5, 1, cases[i].off, 0);
        assert_string_equal(words(), cases[i].words);
    }
}

static void one_late_message_changes_nothing(void **state)
{
    (void)state;
    begin();
    hear(20, 1, 0.5, 0);
    ind_clock_offset_add(&lag, now, 4000 * IND_SECOND, false);
    ind_clock_offset_add(&lag, now, -4000 * IND_SECOND, false);
    assert_string_equal(words(), "right");
}

static void a_wide_spread_is_told(void **state)
{
    (void)state;
    begin();
    for (int i = 0; i < 32; i++)
        ind_clock_offset_add(&lag, now, i * IND_SECOND, false);
    assert_string_equal(words(), "16 s behind, give or take 8 s");
}

static void a_clock_that_says_it_is_not_set_is_believed(void **state)
{
    (void)state;
    begin();
    for (int i = 0; i < 4; i++)
        ind_clock_offset_add(&lag, now, IND_SECOND, true);
    assert_string_equal(words(), "never set");
    hear(40, 1, 0.1, 0);
    assert_string_equal(words(), "right");
    begin();
    ind_clock_offset_add(&lag, now, IND_TIME_NONE, true); /* only how long it has run */
    assert_string_equal(words(), "never set");
    begin();
    ind_clock_offset_add(&lag, now, IND_TIME_NONE, false);
    assert_string_equal(words(), "-");
}

static void a_drift_is_told_after_an_hour(void **state)
{
    (void)state;
    begin();
    hear(64, 10, 0.2, 4);
    assert_string_equal(words(), "right"); /* too early to tell */
    begin();
    hear(2000, 60, 0.2, 2);
    assert_string_equal(words(), "3 s behind, drifts 2 s a day");
    begin();
    hear(2000, 60, 0, 0);
    assert_string_equal(words(), "right");
    /* Somebody sets the clock: that is no drift. */
    begin();
    hear(200, 60, 7200, 0);
    hear(200, 60, 0, 0);
    assert_string_equal(words(), "right");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_clock_is_told_in_words),
        cmocka_unit_test(one_late_message_changes_nothing),
        cmocka_unit_test(a_wide_spread_is_told),
        cmocka_unit_test(a_clock_that_says_it_is_not_set_is_believed),
        cmocka_unit_test(a_drift_is_told_after_an_hour),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
