/* One budget for all descriptors. */
#include "support/support.h"

#include "collect/runtime/budget.h"

static void what_is_divided_is_never_more_than_there_is(void **state)
{
    static const uint64_t limits[] = {4, 16, 64, 256, 1024, 4096, 65536, 1 << 20};
    (void)state;
    for (size_t i = 0; i < sizeof limits / sizeof *limits; i++)
        for (uint64_t sockets = 0; sockets < 300; sockets += 37)
            for (uint64_t files = 1; files < 1 << 20; files *= 8) {
                struct ind_budget budget = ind_budget_divide(limits[i], sockets, files, 10000);
                assert_true(budget.connections >= 1 && budget.files >= 1);
                assert_true(budget.files <= files);
                assert_true(budget.connections + budget.files <= limits[i]);
                if (limits[i] >= 4 * (128 + 2 * sockets))
                    assert_true(budget.connections + budget.files + 128 + 2 * sockets <= limits[i]);
            }
}

static void both_have_a_part_of_a_small_limit(void **state)
{
    (void)state;
    struct ind_budget budget = ind_budget_divide(1024, 2, 4096, 10000);
    assert_int_equal(budget.files, 446);
    assert_int_equal(budget.connections, 446);
    budget = ind_budget_divide(1 << 20, 2, 4096, 10000);
    assert_int_equal(budget.files, 4096);
    assert_true(budget.connections >= 10000); /* whoever wants more may have them */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_is_divided_is_never_more_than_there_is),
        cmocka_unit_test(both_have_a_part_of_a_small_limit),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
