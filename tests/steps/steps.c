/* Called at each block of code that was compiled to be counted (-fsanitize-coverage=trace-pc), and in place
 * of the C library's searches and copies (the linker's --wrap). This file itself is not compiled so. */
#include "steps/steps.h"

#include <stddef.h>

uint64_t ind_steps;

void __sanitizer_cov_trace_pc(void);
void __sanitizer_cov_trace_pc(void)
{
    ind_steps++;
}

void *__real_memchr(const void *at, int byte, size_t length);
void *__wrap_memchr(const void *at, int byte, size_t length);
void *__wrap_memchr(const void *at, int byte, size_t length)
{
    const char *found = __real_memchr(at, byte, length);
    ind_steps += (found ? (size_t)(found - (const char *)at) : length) / 16;
    return (void *)(uintptr_t)found;
}

void *__real_memmove(void *to, const void *from, size_t length);
void *__wrap_memmove(void *to, const void *from, size_t length);
void *__wrap_memmove(void *to, const void *from, size_t length)
{
    ind_steps += length / 16;
    return __real_memmove(to, from, length);
}

void *__real_memcpy(void *to, const void *from, size_t length);
void *__wrap_memcpy(void *to, const void *from, size_t length);
void *__wrap_memcpy(void *to, const void *from, size_t length)
{
    ind_steps += length / 16;
    return __real_memcpy(to, from, length);
}
