#define _GNU_SOURCE /* syscall */
#include "collect/runtime/priority.h"

#ifdef __linux__
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>
#endif

void ind_priority_yield_processor(void)
{
#if defined(__linux__) && defined(SYS_gettid)
    (void)setpriority(PRIO_PROCESS, (id_t)syscall(SYS_gettid), 10); /* on Linux a thread's own */
#endif
}

void ind_priority_yield_disk(void)
{
#if defined(__linux__) && defined(SYS_ioprio_set)
    enum { WHO_PROCESS = 1, CLASS_IDLE = 3, CLASS_SHIFT = 13 };
    (void)syscall(SYS_ioprio_set, WHO_PROCESS, 0, CLASS_IDLE << CLASS_SHIFT);
#endif
}
