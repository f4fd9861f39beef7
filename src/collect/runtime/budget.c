#include "collect/runtime/budget.h"

#include <sys/resource.h>

enum { RESERVE = 128, UNLIMITED = 1 << 20 };

static uint64_t smaller(uint64_t a, uint64_t b)
{
    return a < b ? a : b;
}

struct ind_budget ind_budget_divide(uint64_t limit, uint64_t sockets, uint64_t files, uint64_t wanted)
{
    /* A process that may have next to nothing open still does what it can. */
    uint64_t aside = smaller(RESERVE + 2 * sockets, limit - limit / 4), rest = limit - aside;
    uint64_t for_files = rest >= files + wanted ? files : smaller(files, rest / 2);
    uint64_t connections = rest - for_files;
    return (struct ind_budget){connections ? (size_t)connections : 1, for_files ? (size_t)for_files : 1};
}

uint64_t ind_budget_limit(void)
{
    struct rlimit limit;
    if (getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY)
        return UNLIMITED;
    return (uint64_t)limit.rlim_cur;
}
