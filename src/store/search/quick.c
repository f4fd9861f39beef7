#include "store/search/quick.h"

#include "store/disk/stored.h"
#include "store/search/stamp.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

void ind_quick_free(struct ind_quick *quick)
{
    free(quick->slots);
    free(quick->scratch);
    *quick = (struct ind_quick){0};
}

static unsigned two(const char *at)
{
    return (unsigned)(at[0] - '0') * 10 + (unsigned)(at[1] - '0');
}

/* The glance has proved that these are digits. */
static ind_time behind_hour(const char *line)
{
    const unsigned seconds = two(line + 14) * 60 + two(line + 17);
    const unsigned micros = two(line + 20) * 10000 + two(line + 22) * 100 + two(line + 24);
    return (ind_time)seconds * IND_SECOND + (ind_time)micros * 1000;
}

static bool is_hour(const struct ind_quick *quick, const struct ind_line_glance *glance)
{
    return quick->hour_length == glance->hour.length + glance->zone.length &&
           memcmp(quick->hour, glance->hour.at, glance->hour.length) == 0 &&
           memcmp(quick->hour + glance->hour.length, glance->zone.at, glance->zone.length) == 0;
}

static void note_hour(struct ind_quick *quick, const struct ind_line_glance *glance, ind_time begin)
{
    struct ind_buffer buffer = ind_buffer_on(quick->hour, sizeof quick->hour);
    ind_buffer_slice(&buffer, glance->hour);
    ind_buffer_slice(&buffer, glance->zone);
    quick->hour_length = buffer.full ? 0 : buffer.length;
    quick->begin = begin;
}

/* Where `part` lies in `whole`. */
static bool find(struct ind_slice part, struct ind_slice whole, uint8_t *at, uint8_t *length)
{
    if (part.length && (part.at < whole.at || part.at + part.length > whole.at + whole.length))
        return false;
    *at = (uint8_t)(part.length ? part.at - whole.at : 0);
    *length = (uint8_t)part.length;
    return true;
}

/* Reads the line whole; what it tells of who sent it is kept. */
static bool learn(struct ind_quick *quick, struct ind_quick_slot *slot, struct ind_slice line,
                  const struct ind_line_glance *glance)
{
    struct ind_message read, *message = &read;
    if (quick->room < line.length) {
        free(quick->scratch);
        quick->scratch = malloc(line.length * 2);
        quick->room = quick->scratch ? line.length * 2 : 0;
        if (!quick->scratch)
            return false;
    }
    if (!ind_line_read_plain(line, quick->scratch, message))
        return false;
    note_hour(quick, glance, message->time - behind_hour(line.at));
    slot->length = slot->verdict = 0;
    memcpy(slot->who, glance->who.at, glance->who.length);
    slot->facility = message->facility;
    slot->severity = message->severity;
    if (find(message->device, glance->who, &slot->device_at, &slot->device_length) &&
        find(message->host, glance->who, &slot->host_at, &slot->host_length))
        slot->length = (uint8_t)glance->who.length;
    quick->message = (struct ind_message){.pri_given = message->pri_given,
                                          .transport = message->transport,
                                          .received = IND_TIME_NONE,
                                          .sent = IND_TIME_NONE};
    return slot->length > 0;
}

struct ind_message *ind_quick_read(struct ind_quick *quick, struct ind_slice line)
{
    struct ind_line_glance glance;
    struct ind_message *message = &quick->message;
    if (!ind_line_glance_plain(line, &glance) || glance.who.length > IND_QUICK_WHO)
        return NULL;
    if (!quick->slots && !(quick->slots = calloc(IND_QUICK_SLOTS, sizeof *quick->slots)))
        return NULL;
    struct ind_quick_slot *slot =
        &quick->slots[XXH3_64bits(glance.who.at, glance.who.length) % IND_QUICK_SLOTS];
    const bool known =
        slot->length == glance.who.length && memcmp(slot->who, glance.who.at, slot->length) == 0;
    if ((!known || !is_hour(quick, &glance)) && !learn(quick, slot, line, &glance))
        return NULL;
    quick->slot = slot;
    message->device = (struct ind_slice){slot->who + slot->device_at, slot->device_length};
    message->host = (struct ind_slice){slot->who + slot->host_at, slot->host_length};
    message->facility = slot->facility;
    message->severity = slot->severity;
    message->configured = NULL;
    message->time = quick->begin + behind_hour(line.at);
    return message;
}

ind_time ind_quick_time(struct ind_quick *quick, struct ind_slice line)
{
    const struct ind_slice stamp = ind_search_stamp(IND_LAYOUT_PLAIN, line);
    if (!ind_search_stamp_is_utc(stamp) || stamp.at[14] > '5' || stamp.at[17] > '5')
        return IND_TIME_NONE;
    const struct ind_line_glance glance = {.hour = {stamp.at, 13},
                                           .zone = {stamp.at + IND_TIME_WIDTH - 1, 1}};
    if (!is_hour(quick, &glance)) {
        const ind_time time = ind_search_stamp_time(IND_LAYOUT_PLAIN, line);
        if (time == IND_TIME_NONE)
            return IND_TIME_NONE;
        note_hour(quick, &glance, time - behind_hour(line.at));
    }
    return quick->begin + behind_hour(line.at);
}
