/* collect/control/room.h: how much room file systems had in each hour of the last day: for when they will be
 * full. Of the control thread. */
#ifndef IND_COLLECT_CONTROL_ROOM_H
#define IND_COLLECT_CONTROL_ROOM_H

#include "core/time/steady.h"
#include "store/disk/mounts.h"

enum { IND_ROOM_SAMPLES = 25 };

struct ind_room {
    struct ind_room_sample {
        struct ind_steady at;
        uint64_t free[IND_MOST_FILE_SYSTEMS]; /* bytes, by the number of the file system */
    } samples[IND_ROOM_SAMPLES];              /* around */
    size_t count, next;
};

/* The first, then once an hour; what comes earlier is passed over. */
void ind_room_add(struct ind_room *room, const struct ind_room_sample *now);

/* In how many days a file system is full, if it goes on as in the last day, or as long as is known, at least
 * an hour. Below 0: not known, or it does not get fuller. */
double ind_room_days(const struct ind_room *room, const struct ind_room_sample *now, unsigned file_system);

#endif
