/* What waits between the sockets and the writer: the burst buffer, batches, rings. */
#include "support/random.h"
#include "support/support.h"

#include "collect/queue/burst.h"
#include "collect/queue/ring.h"

static void records_come_out_as_they_went_in(void **state)
{
    enum { COUNT = 50000 };
    struct ind_slabs *slabs = ind_slabs_new(16 << 20, 1);
    struct ind_burst *burst = ind_burst_new(slabs);
    const char *bytes;
    (void)state;
    assert_true(ind_burst_idle(burst));
    for (uint32_t i = 0; i < COUNT; i++) {
        struct ind_record record = {.length = i % 300, .listener = (uint16_t)(i % 7), .received = i};
        char *at = ind_burst_add(burst, &record);
        assert_non_null(at);
        memset(at, (char)i, record.length);
    }
    assert_false(ind_burst_idle(burst));
    for (uint32_t i = 0; i < COUNT; i++) {
        const struct ind_record *record = ind_burst_first(burst, &bytes);
        assert_non_null(record);
        assert_int_equal(record->received, i);
        assert_int_equal(record->length, i % 300);
        for (uint32_t n = 0; n < record->length; n++)
            assert_int_equal(bytes[n], (char)i);
        ind_burst_drop(burst);
    }
    assert_null(ind_burst_first(burst, &bytes));
    assert_true(ind_burst_idle(burst));
    ind_burst_free(burst);
    ind_slabs_free(slabs);
}

static void the_pool_bounds_what_can_wait_and_comes_back(void **state)
{
    struct ind_slabs *slabs = ind_slabs_new(8 << 20, 2);
    struct ind_burst *first = ind_burst_new(slabs), *second = ind_burst_new(slabs);
    struct ind_record record = {.length = 60000};
    const char *bytes;
    size_t count = 0;
    (void)state;
    assert_true(ind_burst_has_room(first, IND_SLAB_BYTES) && !ind_burst_has_room(first, IND_SLAB_BYTES + 1));
    while (ind_burst_add(first, &record))
        count++;
    assert_false(ind_burst_has_room(first, ind_record_size(&record)) ||
                 ind_burst_has_room(second, ind_record_size(&record)));
    assert_true(ind_burst_has_room(first, 64)); /* at the end of its last slab */
    assert_true(count >= 100 && count * record.length < 8 << 20);
    assert_int_equal(ind_slabs_left(slabs), 0);
    assert_null(ind_burst_add(second, &record)); /* all of it is shared */
    for (; count > 0; count--)
        ind_burst_drop(first);
    assert_null(ind_burst_first(first, &bytes));
    assert_true(ind_burst_has_room(second, ind_record_size(&record)));
    assert_non_null(ind_burst_add(second, &record));
    for (int i = 0; i < 3; i++)
        ind_slabs_trim(slabs);
    assert_int_equal(ind_slabs_left(slabs), ind_slabs_count(slabs) - 2);
    ind_burst_free(first);
    ind_burst_free(second);
    ind_slabs_free(slabs);
}

static void a_marker_keeps_its_place_and_can_be_pulled_out(void **state)
{
    struct ind_rings *rings = ind_rings_new(2, IND_RING_BATCHES, NULL, NULL);
    struct ind_marker marker = {.kind = IND_MARKER_SNAPSHOT}, rules = {.kind = IND_MARKER_RULES};
    const struct ind_batch *before[IND_RING_BATCHES];
    bool ended, held[2] = {false, false};
    size_t count;
    (void)state;
    for (int i = 0; i < 2; i++)
        ind_ring_put(rings, 0, ind_ring_empty(rings, 0, 0));
    ind_ring_put_marker(rings, 0, &rules); /* stays where it is */
    ind_ring_put_marker(rings, 0, &marker);
    for (int i = 2; i < IND_RING_BATCHES; i++)
        ind_ring_put(rings, 0, ind_ring_empty(rings, 0, 0));
    assert_null(ind_ring_empty(rings, 0, 0)); /* all are on their way */
    ind_ring_give_back(rings, 1, ind_ring_empty(rings, 1, 0));
    assert_null(ind_ring_pull_snapshot(rings, 1, before, &count));
    assert_ptr_equal(ind_ring_pull_snapshot(rings, 0, before, &count), &marker);
    assert_int_equal(count, 2);
    ind_ring_put_marker(rings, 0, &marker);
    for (int i = 0; i < IND_RING_BATCHES + 2; i++) {
        struct ind_ring_item item = ind_rings_next(rings, held, 10, &ended);
        assert_int_equal(item.batch != NULL, i != 2 && i != IND_RING_BATCHES + 1);
        assert_ptr_equal(item.marker, i == 2 ? &rules : i == IND_RING_BATCHES + 1 ? &marker : NULL);
        if (i < 2)
            assert_ptr_equal(item.batch, before[i]);
        if (item.batch)
            ind_ring_give_back(rings, item.ring, item.batch);
    }
    assert_null(ind_rings_next(rings, held, 1, &ended).batch);
    assert_false(ended);
    ind_ring_end(rings, 0);
    ind_ring_end(rings, 1);
    (void)ind_rings_next(rings, held, 1, &ended);
    assert_true(ended);
    ind_rings_free(rings);
}

/* As a list for each group would have them, in any mixture of groups, until a batch is full. */
static void lines_of_a_group_keep_their_order(void **state)
{
    enum { GROUPS = 40, ROUNDS = 30 };
    static uint32_t lists[GROUPS][IND_BATCH_LINES];
    uint64_t seed = IND_RANDOM_START;
    struct ind_batch *batch = ind_batch_new();
    (void)state;
    assert_non_null(batch);
    for (int round = 0; round < ROUNDS; round++) {
        size_t counts[GROUPS] = {0};
        const unsigned groups = 1 + ind_random(&seed, GROUPS);
        memset(batch->groups, 0, sizeof batch->groups);
        batch->group_count = groups;
        for (uint32_t number = 0;; number++) {
            const unsigned g = ind_random(&seed, 1 + ind_random(&seed, groups)); /* some have many */
            if (!ind_batch_has_place(batch, &batch->groups[g]))
                break;
            ind_batch_add_line(batch, &batch->groups[g],
                               &(struct ind_batch_line){.offset = number, .length = 1});
            lists[g][counts[g]++] = number;
        }
        assert_false(ind_batch_has_place(batch, NULL));
        assert_true(batch->line_count + (size_t)groups * (IND_LINES_TOGETHER - 1) >= IND_BATCH_LINES);
        for (unsigned g = 0; g < groups; g++) {
            const struct ind_batch_group *group = &batch->groups[g];
            size_t seen = 0;
            uint32_t place = group->first;
            while (place) {
                const uint32_t together = ind_batch_together(group, place);
                assert_in_range(together, 1, IND_LINES_TOGETHER);
                for (uint32_t i = 0; i < together; i++)
                    assert_int_equal(batch->lines[place - 1 + i].offset, lists[g][seen++]);
                for (uint32_t i = 1; i < together; i++, place++)
                    assert_int_equal(ind_batch_after(batch, group, place), place + 1);
                place = ind_batch_after(batch, group, place);
            }
            assert_int_equal(seen, counts[g]);
            assert_int_equal(group->lines, counts[g]);
        }
        ind_batch_clear(batch);
    }
    ind_batch_free(batch);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(records_come_out_as_they_went_in),
        cmocka_unit_test(lines_of_a_group_keep_their_order),
        cmocka_unit_test(the_pool_bounds_what_can_wait_and_comes_back),
        cmocka_unit_test(a_marker_keeps_its_place_and_can_be_pulled_out),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
