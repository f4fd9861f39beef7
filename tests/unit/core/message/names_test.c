/* Names of facilities and severities. */
#include "support/support.h"

#include "core/message/names.h"

static void names_are_read_in_their_common_forms(void **state)
{
    (void)state;
    assert_int_equal(ind_severity_read(IND_SLICE("err")), 3);
    assert_int_equal(ind_severity_read(IND_SLICE("Warn")), 4);
    assert_int_equal(ind_severity_read(IND_SLICE("informational")), 6);
    assert_int_equal(ind_severity_read(IND_SLICE("7")), 7);
    assert_int_equal(ind_severity_read(IND_SLICE("8")), -1);
    assert_int_equal(ind_facility_read(IND_SLICE("local7")), 23);
    assert_int_equal(ind_facility_read(IND_SLICE("23")), 23);
    assert_int_equal(ind_facility_read(IND_SLICE("24")), -1);
    assert_int_equal(ind_facility_read(IND_SLICE("")), -1);
    for (unsigned i = 0; i < IND_FACILITIES; i++)
        assert_int_equal(ind_facility_read(ind_facility_name(i)), i);
    for (unsigned i = 0; i < IND_SEVERITIES; i++)
        assert_int_equal(ind_severity_read(ind_severity_name(i)), i);
}

static void names_suggest_the_nearest(void **state)
{
    (void)state;
    assert_slice(ind_severity_near(IND_SLICE("warnign")), "warning");
    assert_slice(ind_facility_near(IND_SLICE("lokal4")), "local4");
    assert_int_equal(ind_severity_near(IND_SLICE("xyzzy")).length, 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(names_are_read_in_their_common_forms),
        cmocka_unit_test(names_suggest_the_nearest),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
