/* store/search/quick.h: header and time of plain lines (docs/formats.md), without reading the rest: most are
 * of a device, facility and severity that were met a moment ago. */
#ifndef IND_STORE_SEARCH_QUICK_H
#define IND_STORE_SEARCH_QUICK_H

#include "core/line/line.h"

enum { IND_QUICK_SLOTS = 8192, IND_QUICK_WHO = 115 };

struct ind_quick_slot {
    uint8_t length; /* of `who`; 0: free */
    uint8_t facility, severity;
    uint8_t verdict; /* the caller's: what it knows of all such lines; 0: nothing yet */
    uint8_t device_at, device_length, host_at, host_length; /* in `who` */
    char who[IND_QUICK_WHO];
};

struct ind_quick {
    struct ind_quick_slot *slots; /* made once they are needed */
    char hour[16];                /* "2026-11-23T04Z" or with its offset */
    size_t hour_length;
    ind_time begin;              /* of that hour; IND_TIME_NONE: none */
    struct ind_message message;  /* the last one that was told */
    struct ind_quick_slot *slot; /* of it */
    char *scratch;
    size_t room;
};

void ind_quick_free(struct ind_quick *quick);

/* Time, device, host, facility and severity of a line that ind_line_read_plain would read; all else of the
 * message is nothing. Until the next call. NULL: nothing is said, it has to be read. */
struct ind_message *ind_quick_read(struct ind_quick *quick, struct ind_slice line);

/* The time of a line that begins with a stamp in UTC; IND_TIME_NONE: nothing is said. */
ind_time ind_quick_time(struct ind_quick *quick, struct ind_slice line);

#endif
