/* tests/support/moment.h: instants as a test writes them. */
#ifndef IND_TESTS_MOMENT_H
#define IND_TESTS_MOMENT_H

#include "support/support.h"

#include "core/time/civil.h"

/* "2026-11-23T04:45:00Z" as an instant. */
static inline ind_time at(const char *text)
{
    ind_time time;
    enum ind_time_style style;
    assert_int_equal(ind_time_read(ind_slice_of(text), &time, &style), strlen(text));
    return time;
}

#endif
