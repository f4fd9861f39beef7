/* collect/control/rows.h: the accounts of a status put together: by device, by sender that nobody knows, by
 * listener, and in all. */
#ifndef IND_COLLECT_CONTROL_ROWS_H
#define IND_COLLECT_CONTROL_ROWS_H

#include "collect/control/status.h"

#include <jansson.h>
#include <uthash.h>

/* Accounts that belong together: all of a device, or all of a sender that nobody knows. */
struct ind_row {
    UT_hash_handle hh;
    char *name;
    struct ind_ledger ledger;
    ind_time last;
    struct ind_clock_offset_summary offset;
    bool refused;
    json_t *hosts;  /* what a stranger calls itself */
    json_t *claims; /* the same, where it is the name of a configured device */
};

struct ind_rows {
    struct ind_row *devices, *strangers;
    struct ind_ledger listeners[IND_LISTENER_NAMES], total;
    uint64_t burst, rings, files;
};

/* New, to be freed; NULL where memory is out. */
struct ind_rows *ind_rows_gather(const struct ind_status *status);
void ind_rows_free(struct ind_rows *rows);

/* Whether nothing has come from a configured device for an hour, or at all; relays are never silent, since
 * they speak for others. *last: when something came; IND_TIME_NONE: never. */
bool ind_rows_is_silent(const struct ind_rows *rows, const struct ind_status *status,
                        const struct ind_device *device, ind_time *last);
/* How many are. */
size_t ind_rows_silent(const struct ind_rows *rows, const struct ind_status *status);

/* Text that came from the network, as the stored lines write it. New. */
json_t *ind_rows_clean(struct ind_slice text);

#endif
