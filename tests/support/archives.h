/* tests/support/archives.h: what tests of the archives of a store share, beside live.h. */
#ifndef IND_TESTS_ARCHIVES_H
#define IND_TESTS_ARCHIVES_H

#include "support/live.h"

/* A command line that has to end well. */
static inline void run(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    if (ran.status != 0)
        fail_msg("%s: %s%s", command, ran.out, ran.err);
    ind_ran_free(&ran);
}

/* `archives` with these arguments ends with that code, and says that part. */
static inline void expect(const char *arguments, int code, const char *part)
{
    struct ind_ran ran = ind_shell(folder, "%s archives %s 2>&1", IND_PROGRAM, arguments);
    if (ran.status != code || !strstr(ran.out, part))
        fail_msg("%s: %d, no \"%s\" in %s", arguments, ran.status, part, ran.out);
    ind_ran_free(&ran);
}

#endif
