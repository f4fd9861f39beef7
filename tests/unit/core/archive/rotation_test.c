/* Rotation periods and retention. */
#include "support/moment.h"
#include "support/support.h"

#include "core/archive/retention.h"
#include "core/archive/rotation.h"

static void rotation_asks_for_period_size_and_messages(void **state)
{
    (void)state;
    const struct ind_rotation_rule rule = {IND_PERIOD_DAY, 1000, 10};
    struct ind_live_facts facts = {at("2026-11-24T00:00:00Z"), 900, 5};
    assert_int_equal(ind_rotation_before(&rule, &facts, at("2026-11-23T23:59:59Z"), 100), IND_ROTATION_NOT);
    assert_int_equal(ind_rotation_before(&rule, &facts, at("2026-11-23T23:59:59Z"), 101), IND_ROTATION_SIZE);
    assert_int_equal(ind_rotation_before(&rule, &facts, at("2026-11-24T00:00:00Z"), 1), IND_ROTATION_PERIOD);
    facts.messages = 10;
    assert_int_equal(ind_rotation_before(&rule, &facts, at("2026-11-23T12:00:00Z"), 1),
                     IND_ROTATION_MESSAGES);
    facts.messages = 0; /* an empty file is never rotated, however long the line */
    assert_int_equal(ind_rotation_before(&rule, &facts, at("2026-11-25T12:00:00Z"), 5000), IND_ROTATION_NOT);
}

static void rotation_gives_a_grace_to_what_is_on_its_way(void **state)
{
    (void)state;
    const struct ind_rotation_rule rule = {IND_PERIOD_HOUR, 0, 0};
    struct ind_live_facts facts = {at("2026-11-23T05:00:00Z"), 900, 5};
    assert_int_equal(ind_rotation_due(&rule, &facts, at("2026-11-23T05:00:04Z")), IND_ROTATION_NOT);
    assert_int_equal(ind_rotation_due(&rule, &facts, at("2026-11-23T05:00:05Z")), IND_ROTATION_PERIOD);
}

static void retention_removes_by_age_number_and_space(void **state)
{
    (void)state;
    const ind_time day = IND_DAY_SECONDS * IND_SECOND, now = 100 * day;
    struct ind_archive_facts archives[6];
    const struct ind_retention_facts facts = {now, true, 50};
    for (size_t i = 0; i < 6; i++)
        archives[i] = (struct ind_archive_facts){
            .series = i % 2, .number = i, .rotated = now - (ind_time)(6 - i) * day, .size = 100, .index = i};
    const struct ind_retention_rule by_age = {3 * IND_DAY_SECONDS, 0, 0, 0, 0};
    assert_int_equal(ind_retention_decide(&by_age, &facts, archives, 6), 4);
    assert_int_equal(archives[3].verdict, IND_GONE_BY_AGE);
    assert_int_equal(archives[4].verdict, IND_KEPT);
    const struct ind_retention_rule by_number = {0, 1, 0, 0, 0};
    assert_int_equal(ind_retention_decide(&by_number, &facts, archives, 6), 4);
    assert_int_equal(archives[5].verdict, IND_KEPT);
    assert_int_equal(archives[4].verdict, IND_KEPT);
    const struct ind_retention_rule by_space = {0, 0, 350, 0, 0};
    assert_int_equal(ind_retention_decide(&by_space, &facts, archives, 6), 3);
    assert_int_equal(archives[2].verdict, IND_GONE_BY_SPACE);
    assert_int_equal(archives[3].verdict, IND_KEPT);
    const struct ind_retention_rule by_percent = {0, 0, 0, 25, 0}; /* that is of all policies together */
    assert_int_equal(ind_retention_decide(&by_percent, &facts, archives, 6), 0);
}

