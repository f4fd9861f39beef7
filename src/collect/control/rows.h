/* collect/control/rows.h: the accounts of a status put together: by device, by sender that nobody knows, by
 * listener, and in all. */
#ifndef IND_COLLECT_CONTROL_ROWS_H
#define IND_COLLECT_CONTROL_ROWS_H

#include "collect/control/status.h"

#include <jansson.h>
#include <uthash.h>

enum { IND_ROW_NAMES = 8 };

/* What a stranger calls itself, borrowed from accounts. */
struct ind_row_names {
    struct ind_slice hosts[IND_ROW_NAMES];
    struct ind_slice claims[IND_ROW_NAMES]; /* those that are names of configured devices */
    unsigned host_count, claim_count;
};

/* Accounts that belong together: all of a device, or all of a sender that nobody knows. */
struct ind_row {
    UT_hash_handle hh;
    const char *name; /* an account's, or a literal */
    size_t name_length;
    struct ind_ledger ledger;
    ind_time last;
    const struct ind_clock_offset *offset; /* of the status that was gathered; NULL: none */
    bool refused;
    struct ind_row_names *names; /* of strangers; NULL: none */
};

/* The rows of an account: they stay the same, since whose it is does. */
struct ind_account_rows {
    struct ind_row *device, *stranger; /* either may be NULL */
};

/* Of all accounts there are; kept from one status to the next, so that only numbers are to be added up. */
struct ind_rows {
    struct ind_row *devices, *strangers;
    struct ind_row *unread; /* of what was lost, or waits, before it was read whose it is; or NULL */
    struct ind_account_rows *of_account[IND_MOST_INTAKES];
    uint32_t known[IND_MOST_INTAKES], room[IND_MOST_INTAKES]; /* accounts */
    struct ind_ledger listeners[IND_LISTENER_NAMES], total;
    uint64_t burst, rings, files;
};

/* New, to be freed; NULL where memory is out. */
struct ind_rows *ind_rows_new(void);
/* Accepts NULL. */
void ind_rows_free(struct ind_rows *rows);

/* The rows as they are in a status, all of whose accounts must live as long. False where memory is out: not
 * all is in them then. */
bool ind_rows_gather(struct ind_rows *rows, const struct ind_status *status);

/* Adds an account's ledger, and its last message and lags where they are the newest. `offset` lives as long
 * as the status. */
void ind_row_add(struct ind_row *row, const struct ind_ledger *ledger, ind_time last,
                 const struct ind_clock_offset *offset);
/* What is known of its clock; while the status is there. */
struct ind_clock_offset_summary ind_row_clock(const struct ind_row *row);

/* The rows of a table, the busiest first, of equal ones that which came first. New, with *count of them; NULL
 * where memory is out, with 0. */
const struct ind_row **ind_rows_sorted(const struct ind_row *table, size_t *count);

/* Whether nothing has come from a configured device for an hour, or at all; relays are never silent, since
 * they speak for others. *last: when something came; IND_TIME_NONE: never. */
bool ind_rows_is_silent(const struct ind_rows *rows, const struct ind_status *status,
                        const struct ind_device *device, ind_time *last);
/* How many are. */
size_t ind_rows_silent(const struct ind_rows *rows, const struct ind_status *status);

/* `object` (JSON) with the members devices, silent_devices and unknown_senders of a status: of thousands of
 * rows, so that they are written straight. New, to be freed; NULL where memory is out. */
char *ind_rows_text(const char *object, const struct ind_rows *rows, const struct ind_status *status);

/* The members that a device has in there. New; NULL where memory is out. */
json_t *ind_rows_device(const struct ind_row *row, const struct ind_config *config);

/* How many messages of each severity, by its name. New. */
json_t *ind_rows_severities(const struct ind_ledger *ledger);

/* A ledger with the members that those of the rows have, and `severities`. New; NULL where memory is out. */
json_t *ind_rows_ledger(const struct ind_ledger *ledger);

/* Text that came from the network, as the stored lines write it. New. */
json_t *ind_rows_clean(struct ind_slice text);

#endif
