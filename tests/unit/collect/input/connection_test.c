/* Stream connections: without room, in portions; and how many there may be. */
#include "support/support.h"

#include "collect/input/connection.h"
#include <sys/socket.h>
#include <unistd.h>

struct taken {
    size_t room, count;
    char text[400];
};

static bool take(void *context, const struct ind_connection *connection, struct ind_slice message, bool cut)
{
    struct taken *taken = context;
    (void)connection;
    if (taken->count == taken->room)
        return false;
    taken->count++;
    size_t used = strlen(taken->text);
    snprintf(taken->text + used, sizeof taken->text - used, "[%.*s%s]", IND_ARG(message), cut ? "…" : "");
    return true;
}

static struct ind_admission *counts; /* what connections hold is counted there */

static struct ind_connection *new_connection(void)
{
    int ends[2];
    struct ind_address address = {0};
    if (!counts)
        counts = ind_admission_new();
    assert_int_equal(socketpair(AF_UNIX, SOCK_STREAM, 0, ends), 0);
    close(ends[1]);
    struct ind_connection *connection = ind_connection_new(counts, NULL, ends[0], &address);
    assert_non_null(connection);
    return connection;
}

static void what_finds_no_room_comes_first_the_next_time(void **state)
{
    struct ind_connection *connection = new_connection();
    struct taken taken = {.room = 2};
    (void)state;
    assert_int_equal(ind_connection_feed(connection, IND_SLICE("<1>a\n<1>b\n<1>c\n<1>d\n<1>e"), take, &taken),
                     IND_CONNECTION_FULL);
    assert_string_equal(taken.text, "[<1>a][<1>b]");
    taken.room = 3;
    assert_int_equal(ind_connection_feed(connection, IND_NOTHING, take, &taken), IND_CONNECTION_FULL);
    taken.room = 10;
    assert_int_equal(ind_connection_feed(connection, IND_NOTHING, take, &taken), IND_CONNECTION_FED);
    assert_int_equal(ind_connection_feed(connection, IND_SLICE("e\n<1>f"), take, &taken), IND_CONNECTION_FED);
    assert_string_equal(taken.text, "[<1>a][<1>b][<1>c][<1>d][<1>ee]");
    taken.room = taken.count;
    assert_false(ind_connection_finish(connection, true, take, &taken));
    taken.room++;
    assert_true(ind_connection_finish(connection, true, take, &taken));
    assert_string_equal(taken.text, "[<1>a][<1>b][<1>c][<1>d][<1>ee][<1>f…]");
    ind_connection_free(connection);
    assert_int_equal(ind_admission_held(counts), 0);
}

static void a_message_in_many_portions_is_one(void **state)
{
    struct ind_connection *connection = new_connection();
    struct taken taken = {.room = 10};
    const char text[] = "11 <13>a b c d7 <13>efg";
    (void)state;
    for (size_t i = 0; i < sizeof text - 1; i++)
        assert_int_equal(ind_connection_feed(connection, (struct ind_slice){text + i, 1}, take, &taken),
                         IND_CONNECTION_FED);
    assert_string_equal(taken.text, "[<13>a b c d][<13>efg]");
    ind_connection_free(connection);
    assert_int_equal(ind_admission_held(counts), 0);
}

/* Also where there is no room for it at first: nothing of it is doubled. */
static void a_message_in_two_portions_waits_whole(void **state)
{
    struct ind_connection *connection = new_connection();
    struct taken taken = {.room = 0};
    (void)state;
    assert_int_equal(ind_connection_feed(connection, IND_SLICE("<1>the first "), take, &taken),
                     IND_CONNECTION_FED);
    assert_int_equal(ind_connection_feed(connection, IND_SLICE("half\n<1>b\n"), take, &taken),
                     IND_CONNECTION_FULL);
    assert_int_equal(ind_connection_feed(connection, IND_NOTHING, take, &taken), IND_CONNECTION_FULL);
    taken.room = 1;
    assert_int_equal(ind_connection_feed(connection, IND_NOTHING, take, &taken), IND_CONNECTION_FULL);
    assert_string_equal(taken.text, "[<1>the first half]");
    taken.room = 2;
    assert_int_equal(ind_connection_feed(connection, IND_NOTHING, take, &taken), IND_CONNECTION_FED);
    assert_string_equal(taken.text, "[<1>the first half][<1>b]");
    ind_connection_free(connection);
    assert_int_equal(ind_admission_held(counts), 0);
}

static void no_address_may_have_more_than_half_of_all_connections(void **state)
{
    struct ind_admission *admission = ind_admission_new();
    struct ind_limits limits = {.connections = 1000};
    struct ind_address one = ind_address_v4((const uint8_t[]){192, 0, 2, 1}),
                       two = ind_address_v4((const uint8_t[]){192, 0, 2, 2}),
                       three = ind_address_v4((const uint8_t[]){192, 0, 2, 3});
    (void)state;
    ind_admission_set_limits(admission, &limits, 4);
    assert_true(ind_admission_enter(admission, &one) && ind_admission_enter(admission, &one));
    assert_false(ind_admission_enter(admission, &one));
    assert_true(ind_admission_enter(admission, &two) && ind_admission_enter(admission, &three));
    assert_false(ind_admission_enter(admission, &three)); /* all are taken */
    ind_admission_leave(admission, &one);
    assert_true(ind_admission_enter(admission, &three));
    ind_admission_leave(admission, &three);
    /* Other limits, while some are in: they stay, and nobody else comes in until they have left. */
    limits = (struct ind_limits){.connections = 3, .per_address = 1};
    ind_admission_set_limits(admission, &limits, 100);
    ind_admission_leave(admission, &two);
    assert_false(ind_admission_enter(admission, &one));
    assert_true(ind_admission_enter(admission, &two));
    assert_false(ind_admission_enter(admission, &two));
    ind_admission_free(admission);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_finds_no_room_comes_first_the_next_time),
        cmocka_unit_test(a_message_in_many_portions_is_one),
        cmocka_unit_test(a_message_in_two_portions_waits_whole),
        cmocka_unit_test(no_address_may_have_more_than_half_of_all_connections),
    };
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_admission_free(counts);
    return failed;
}
