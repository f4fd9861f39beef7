#include "collect/control/room.h"

#define HOUR (3600 * IND_SECOND)

static const struct ind_room_sample *sample_at(const struct ind_room *room, size_t back)
{
    return &room->samples[(room->next + IND_ROOM_SAMPLES - back) % IND_ROOM_SAMPLES];
}

void ind_room_add(struct ind_room *room, const struct ind_room_sample *now)
{
    if (room->count > 0 && ind_steady_from(sample_at(room, 1)->at, now->at) < HOUR)
        return;
    room->samples[room->next] = *now;
    room->next = (room->next + 1) % IND_ROOM_SAMPLES;
    room->count += room->count < IND_ROOM_SAMPLES;
}

double ind_room_days(const struct ind_room *room, const struct ind_room_sample *now, unsigned file_system)
{
    if (room->count == 0)
        return -1;
    const struct ind_room_sample *then = sample_at(room, room->count);
    int64_t span = ind_steady_from(then->at, now->at);
    uint64_t before = then->free[file_system], free = now->free[file_system];
    if (span < HOUR || before <= free)
        return -1;
    double a_day = (double)(before - free) / (double)span * (double)(24 * HOUR);
    return (double)free / a_day;
}
