/* What came in the last minutes, against a deliberately simple second way to the same. */
#include "support/random.h"
#include "support/support.h"

#include "collect/control/history.h"

static struct ind_steady at(double seconds)
{
    return (struct ind_steady){(int64_t)(seconds * 1e9) + IND_SECOND};
}

static void a_rate_is_over_what_there_is(void **state)
{
    (void)state;
    struct ind_history history;
    double seconds;
    ind_history_begin(&history, at(0));
    struct ind_history_sample now = {at(5), 100, 1000, 1, 0};
    struct ind_history_sample since = ind_history_since(&history, &now, 60, &seconds);
    assert_int_equal(since.received, 100);
    assert_int_equal(since.lost, 1);
    assert_true(seconds > 4.99 && seconds < 5.01);
    ind_history_add(&history, &now); /* too early: nothing is kept of it */
    assert_int_equal(history.count, 1);
    ind_history_begin(&history, at(0));
    now.at = at(0);
    (void)ind_history_since(&history, &now, 60, &seconds);
    assert_true(seconds == 0);
}

enum { STEPS = 400 };

static void any_span_at_any_time(void **state)
{
    (void)state;
    static const unsigned spans[] = {60, 300, 900};
    static struct ind_history_sample all[STEPS + 1];
    struct ind_history history;
    uint64_t random = IND_RANDOM_START;
    double time = 0;
    ind_history_begin(&history, at(0));
    all[0] = (struct ind_history_sample){.at = at(0)};
    for (int step = 1; step <= STEPS; step++) {
        time += 10 + ind_random(&random, 30) / 10.0;
        all[step] = all[step - 1];
        all[step].at = at(time);
        all[step].received += ind_random(&random, 1000);
        for (int i = 0; i < 3; i++) {
            int from = step - 1; /* the oldest that is not older, or the one before */
            double seconds;
            while (from > 0 && step - from < IND_HISTORY_SAMPLES &&
                   ind_steady_from(all[from - 1].at, all[step].at) <= (int64_t)spans[i] * IND_SECOND)
                from--;
            struct ind_history_sample since = ind_history_since(&history, &all[step], spans[i], &seconds);
            assert_int_equal(since.received, all[step].received - all[from].received);
        }
        ind_history_add(&history, &all[step]);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_rate_is_over_what_there_is),
        cmocka_unit_test(any_span_at_any_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
