/* What waits between the sockets and the writer: burst buffer, connections without room, the door, rings. */
#include "support/support.h"

#include "collect/burst.h"
#include "collect/guests.h"
#include "collect/ring.h"
#include <sys/socket.h>
#include <unistd.h>

/* ---- The burst buffer ---- */

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
    while (ind_burst_add(first, &record))
        count++;
    assert_true(count >= 100 && count * record.length < 8 << 20);
    assert_int_equal(ind_slabs_left(slabs), 0);
    assert_null(ind_burst_add(second, &record)); /* all of it is shared */
    for (; count > 0; count--)
        ind_burst_drop(first);
    assert_null(ind_burst_first(first, &bytes));
    assert_non_null(ind_burst_add(second, &record));
    for (int i = 0; i < 3; i++)
        ind_slabs_trim(slabs);
    assert_int_equal(ind_slabs_left(slabs), ind_slabs_count(slabs) - 2);
    ind_burst_free(first);
    ind_burst_free(second);
    ind_slabs_free(slabs);
}

/* ---- Connections ---- */

struct taken {
    size_t room, count;
    char text[400];
};

static bool take(void *context, const struct ind_connection *guest, struct ind_slice first,
                 struct ind_slice rest, bool cut)
{
    struct taken *taken = context;
    (void)guest;
    if (taken->count == taken->room)
        return false;
    taken->count++;
    size_t used = strlen(taken->text);
    snprintf(taken->text + used, sizeof taken->text - used, "[%.*s%.*s%s]", IND_ARG(first), IND_ARG(rest),
             cut ? "…" : "");
    return true;
}

static struct ind_admission *counts; /* what guests hold is counted there */

static struct ind_connection *new_guest(void)
{
    int ends[2];
    struct ind_address address = {0};
    if (!counts)
        counts = ind_admission_new(1);
    assert_int_equal(socketpair(AF_UNIX, SOCK_STREAM, 0, ends), 0);
    close(ends[1]);
    struct ind_connection *guest = ind_connection_new(counts, NULL, ends[0], &address);
    assert_non_null(guest);
    return guest;
}

static void what_finds_no_room_comes_first_the_next_time(void **state)
{
    struct ind_connection *guest = new_guest();
    struct taken taken = {.room = 2};
    (void)state;
    assert_int_equal(ind_connection_feed(guest, IND_SLICE("<1>a\n<1>b\n<1>c\n<1>d\n<1>e"), take, &taken),
                     IND_CONNECTION_FULL);
    assert_string_equal(taken.text, "[<1>a][<1>b]");
    taken.room = 3;
    assert_int_equal(ind_connection_feed(guest, IND_NOTHING, take, &taken), IND_CONNECTION_FULL);
    taken.room = 10;
    assert_int_equal(ind_connection_feed(guest, IND_NOTHING, take, &taken), IND_CONNECTION_FED);
    assert_int_equal(ind_connection_feed(guest, IND_SLICE("e\n<1>f"), take, &taken), IND_CONNECTION_FED);
    assert_string_equal(taken.text, "[<1>a][<1>b][<1>c][<1>d][<1>ee]");
    taken.room = taken.count;
    assert_false(ind_connection_finish(guest, true, take, &taken));
    taken.room++;
    assert_true(ind_connection_finish(guest, true, take, &taken));
    assert_string_equal(taken.text, "[<1>a][<1>b][<1>c][<1>d][<1>ee][<1>f…]");
    ind_connection_free(guest);
    assert_int_equal(ind_admission_held(counts), 0);
}

static void a_message_in_many_portions_is_one(void **state)
{
    struct ind_connection *guest = new_guest();
    struct taken taken = {.room = 10};
    const char text[] = "11 <13>a b c d7 <13>efg";
    (void)state;
    for (size_t i = 0; i < sizeof text - 1; i++)
        assert_int_equal(ind_connection_feed(guest, (struct ind_slice){text + i, 1}, take, &taken),
                         IND_CONNECTION_FED);
    assert_string_equal(taken.text, "[<13>a b c d][<13>efg]");
    ind_connection_free(guest);
    assert_int_equal(ind_admission_held(counts), 0);
}

static void no_address_may_have_more_than_half_of_all_connections(void **state)
{
    struct ind_admission *door = ind_admission_new(4);
    struct ind_address one = ind_address_v4((const uint8_t[]){192, 0, 2, 1}),
                       two = ind_address_v4((const uint8_t[]){192, 0, 2, 2}),
                       three = ind_address_v4((const uint8_t[]){192, 0, 2, 3});
    (void)state;
    assert_true(ind_admission_enter(door, &one) && ind_admission_enter(door, &one));
    assert_false(ind_admission_enter(door, &one));
    assert_true(ind_admission_enter(door, &two) && ind_admission_enter(door, &three));
    assert_false(ind_admission_enter(door, &three)); /* all are taken */
    ind_admission_leave(door, &one);
    assert_true(ind_admission_enter(door, &three));
    ind_admission_free(door);
}

/* ---- Rings ---- */

static bool any_mark(const struct ind_marker *mark)
{
    return mark != NULL;
}

static void count_before(void *context, struct ind_marker *mark, const struct ind_batch *batch)
{
    (void)mark;
    *(size_t *)context += batch != NULL;
}

static void a_mark_keeps_its_place_and_can_be_pulled_out(void **state)
{
    struct ind_rings *rings = ind_rings_new(2, 3, NULL, NULL);
    char place;
    struct ind_marker *mark = (struct ind_marker *)(void *)&place;
    bool ended, held[2] = {false, false};
    (void)state;
    for (int i = 0; i < 2; i++)
        ind_ring_put(rings, 0, ind_ring_empty(rings, 0, 0));
    ind_ring_put_marker(rings, 0, mark);
    ind_ring_put(rings, 0, ind_ring_empty(rings, 0, 0));
    assert_null(ind_ring_empty(rings, 0, 0)); /* all are on their way */
    ind_ring_give_back(rings, 1, ind_ring_empty(rings, 1, 0));
    size_t before = 0;
    assert_false(ind_ring_pull(rings, 1, any_mark, count_before, &before));
    assert_true(ind_ring_pull(rings, 0, any_mark, count_before, &before));
    assert_int_equal(before, 2);
    ind_ring_put_marker(rings, 0, mark);
    for (int i = 0; i < 4; i++) {
        struct ind_ring_item item = ind_rings_take(rings, held, 10, &ended);
        assert_int_equal(item.batch != NULL, i < 3);
        assert_int_equal(item.mark != NULL, i == 3);
        if (item.batch)
            ind_ring_give_back(rings, item.ring, item.batch);
    }
    assert_null(ind_rings_take(rings, held, 1, &ended).batch);
    assert_false(ended);
    ind_ring_end(rings, 0);
    ind_ring_end(rings, 1);
    (void)ind_rings_take(rings, held, 1, &ended);
    assert_true(ended);
    ind_rings_free(rings);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(records_come_out_as_they_went_in),
        cmocka_unit_test(the_pool_bounds_what_can_wait_and_comes_back),
        cmocka_unit_test(what_finds_no_room_comes_first_the_next_time),
        cmocka_unit_test(a_message_in_many_portions_is_one),
        cmocka_unit_test(no_address_may_have_more_than_half_of_all_connections),
        cmocka_unit_test(a_mark_keeps_its_place_and_can_be_pulled_out),
    };
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_admission_free(counts);
    return failed;
}
