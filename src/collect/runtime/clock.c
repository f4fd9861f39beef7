#include "collect/runtime/clock.h"

static struct ind_clocks system_now(void *context)
{
    (void)context;
    return ind_clocks_now();
}

const struct ind_clock ind_clock_system = {system_now, 0};
