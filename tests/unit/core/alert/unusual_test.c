/* What is usual: against a second way on random weeks, and what people would call odd. */
#include "core/alert/unusual.h"
#include "support/random.h"
#include "support/support.h"

#include <stdlib.h>

static int by_size(const void *a, const void *b)
{
    const uint64_t x = *(const uint64_t *)a, y = *(const uint64_t *)b;
    return (x > y) - (x < y);
}

static uint64_t median_of(const uint64_t *list, size_t count)
{
    uint64_t sorted[8];
    memcpy(sorted, list, count * sizeof *list);
    qsort(sorted, count, sizeof *sorted, by_size);
    return count % 2 ? sorted[count / 2] : (sorted[count / 2 - 1] + sorted[count / 2]) / 2;
}

static bool is_unusual(uint64_t volume, const uint64_t *past, size_t count)
{
    uint64_t off[8];
    const uint64_t median = median_of(past, count);
    for (size_t i = 0; i < count; i++)
        off[i] = past[i] > median ? past[i] - median : median - past[i];
    const double spread = 1.4826 * (double)median_of(off, count);
    const double distance = volume > median ? (double)(volume - median) : (double)(median - volume);
    return distance >= 20 && distance > 5 * spread && distance * distance > 25.0 * (double)median &&
           distance > 5.0 * (double)median / 10 && (median > 0 || distance > 5);
}

static void random_weeks_are_judged_as_a_second_way_says(void **state)
{
    uint64_t random = IND_RANDOM_START;
    unsigned unusual = 0;
    (void)state;
    for (unsigned round = 0; round < 20000; round++) {
        const size_t count = IND_UNUSUAL_LEAST + ind_random(&random, 4);
        const unsigned size = 1u << ind_random(&random, 20), jitter = 1 + ind_random(&random, size);
        uint64_t past[IND_UNUSUAL_WEEKS];
        for (size_t i = 0; i < count; i++)
            past[i] = size + ind_random(&random, jitter);
        const uint64_t volume = ind_random(&random, 6 * size + 60);
        const struct ind_usual usual = ind_usual_of(volume, past, count);
        assert_true(usual.known);
        assert_int_equal(usual.median, median_of(past, count));
        assert_int_equal(usual.unusual, is_unusual(volume, past, count));
        unusual += usual.unusual;
    }
    assert_true(unusual > 1000 && unusual < 19000);
}

static void what_people_would_call_odd_is(void **state)
{
    static const uint64_t steady[] = {1000, 1040, 980, 1010, 990}, quiet[] = {0, 0, 1, 0},
                          one_odd[] = {1000, 1020, 50000, 990, 1010};
    char text[200];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    (void)state;
    assert_false(ind_usual_of(1200, steady, 5).unusual);
    assert_true(ind_usual_of(5000, steady, 5).unusual);
    assert_true(ind_usual_of(0, steady, 5).unusual);
    assert_false(ind_usual_of(19, quiet, 4).unusual); /* few are never unusual */
    assert_true(ind_usual_of(400, quiet, 4).unusual);
    assert_true(ind_usual_of(5000, one_odd, 5).unusual); /* one odd week hides nothing */
    assert_false(ind_usual_of(1000, one_odd, 5).unusual);
    assert_false(ind_usual_of(5000, steady, 2).known);
    const struct ind_usual usual = ind_usual_of(5000, steady, 5);
    ind_usual_write(&usual, 5000, 23, 5, &out);
    text[out.length] = '\0';
    assert_string_equal(
        text, "5000 messages from 23:00 to 00:00 UTC; in the same hour of 5 weeks before 980 to 1040, "
              "the median 1000");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(random_weeks_are_judged_as_a_second_way_says),
        cmocka_unit_test(what_people_would_call_odd_is),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
