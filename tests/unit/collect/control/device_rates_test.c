/* What each account had received a while ago, against a simple second way: everything is kept. */
#include "support/random.h"
#include "support/support.h"

#include "collect/control/device_rates.h"

enum { STEPS = 600, ACCOUNTS = 5 };

static struct ind_steady at(int64_t seconds)
{
    return (struct ind_steady){(seconds + 1) * IND_SECOND};
}

static void any_span_at_any_time(void **state)
{
    (void)state;
    static const unsigned spans[] = {60, 300, 900};
    static uint64_t all[STEPS + 1][ACCOUNTS];
    static int64_t times[STEPS + 1];
    struct ind_ledger ledgers[ACCOUNTS] = {{0}};
    struct ind_ledger_snapshot snapshot = {.ledgers = ledgers};
    struct ind_device_rates *rates = ind_device_rates_new(1, at(0));
    uint64_t random = IND_RANDOM_START;
    for (int step = 1; step <= STEPS; step++) {
        times[step] = times[step - 1] + 1 + (int64_t)ind_random(&random, 20);
        snapshot.account_count = (uint32_t)(step < 100 ? step * ACCOUNTS / 100 : ACCOUNTS);
        for (uint32_t i = 0; i < snapshot.account_count; i++)
            all[step][i] = ledgers[i].received += ind_random(&random, 1000);
        for (int s = 0; s < 3; s++) {
            const struct ind_device_rates_then then =
                ind_device_rates_since(rates, spans[s], at(times[step]));
            int found = 0;
            while (found < step && (double)(times[step] - times[found]) > then.seconds + 0.001)
                found++;
            assert_true(then.seconds > (double)(times[step] - times[found]) - 0.001); /* a moment there was */
            /* As long ago as was asked for, where there is such; not half a minute and a step more. */
            if (times[step] >= spans[s])
                assert_true(then.seconds >= spans[s]);
            assert_true(then.seconds <= spans[s] + 30 + 20);
            for (uint32_t i = 0; i < ACCOUNTS; i++)
                assert_int_equal(ind_device_rates_received(rates, then, 0, i), all[found][i]);
        }
        ind_device_rates_add(rates, &snapshot, at(times[step]));
    }
    ind_device_rates_free(rates);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(any_span_at_any_time)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
