#include "collect/control/rows.h"

#include "collect/control/roll_call.h"
#include "core/base/escape.h"
#include <stdlib.h>

static struct ind_row *row_for(struct ind_row **table, struct ind_slice name)
{
    struct ind_row *row;
    HASH_FIND(hh, *table, name.at, name.length, row);
    if (row || !(row = calloc(1, sizeof *row)))
        return row;
    row->name = name.at;
    row->name_length = name.length;
    row->last = IND_TIME_NONE;
    HASH_ADD_KEYPTR(hh, *table, row->name, name.length, row);
    return row;
}

static void free_rows(struct ind_row **table)
{
    struct ind_row *row, *next;
    HASH_ITER(hh, *table, row, next)
    {
        HASH_DEL(*table, row);
        free(row->names);
        free(row);
    }
}

static void add_to_row(struct ind_row *row, const struct ind_ledger *ledger, ind_time last,
                       const struct ind_clock_offset_summary *offset)
{
    if (!row)
        return;
    ind_ledger_add(&row->ledger, ledger);
    if (last != IND_TIME_NONE && (row->last == IND_TIME_NONE || last >= row->last)) {
        row->last = last;
        row->offset = *offset;
    }
}

json_t *ind_rows_clean(struct ind_slice text)
{
    char room[2048];
    struct ind_buffer buffer = ind_buffer_on(room, sizeof room);
    text.length = text.length < 256 ? text.length : 256;
    ind_escape_column(&buffer, text);
    return json_stringn(room, buffer.length);
}

static void add_name(struct ind_slice list[IND_ROW_NAMES], unsigned *count, struct ind_slice name)
{
    for (unsigned i = 0; i < *count; i++)
        if (ind_slice_equal(list[i], name))
            return;
    if (*count < IND_ROW_NAMES)
        list[(*count)++] = name;
}

static void add_stranger(struct ind_rows *rows, const struct ind_account *account,
                         const struct ind_ledger *ledger, ind_time last,
                         const struct ind_clock_offset_summary *offset)
{
    struct ind_row *row = row_for(&rows->strangers, account->sender);
    if (!row)
        return;
    add_to_row(row, ledger, last, offset);
    row->refused |= account->kind == IND_ACCOUNT_REFUSED;
    if (account->kind == IND_ACCOUNT_REFUSED || ind_slice_equal(account->device, account->sender))
        return;
    struct ind_row_names *names = row->names = row->names ? row->names : calloc(1, sizeof *names);
    if (!names)
        return;
    if (account->kind == IND_ACCOUNT_CLAIMANT)
        add_name(names->claims, &names->claim_count, account->device);
    else
        add_name(names->hosts, &names->host_count, account->device);
}

static void add_account(struct ind_rows *rows, const struct ind_account *account,
                        const struct ind_ledger *ledger, ind_time last,
                        const struct ind_clock_offset_summary *offset)
{
    ind_ledger_add(&rows->listeners[account->listener], ledger);
    bool claimant = account->kind == IND_ACCOUNT_CLAIMANT; /* the name is another's */
    add_to_row(row_for(&rows->devices, claimant ? account->sender : account->device), ledger, last, offset);
    if (((claimant || account->kind == IND_ACCOUNT_STRANGER) && account->sender.length) ||
        account->kind == IND_ACCOUNT_REFUSED)
        add_stranger(rows, account, ledger, last, offset);
}

