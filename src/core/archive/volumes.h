/* core/archive/volumes.h: how much there is of what: messages, and bytes of their lines, by hour, device and
 * PRI (RFC 5424 section 6.2.1). Of a file, for the catalog (docs/catalog.md). */
#ifndef IND_CORE_ARCHIVE_VOLUMES_H
#define IND_CORE_ARCHIVE_VOLUMES_H

#include "core/time/civil.h"

/* Hours are UTC, counted from 1970. */
#define IND_HOUR_UNKNOWN INT64_MIN
enum { IND_VOLUME_PRIS = 192, IND_VOLUME_NO_PRI = 255 };

/* Devices are numbers, which the caller gives. */
enum { IND_DEVICE_NONE = 0, IND_DEVICE_OTHERS = 1, IND_DEVICE_FIRST = 2 };

/* Beyond so many that differ, further devices of a file are counted as "others", and beyond twice as many,
 * further hours as not known: strangers make up names and times, and memory has an end. */
enum { IND_VOLUMES_MOST = 1 << 20 };

struct ind_volume {
    int64_t hour; /* IND_HOUR_UNKNOWN: not known */
    uint32_t device;
    uint8_t pri; /* 0 to 191; IND_VOLUME_NO_PRI: not known */
    uint64_t messages, bytes;
};

struct ind_volumes;

struct ind_volumes *ind_volumes_new(void); /* NULL where memory is out */
void ind_volumes_free(struct ind_volumes *volumes);
void ind_volumes_clear(struct ind_volumes *volumes);

/* Adds to what has the same hour, device and PRI. False where memory is out. */
bool ind_volumes_add(struct ind_volumes *volumes, const struct ind_volume *more);

/* Whether devices or hours were more than are kept apart. */
bool ind_volumes_folded(const struct ind_volumes *volumes);
void ind_volumes_set_folded(struct ind_volumes *volumes);

/* All of them in order: by hour, those not known first, then by device, then by PRI. Borrowed until anything
 * is added; *count of them. */
const struct ind_volume *ind_volumes_sorted(struct ind_volumes *volumes, size_t *count);

/* The hour of a time, by UTC. */
static inline int64_t ind_volume_hour(ind_time time)
{
    const int64_t length = 3600 * (int64_t)IND_SECOND;
    return time == IND_TIME_NONE ? IND_HOUR_UNKNOWN : time / length - (time % length < 0);
}

/* ---- As bytes, for the catalog (volumes_pack.c) ---- */

/* New, the caller's; NULL where memory is out. */
char *ind_volumes_pack(struct ind_volumes *volumes, size_t *length);

/* Visits what was packed, in order, until `visit` returns false. False where the bytes are none. */
bool ind_volumes_each(struct ind_slice packed, bool (*visit)(void *context, const struct ind_volume *volume),
                      void *context);
/* Of packed bytes: as ind_volumes_folded. */
bool ind_volumes_are_folded(struct ind_slice packed);

/* Adds what was packed. False where the bytes are none, of which some may have been added, or memory is out.
 */
bool ind_volumes_unpack(struct ind_slice packed, struct ind_volumes *volumes);

/* ---- As text, for the journal (volumes_text.c) ---- */

/* "2026-11-23T04 harbour-fw 164 12 3400,…;2026-11-23T05 …": hours, and of each device and PRI the messages
 * and bytes. "-" is what is not known, or no device; "*" other devices; an hour without "T" stands for its
 * day. Bytes of a name that are neither letters, digits nor one of "._:-" are written %XX, and so is the name
 * "-". `name` gives the names of devices. New, the caller's; NULL where memory is out. */
enum ind_volume_detail {
    IND_VOLUMES_WHOLE,
    IND_VOLUMES_BY_HOUR, /* all devices are "others" */
    IND_VOLUMES_BY_DAY   /* likewise, by days */
};
char *ind_volumes_write(struct ind_volumes *volumes, enum ind_volume_detail detail,
                        struct ind_slice (*name)(void *context, uint32_t device), void *context,
                        size_t *length);

/* Adds what a text tells; `number` gives the numbers of devices, whose names have no more than 1024 bytes. A
 * day is told as its first hour. False where it is none, of which some may have been added, or memory is out.
 */
bool ind_volumes_read(struct ind_slice text, uint32_t (*number)(void *context, struct ind_slice device),
                      void *context, struct ind_volumes *volumes);

#endif
