#include "store/disk/aside.h"

#include <errno.h>
#include <stdio.h>
#include <unistd.h>

bool ind_database_set_aside(const char *folder, const char *name, const char *aside)
{
    static const char *const ends[] = {"-wal", "-shm"};
    char from[4400], to[4400];
    for (size_t i = 0; i < 2; i++) {
        snprintf(from, sizeof from, "%s/%s%s", folder, name, ends[i]);
        if (unlink(from) != 0 && errno != ENOENT)
            return false;
    }
    snprintf(from, sizeof from, "%s/%s", folder, name);
    snprintf(to, sizeof to, "%s/%s", folder, aside);
    return rename(from, to) == 0 || errno == ENOENT;
}