/* 80 % is of all together: the oldest go, whichever policy they are under, as far as theirs allows. */
static void a_share_of_the_file_system_is_of_all_policies_together(void **state)
{
    static const unsigned percents[] = {80, 80, 0, 40};
    struct ind_archive_facts archives[8];
    (void)state;
    for (size_t i = 0; i < 8; i++)
        archives[i] = (struct ind_archive_facts){
            .series = i, .rotated = (ind_time)(i * 10), .size = 100, .percent = 80, .index = i};
    assert_int_equal(ind_retention_share(1000, 0, archives, 8), 0);
    assert_int_equal(ind_retention_share(0, 5000, archives, 8), 0);
    assert_int_equal(ind_retention_share(1000, 150, archives, 8), 2);
    assert_int_equal(archives[1].verdict, IND_GONE_BY_SPACE);
    assert_int_equal(archives[2].verdict, IND_KEPT);
    assert_int_equal(ind_retention_share(1000, 150, archives, 8), 0); /* what has gone has gone */
    for (size_t i = 0; i < 8; i++) {
        archives[i].verdict = IND_KEPT;
        archives[i].percent = percents[archives[i].index % 4];
    }
    /* 1000 in all: two of the 80s go, then each of the 40s, but none without a limit. */
    assert_int_equal(ind_retention_share(1000, 200, archives, 8), 4);
    for (size_t i = 0; i < 8; i++)
        assert_int_equal(archives[i].verdict != IND_KEPT, archives[i].index < 2 || archives[i].percent == 40);
    assert_int_equal(ind_retention_share(1000, 0, archives, 0), 0);
}

/* The oldest of all go for the reserve, but none that is younger than its policy spares; nor by number or
 * space. */
static void the_reserve_takes_the_oldest_that_are_not_spared(void **state)
{
    struct ind_archive_facts archives[6];
    const ind_time day = IND_DAY_SECONDS * IND_SECOND, now = 100 * day;
    (void)state;
    const struct ind_retention_rule rule = {0, 1, 100, 0, 3 * IND_DAY_SECONDS};
    struct ind_retention_facts facts = {now, true, 0};
    for (size_t i = 0; i < 6; i++)
        archives[i] = (struct ind_archive_facts){
            .series = 1, .number = i, .rotated = now - (ind_time)(6 - i) * day, .size = 100, .index = i};
    /* Of 6, 5, 4, 3, 2 and 1 days the last two are spared. */
    assert_int_equal(ind_retention_decide(&rule, &facts, archives, 6), 4);
    for (size_t i = 0; i < 6; i++)
        assert_int_equal(archives[i].verdict == IND_KEPT, archives[i].index >= 4);
    assert_int_equal(ind_retention_reserve(150, archives, 6), 150);
    for (size_t i = 0; i < 6; i++)
        archives[i].verdict = IND_KEPT;
    assert_int_equal(ind_retention_reserve(0, archives, 6), 0);
    assert_int_equal(ind_retention_reserve(150, archives, 6), 0);
    for (size_t i = 0; i < 6; i++)
        assert_int_equal(archives[i].verdict, archives[i].index < 2 ? IND_GONE_BY_RESERVE : IND_KEPT);
    assert_int_equal(ind_retention_reserve(1000, archives, 6), 800);
    /* By a clock that nobody trusts all are spared. */
    facts.clock_trusted = false;
    for (size_t i = 0; i < 6; i++)
        archives[i].spared = false;
    assert_int_equal(ind_retention_decide(&rule, &facts, archives, 6), 0);
    assert_int_equal(ind_retention_reserve(100, archives, 6), 100);
}

static void retention_does_not_trust_a_clock_that_jumped(void **state)
{
    (void)state;
    const ind_time day = IND_DAY_SECONDS * IND_SECOND;
    assert_true(ind_clock_trusted(10 * day, 9 * day, IND_TIME_NONE));
    assert_false(ind_clock_trusted(10 * day + 1, 9 * day, 8 * day));
    assert_true(ind_clock_trusted(10 * day, IND_TIME_NONE, 10 * day - 1));
    assert_true(ind_clock_trusted(10 * day, IND_TIME_NONE, IND_TIME_NONE));
    struct ind_archive_facts archive = {.rotated = day, .size = 1};
    const struct ind_retention_rule rule = {IND_DAY_SECONDS, 0, 0, 0, 0};
    const struct ind_retention_facts facts = {50 * day, false, 0};
    assert_int_equal(ind_retention_decide(&rule, &facts, &archive, 1), 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(rotation_asks_for_period_size_and_messages),
        cmocka_unit_test(rotation_gives_a_grace_to_what_is_on_its_way),
        cmocka_unit_test(retention_removes_by_age_number_and_space),
        cmocka_unit_test(a_share_of_the_file_system_is_of_all_policies_together),
        cmocka_unit_test(the_reserve_takes_the_oldest_that_are_not_spared),
        cmocka_unit_test(retention_does_not_trust_a_clock_that_jumped),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
