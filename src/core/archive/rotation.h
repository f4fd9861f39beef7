/* core/archive/rotation.h: when a live file is rotated. Decisions over given facts; nothing here reads a
 * clock or a file. */
#ifndef IND_CORE_ARCHIVE_ROTATION_H
#define IND_CORE_ARCHIVE_ROTATION_H

#include "core/time/zone.h"

enum ind_period { IND_PERIOD_NONE, IND_PERIOD_HOUR, IND_PERIOD_DAY, IND_PERIOD_WEEK, IND_PERIOD_MONTH };

/* What makes a file due; a zero means: not by this. */
struct ind_rotation_rule {
    enum ind_period
        every;     /* at the turn of the hour, the day, the week (Monday), the month on the local clock */
    uint64_t size; /* bytes: rotated before a line would make it larger */
    uint64_t messages;
};

enum ind_rotation_reason {
    IND_ROTATION_NOT,
    IND_ROTATION_PERIOD,
    IND_ROTATION_SIZE,
    IND_ROTATION_MESSAGES,
    IND_ROTATION_ASKED
};

struct ind_live_facts {
    ind_time period_end; /* ind_period_end of its first message's time; IND_TIME_NONE: no period */
    uint64_t size, messages;
};

/* The instant at which the period that holds `time` ends; IND_TIME_NONE for IND_PERIOD_NONE. Where clocks are
 * put back, the repeated hour belongs to one period with the hour it repeats. */
ind_time ind_period_end(enum ind_period every, const struct ind_zone *zone, ind_time time);

/* Whether to rotate before a line of `length` bytes and the time `time` is added. */
enum ind_rotation_reason ind_rotation_before(const struct ind_rotation_rule *rule,
                                             const struct ind_live_facts *facts, ind_time time,
                                             size_t length);

/* A file to which nothing comes is rotated this long after its period's end, so that what is still on its way
 * goes where it belongs. */
#define IND_ROTATION_GRACE (5 * IND_SECOND)

/* Whether a file is due at `now`, with no line to add. An empty file never is. */
enum ind_rotation_reason ind_rotation_due(const struct ind_rotation_rule *rule,
                                          const struct ind_live_facts *facts, ind_time now);

/* "period", "size", "messages", "asked". */
struct ind_slice ind_rotation_reason_name(enum ind_rotation_reason reason);

#endif
