/* Causes, from one thread to another: none is lost or counted twice, whatever is taken when; what has no room
 * is counted as missed. */
#include "collect/queue/causes.h"
#include "support/random.h"
#include "support/support.h"

#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>

enum { KEYS = 50, ALL = 400000 };

static struct ind_causes *causes;
static uint64_t taken[KEYS], lines;
static atomic_bool done;

static void count(void *context, const struct ind_alert_cause *cause)
{
    unsigned key;
    (void)context;
    assert_true(ind_slice_equal(cause->alert, IND_SLICE("alert")));
    char text[24] = "";
    memcpy(text, cause->key.at, cause->key.length < 20 ? cause->key.length : 20);
    assert_int_equal(sscanf(text, "key %u", &key), 1);
    taken[key % KEYS] += cause->count;
    if (cause->line.length) {
        assert_true(cause->line.length <= IND_ALERT_LINE);
        assert_int_equal(cause->line.at[0], 'L');
        lines++;
    }
    assert_true(cause->time <= cause->last);
}

static void *add_all(void *context)
{
    uint64_t random = IND_RANDOM_START, *added = context;
    char key[20], line[600];
    memset(line, 'L', sizeof line);
    for (int64_t i = 0; i < ALL; i++) {
        const unsigned number = ind_random(&random, KEYS);
        const int length = snprintf(key, sizeof key, "key %u", number);
        const struct ind_alert_cause cause = {.alert = IND_SLICE("alert"),
                                              .key = {key, (size_t)length},
                                              .count = 1,
                                              .time = i * (IND_SECOND / 5000),
                                              .last = i * (IND_SECOND / 5000)};
        if (ind_causes_add(causes, &cause))
            ind_causes_add_line(causes, (struct ind_slice){line, ind_random(&random, sizeof line)});
        added[number]++;
    }
    atomic_store(&done, true);
    return NULL;
}

static void none_is_lost_between_two_threads(void **state)
{
    uint64_t added[KEYS] = {0}, missed = 0, sum = 0;
    pthread_t thread;
    (void)state;
    causes = ind_causes_new();
    assert_non_null(causes);
    assert_int_equal(pthread_create(&thread, NULL, add_all, added), 0);
    while (!atomic_load(&done))
        missed += ind_causes_take(causes, count, NULL);
    pthread_join(thread, NULL);
    for (int i = 0; i < 2; i++)
        missed += ind_causes_take(causes, count, NULL);
    for (unsigned i = 0; i < KEYS; i++)
        sum += taken[i];
    assert_int_equal(sum + missed, ALL);
    for (unsigned i = 0; i < KEYS && missed == 0; i++)
        assert_int_equal(taken[i], added[i]);
    assert_true(lines > 0);
    ind_causes_free(causes);
}

static void ignore(void *context, const struct ind_alert_cause *cause)
{
    *(uint64_t *)context += cause->count;
}

static void what_has_no_room_is_missed(void **state)
{
    uint64_t got = 0;
    char key[24];
    (void)state;
    causes = ind_causes_new();
    for (unsigned i = 0; i < 100000; i++) {
        const int length = snprintf(key, sizeof key, "key %u", i);
        const struct ind_alert_cause cause = {
            .alert = IND_SLICE("alert"), .key = {key, (size_t)length}, .count = 1};
        (void)ind_causes_add(causes, &cause);
    }
    const uint64_t missed = ind_causes_take(causes, ignore, &got);
    assert_true(missed > 0 && got > 1000);
    assert_int_equal(missed + got, 100000);
    assert_int_equal(ind_causes_take(causes, ignore, &got), 0);
    ind_causes_free(causes);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(none_is_lost_between_two_threads),
        cmocka_unit_test(what_has_no_room_is_missed),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
