/* What is under way, against a list of records each of which knows what became of it; and whom to try. */
#include "core/queue/targets.h"
#include "core/queue/window.h"
#include "support/random.h"
#include "support/support.h"

enum { RECORDS = 3000, LINKS = 3 };

/* Each record is 10 bytes long. A link acknowledges a beginning of its bytes. */
static struct {
    bool had, sent;
    unsigned link;
    uint64_t end;
} records[RECORDS + 50];

static uint64_t taken[LINKS], acknowledged[LINKS];

static void nothing_is_done_that_is_not_had(void **state)
{
    static struct ind_window window;
    uint64_t random = IND_RANDOM_START, to_send = 1, done = 1, counted = 0;
    (void)state;
    while (done < RECORDS) {
        const unsigned link = ind_random(&random, 100003) % LINKS;
        struct ind_burst *again = ind_window_next_again(&window);
        switch (ind_random(&random, 100003) % 5) {
        case 0:
        case 1:
            if (again) {
                uint64_t first = again->first;
                const uint64_t next = again->next, had = again->skip / 10;
                assert_true(had <= next - first);
                first += had;
                for (uint64_t i = first; i < next; i++) {
                    taken[link] += 10;
                    records[i].link = link;
                    records[i].end = taken[link];
                }
                ind_window_send_again(&window, again, first, link, taken[link] - 10 * (next - first),
                                      taken[link]);
                for (uint64_t i = first - had; i < first; i++)
                    records[i].had = true;
            } else if (!ind_window_is_full(&window) && to_send < RECORDS) {
                const unsigned count = 1 + ind_random(&random, 20);
                const struct ind_burst burst = {.first = to_send,
                                                .next = to_send + count,
                                                .link = link,
                                                .start = taken[link],
                                                .end = taken[link] + 10 * count};
                for (unsigned i = 0; i < count; i++, to_send++) {
                    taken[link] += 10;
                    records[to_send].sent = true;
                    records[to_send].link = link;
                    records[to_send].end = taken[link];
                }
                ind_window_add(&window, &burst);
            }
            break;
        case 2:
        case 3:
            acknowledged[link] += ind_random(&random, (unsigned)(taken[link] - acknowledged[link] + 1));
            counted += ind_window_acknowledge(&window, link, acknowledged[link]);
            break;
        default:
            if (ind_random(&random, 100003) % 4)
                break;
            (void)ind_window_break(&window, link, acknowledged[link]);
            assert_false(ind_window_is_under_way(&window, link));
            taken[link] =
                acknowledged[link]; /* the next link begins; counted on, so that none is taken for another */
        }
        for (unsigned i = 1; i < to_send; i++)
            records[i].had |= records[i].sent && records[i].end <= acknowledged[records[i].link] &&
                              records[i].end <= taken[records[i].link];
        const uint64_t now_done = ind_window_done(&window, to_send);
        assert_true(now_done >= done);
        for (uint64_t i = done; i < now_done; i++)
            assert_true(records[i].had);
        done = now_done;
    }
    assert_in_range(counted, RECORDS / 2,
                    done); /* those of bursts that broke in the middle were had before */
}

static void records_that_are_gone_are_forgotten(void **state)
{
    struct ind_window window = {.count = 0};
    (void)state;
    for (unsigned i = 0; i < 5; i++)
        ind_window_add(&window, &(struct ind_burst){.first = 1 + 10 * i,
                                                    .next = 11 + 10 * i,
                                                    .start = 100 * i,
                                                    .end = 100 * (i + 1),
                                                    .time = (ind_time)(1 + i)});
    assert_int_equal(ind_window_break(&window, 0, 150), 40);
    assert_int_equal(ind_window_done(&window, 51), 11);
    assert_int_equal(ind_window_next_again(&window)->skip, 50);
    assert_int_equal(ind_window_oldest(&window), 2);
    ind_window_forget(&window, 25);
    assert_int_equal(ind_window_done(&window, 51), 25);
    assert_int_equal(ind_window_next_again(&window)->first, 25);
    ind_window_forget(&window, 51);
    assert_null(ind_window_next_again(&window));
    assert_int_equal(ind_window_done(&window, 51), 51);
    assert_int_equal(ind_window_oldest(&window), IND_TIME_NONE);
}

static struct ind_steady at(int64_t milliseconds)
{
    return (struct ind_steady){1 + milliseconds * 1000000};
}

static void the_first_that_answers_is_used(void **state)
{
    struct ind_targets targets = {.count = 3};
    int64_t wait;
    (void)state;
    assert_int_equal(ind_targets_to_try(&targets, at(0), &wait), 0);
    ind_target_is_down(&targets.list[0], false, at(0));
    assert_int_equal(ind_targets_to_try(&targets, at(0), &wait), 1);
    ind_target_is_up(&targets.list[1], at(0));
    assert_int_equal(ind_targets_first_up(&targets), 1);
    assert_int_equal(ind_targets_to_try(&targets, at(100), &wait), -1); /* neither the third */
    assert_true(wait == 150 * INT64_C(1000000) || wait == INT64_MAX);
    assert_int_equal(ind_targets_to_try(&targets, at(250), &wait), 0); /* a better one is asked again */
    ind_target_is_up(&targets.list[0], at(250));
    assert_int_equal(ind_targets_to_try(&targets, at(9000), &wait), -1);
    assert_int_equal(wait, INT64_MAX);
}

static void pauses_grow_to_a_minute(void **state)
{
    struct ind_targets targets = {.count = 1};
    int64_t now = 0, wait;
    (void)state;
    for (int64_t pause = 250; pause < 200000; pause *= 2) {
        const int64_t expected = pause < 60000 ? pause : 60000;
        ind_target_is_down(&targets.list[0], false, at(now));
        assert_int_equal(ind_targets_to_try(&targets, at(now), &wait), -1);
        assert_int_equal(wait, expected * 1000000);
        now += expected;
        assert_int_equal(ind_targets_to_try(&targets, at(now), &wait), 0);
    }
    ind_target_is_down(&targets.list[0], true, at(now)); /* it had taken something */
    (void)ind_targets_to_try(&targets, at(now), &wait);
    assert_int_equal(wait, 250 * INT64_C(1000000));
}

static void all_are_used_where_they_share(void **state)
{
    struct ind_targets targets = {.count = 2, .share = true};
    int64_t wait;
    (void)state;
    ind_target_is_up(&targets.list[0], at(0));
    assert_int_equal(ind_targets_to_try(&targets, at(0), &wait), 1);
    ind_target_is_up(&targets.list[1], at(0));
    assert_int_equal(ind_targets_to_try(&targets, at(0), &wait), -1);
    ind_target_is_down(&targets.list[0], false, at(10));
    assert_int_equal(ind_targets_to_try(&targets, at(300), &wait), 0);
    assert_int_equal(ind_targets_first_up(&targets), 1);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(nothing_is_done_that_is_not_had),
        cmocka_unit_test(records_that_are_gone_are_forgotten),
        cmocka_unit_test(the_first_that_answers_is_used),
        cmocka_unit_test(pauses_grow_to_a_minute),
        cmocka_unit_test(all_are_used_where_they_share),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
