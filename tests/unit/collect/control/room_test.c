/* When a file system will be full. */
#include "support/support.h"

#include "collect/control/room.h"

static struct ind_room_sample sample(double hours, uint64_t free)
{
    return (struct ind_room_sample){{(int64_t)(hours * 3600) * IND_SECOND + IND_SECOND}, {7, free}};
}

static void expect(const struct ind_room *room, double hours, uint64_t free, double least, double most)
{
    const struct ind_room_sample now = sample(hours, free);
    double days = ind_room_days(room, &now, 1);
    if (days < least || days > most)
        print_error("%.3f days\n", days);
    assert_true(days >= least && days <= most);
    assert_true(ind_room_days(room, &now, 0) < 0); /* it does not get fuller */
}

static void it_goes_by_the_last_day(void **state)
{
    (void)state;
    struct ind_room room = {.count = 0};
    const struct ind_room_sample none = sample(0, 1000);
    assert_true(ind_room_days(&room, &none, 1) < 0);
    ind_room_add(&room, &none);
    expect(&room, 0.5, 500, -1, -1);   /* not an hour yet */
    expect(&room, 1, 990, 4.12, 4.13); /* 10 an hour: 990 last 99 hours */
    expect(&room, 1, 1000, -1, -1);
    expect(&room, 1, 2000, -1, -1);
    for (int hour = 1; hour <= 100; hour++) { /* then 1 an hour, for longer than a day */
        const struct ind_room_sample now = sample(hour, 990 - (uint64_t)hour);
        const struct ind_room_sample early = sample(hour + 0.5, 1);
        ind_room_add(&room, &now);
        ind_room_add(&room, &early); /* passed over */
    }
    assert_int_equal(room.count, IND_ROOM_SAMPLES);
    expect(&room, 100, 890, 37.08, 37.09); /* 890 hours */
    expect(&room, 100, 0, 0, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(it_goes_by_the_last_day)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
