#include "store/search/once.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

/* Of one message, in the files of one route: how many lines. With route ANY: how many messages were given. */
struct place {
    struct ind_once_mark mark;
    uint64_t count; /* 0: the place is free */
};

/* Places of the lines of one time, in a table of a power of two. */
struct ind_once {
    ind_time time;
    struct place *places;
    size_t used, room;
};

enum { FIRST_ROOM = 64 };
#define ANY UINT64_MAX

void ind_once_mark(const struct ind_message *message, uint64_t route, struct ind_once_mark *mark)
{
    XXH128_hash_t text = XXH3_128bits(message->text.at, message->text.length);
    uint64_t device = XXH3_64bits(message->device.at, message->device.length);
    *mark = (struct ind_once_mark){{text.low64 ^ device, text.high64 + device}, route == ANY ? 0 : route};
}

struct ind_once *ind_once_new(void)
{
    struct ind_once *once = calloc(1, sizeof *once);
    struct place *places = once ? calloc(FIRST_ROOM, sizeof *places) : NULL;
    if (!places) {
        free(once);
        return NULL;
    }
    *once = (struct ind_once){IND_TIME_NONE, places, 0, FIRST_ROOM};
    return once;
}

void ind_once_free(struct ind_once *once)
{
    if (once)
        free(once->places);
    free(once);
}

static struct place *find(struct place *places, size_t room, const struct ind_once_mark *mark)
{
    size_t at = (size_t)(mark->message[0] ^ (mark->route * UINT64_C(0x9E3779B97F4A7C15))) & (room - 1);
    while (places[at].count && memcmp(&places[at].mark, mark, sizeof *mark) != 0)
        at = (at + 1) & (room - 1);
    places[at].mark = *mark;
    return &places[at];
}

static bool grow(struct ind_once *once)
{
    size_t room = once->room * 2;
    struct place *places = calloc(room, sizeof *places);
    if (!places)
        return false;
    for (size_t i = 0; i < once->room; i++)
        if (once->places[i].count)
            find(places, room, &once->places[i].mark)->count = once->places[i].count;
    free(once->places);
    once->places = places;
    once->room = room;
    return true;
}

static void begin_time(struct ind_once *once, ind_time time)
{
    if (once->room > FIRST_ROOM && once->used < once->room / 8) {
        struct place *places = calloc(FIRST_ROOM, sizeof *places);
        if (places) {
            free(once->places);
            once->places = places;
            once->room = FIRST_ROOM;
            once->used = 0;
        }
    }
    if (once->used)
        memset(once->places, 0, once->room * sizeof *once->places);
    once->used = 0;
    once->time = time;
}

static uint64_t count_up(struct ind_once *once, const struct ind_once_mark *mark)
{
    struct place *place = find(once->places, once->room, mark);
    once->used += place->count == 0;
    return ++place->count;
}

bool ind_once_is_first(struct ind_once *once, ind_time time, const struct ind_once_mark *mark, bool *failed)
{
    struct ind_once_mark given = {{mark->message[0], mark->message[1]}, ANY};
    if (time == IND_TIME_NONE)
        return true;
    if (time != once->time)
        begin_time(once, time);
    if (once->used + 2 > once->room / 2 && !grow(once)) {
        *failed = true;
        return false;
    }
    uint64_t of_route = count_up(once, mark);
    struct place *place = find(once->places, once->room, &given);
    if (of_route <= place->count)
        return false;
    once->used += place->count == 0;
    place->count++;
    return true;
}