/* What is counted at the socket replaces what the accounts have received: so that a difference shows. */
static void add_snapshot(struct ind_rows *rows, const struct ind_status *status, unsigned intake)
{
    const struct ind_ledger_snapshot *snapshot = &status->snapshots[intake];
    const struct ind_intake_counts *counts = &snapshot->counts;
    struct ind_ledger unread = {0};
    for (uint32_t i = 0; snapshot->ledgers && i < snapshot->account_count; i++)
        add_account(rows, ind_account_at(status->accounts[intake], i), &snapshot->ledgers[i],
                    snapshot->last[i], &snapshot->offsets[i]);
    for (uint16_t i = 0; i < status->listener_count; i++) {
        struct ind_ledger *listener = &rows->listeners[i];
        listener->ended[IND_END_LOST_BUFFER] += counts->lost_buffer[i];
        listener->waiting += counts->waiting[i];
        unread.received += counts->lost_buffer[i] + counts->waiting[i];
        unread.ended[IND_END_LOST_BUFFER] += counts->lost_buffer[i];
        unread.waiting += counts->waiting[i];
        rows->burst += counts->waiting[i];
    }
    if (unread.received)
        add_to_row(row_for(&rows->devices, IND_SLICE("(not read)")), &unread, IND_TIME_NONE, NULL);
    rows->rings += snapshot->ring_waiting;
    rows->files += snapshot->store_waiting;
}

static void settle_received(struct ind_rows *rows, const struct ind_status *status)
{
    for (uint16_t i = 0; i < status->listener_count; i++) {
        rows->listeners[i].received = rows->listeners[i].bytes = 0;
        for (unsigned n = 0; n < status->intakes; n++) {
            rows->listeners[i].received += status->snapshots[n].counts.received[i];
            rows->listeners[i].bytes += status->snapshots[n].counts.bytes[i];
        }
        ind_ledger_add(&rows->total, &rows->listeners[i]);
    }
}

struct ind_rows *ind_rows_gather(const struct ind_status *status)
{
    struct ind_rows *rows = calloc(1, sizeof *rows);
    for (unsigned i = 0; rows && i < status->intakes; i++)
        add_snapshot(rows, status, i);
    if (rows)
        settle_received(rows, status);
    return rows;
}

void ind_rows_free(struct ind_rows *rows)
{
    if (!rows)
        return;
    free_rows(&rows->devices);
    free_rows(&rows->strangers);
    free(rows);
}

bool ind_rows_is_silent(const struct ind_rows *rows, const struct ind_status *status,
                        const struct ind_device *device, ind_time *last)
{
    const struct ind_row *row;
    HASH_FIND(hh, rows->devices, device->name, (unsigned)device->name_length, row);
    *last = row && row->ledger.received ? row->last : IND_TIME_NONE;
    return !device->relay && (*last == IND_TIME_NONE || status->now - *last >= IND_SILENT_AFTER * IND_SECOND);
}

size_t ind_rows_silent(const struct ind_rows *rows, const struct ind_status *status)
{
    size_t count = 0;
    ind_time last;
    for (size_t i = 0; i < ind_devices_count(status->config->devices); i++)
        count += ind_rows_is_silent(rows, status, ind_devices_at(status->config->devices, i), &last);
    return count;
}

struct ranked {
    uint64_t received;
    size_t place;
    const struct ind_row *row;
};

static int busiest_first(const void *one, const void *other)
{
    const struct ranked *a = one, *b = other;
    if (a->received != b->received)
        return a->received < b->received ? 1 : -1;
    return a->place < b->place ? -1 : 1;
}

/* What is compared lies together: rows themselves are all over memory. */
const struct ind_row **ind_rows_sorted(const struct ind_row *table, size_t *count)
{
    size_t all = HASH_COUNT(table), place = 0;
    struct ranked *ranked = malloc((all + 1) * sizeof *ranked);
    const struct ind_row **sorted = malloc((all + 1) * sizeof *sorted);
    *count = 0;
    if (!ranked || !sorted) {
        free(ranked);
        free((void *)(uintptr_t)sorted);
        return NULL;
    }
    for (const struct ind_row *row = table; row; row = row->hh.next, place++)
        ranked[place] = (struct ranked){row->ledger.received, place, row};
    qsort(ranked, all, sizeof *ranked, busiest_first);
    for (place = 0; place < all; place++)
        sorted[place] = ranked[place].row;
    free(ranked);
    *count = all;
    return sorted;
}
