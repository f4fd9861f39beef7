/* core/archive/retention.h: which archives go, as a decision over given facts. */
#ifndef IND_CORE_ARCHIVE_RETENTION_H
#define IND_CORE_ARCHIVE_RETENTION_H

#include "core/time/civil.h"

/* What is kept under one archive policy; a zero means: no such limit. */
struct ind_retention_rule {
    int64_t age;      /* seconds since the archive was rotated */
    uint64_t number;  /* archives of one series */
    uint64_t space;   /* bytes of all archives and live files under the policy */
    unsigned percent; /* of the file system's size: of all policies together */
    int64_t
        least; /* seconds since it was rotated: a younger one goes for no want of room, and by no number */
};

enum ind_retention_reason {
    IND_KEPT,
    IND_GONE_BY_AGE,
    IND_GONE_BY_NUMBER,
    IND_GONE_BY_SPACE,
    IND_GONE_BY_RESERVE
};

struct ind_archive_facts {
    uint64_t series; /* any number that tells series apart */
    uint64_t number; /* within the series */
    ind_time rotated;
    uint64_t size;                     /* on disk */
    unsigned percent;                  /* of its policy's rule; 0: none, or not known */
    bool is_protected;                 /* it never goes, and counts for nothing but its space */
    bool spared;                       /* out; on input: it may never go */
    enum ind_retention_reason verdict; /* out */
    size_t index;                      /* the caller's, untouched */
};

struct ind_retention_facts {
    ind_time now;
    bool clock_trusted; /* ind_clock_trusted, or somebody said that the clock is right */
    uint64_t live_size; /* bytes of live files under the policy: they count, but never go */
};

/* Whether the clock may be used to remove by age: not when it is more than a day past both the newest archive
 * and the last run (a clock that jumped ahead would empty the store). Either may be IND_TIME_NONE. */
bool ind_clock_trusted(ind_time now, ind_time newest_archive, ind_time last_run);

/* Sets `verdict` of each of the policy's archives (reorders them: oldest first) and returns how many go. Age
 * is used only while the clock is trusted; number and space always keep the newest. */
size_t ind_retention_decide(const struct ind_retention_rule *rule, const struct ind_retention_facts *facts,
                            struct ind_archive_facts *archives, size_t count);

/* After that, with the archives of all policies together: `live_size` is of all live files, `file_system` its
 * size in bytes (0: not known, nothing goes). While all that is kept is more than a policy's percent of the
 * file system, its archives go, the oldest of all policies first. Reorders them; returns how many more go. */
size_t ind_retention_share(uint64_t file_system, uint64_t live_size, struct ind_archive_facts *archives,
                           size_t count);

/* After that, where the file system has too little room: the oldest of all policies go, but for those that
 * are spared, until that many bytes are free more. Reorders them; returns the bytes that are still missing.
 */
uint64_t ind_retention_reserve(uint64_t missing, struct ind_archive_facts *archives, size_t count);

/* "age", "number", "space", "reserve". */
struct ind_slice ind_retention_reason_name(enum ind_retention_reason reason);

#endif
