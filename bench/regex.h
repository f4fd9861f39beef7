/* bench/regex.h: the other side, PCRE2 with its JIT. */
#ifndef IND_BENCH_REGEX_H
#define IND_BENCH_REGEX_H

#define PCRE2_CODE_UNIT_WIDTH 8
#include "core/base/slice.h"

#include <pcre2.h>
#include <stdio.h>
#include <stdlib.h>

/* What group `i` matched; nothing where it took no part. */
static inline struct ind_slice group(struct ind_slice line, const PCRE2_SIZE *ends, int i)
{
    return ends[2 * i] == PCRE2_UNSET
               ? IND_NOTHING
               : (struct ind_slice){line.at + ends[2 * i], ends[2 * i + 1] - ends[2 * i]};
}

/* The pattern compiled, JIT included; ends the process where that cannot be. */
static inline pcre2_code *compiled(const char *pattern)
{
    int error;
    PCRE2_SIZE offset;
    pcre2_code *code = pcre2_compile((PCRE2_SPTR)pattern, PCRE2_ZERO_TERMINATED, 0, &error, &offset, NULL);
    if (!code || pcre2_jit_compile(code, PCRE2_JIT_COMPLETE) != 0) {
        fprintf(stderr, "no JIT, or a pattern that does not compile (at %zu): %s\n", (size_t)offset, pattern);
        exit(1);
    }
    return code;
}

#endif
