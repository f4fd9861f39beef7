#include "collect/control/rows.h"

#include "collect/control/roll_call.h"
#include "core/base/escape.h"
#include <stdlib.h>
#include <string.h>

static struct ind_row *row_for(struct ind_row **table, struct ind_slice name)
{
    struct ind_row *row;
    HASH_FIND(hh, *table, name.at, name.length, row);
    if (row || !(row = calloc(1, sizeof *row)))
        return row;
    row->name = name.at;
    row->name_length = name.length;
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

/* What is counted anew for each status. */
static void clear_rows(struct ind_row *table)
{
    for (struct ind_row *row = table; row; row = row->hh.next) {
        row->ledger = (struct ind_ledger){0};
        row->last = IND_TIME_NONE;
        row->offset = NULL;
    }
}

void ind_row_add(struct ind_row *row, const struct ind_ledger *ledger, ind_time last,
                 const struct ind_clock_offset *offset)
{
    ind_ledger_add(&row->ledger, ledger);
    if (last != IND_TIME_NONE && (row->last == IND_TIME_NONE || last >= row->last)) {
        row->last = last;
        row->offset = offset;
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

/* NULL where memory is out. */
static struct ind_row *stranger_row(struct ind_rows *rows, const struct ind_account *account)
{
    struct ind_row *row = row_for(&rows->strangers, account->sender);
    if (!row)
        return NULL;
    row->refused |= account->kind == IND_ACCOUNT_REFUSED;
    if (account->kind == IND_ACCOUNT_REFUSED || ind_slice_equal(account->device, account->sender))
        return row;
    struct ind_row_names *names = row->names = row->names ? row->names : calloc(1, sizeof *names);
    if (!names)
        return NULL;
    if (account->kind == IND_ACCOUNT_CLAIMANT)
        add_name(names->claims, &names->claim_count, account->device);
    else
        add_name(names->hosts, &names->host_count, account->device);
    return row;
}

static bool find_rows(struct ind_rows *rows, const struct ind_account *account, struct ind_account_rows *of)
{
    bool claimant = account->kind == IND_ACCOUNT_CLAIMANT; /* the name is another's */
    bool stranger = ((claimant || account->kind == IND_ACCOUNT_STRANGER) && account->sender.length) ||
                    account->kind == IND_ACCOUNT_REFUSED;
    of->device = row_for(&rows->devices, claimant ? account->sender : account->device);
    of->stranger = stranger ? stranger_row(rows, account) : NULL;
    return of->device && (of->stranger || !stranger);
}

/* Those that have come since the last time. */
static bool know_accounts(struct ind_rows *rows, unsigned intake, const struct ind_accounts *accounts,
                          uint32_t count)
{
    if (count > rows->room[intake]) {
        const uint32_t room = count + count / 2 + 64;
        struct ind_account_rows *grown = realloc(rows->of_account[intake], room * sizeof *grown);
        if (!grown)
            return false;
        rows->of_account[intake] = grown;
        rows->room[intake] = room;
    }
    for (; rows->known[intake] < count; rows->known[intake]++)
        if (!find_rows(rows, ind_account_at(accounts, rows->known[intake]),
                       &rows->of_account[intake][rows->known[intake]]))
            return false;
    return true;
}

static void add_account(struct ind_rows *rows, const struct ind_account_rows *of, uint16_t listener,
                        const struct ind_ledger_snapshot *snapshot, uint32_t number)
{
    const struct ind_ledger *ledger = &snapshot->ledgers[number];
    ind_ledger_add(&rows->listeners[listener], ledger);
    ind_row_add(of->device, ledger, snapshot->last[number], &snapshot->offsets[number]);
    if (of->stranger)
        ind_row_add(of->stranger, ledger, snapshot->last[number], &snapshot->offsets[number]);
}

/* What is counted at the socket replaces what the accounts have received: so that a difference shows. */
static bool add_snapshot(struct ind_rows *rows, const struct ind_status *status, unsigned intake)
{
    const struct ind_ledger_snapshot *snapshot = &status->snapshots[intake];
    const struct ind_intake_counts *counts = &snapshot->counts;
    struct ind_ledger unread = {0};
    const uint32_t count = snapshot->ledgers ? snapshot->account_count : 0;
    bool good = know_accounts(rows, intake, status->accounts[intake], count);
    for (uint32_t i = 0; good && i < count; i++)
        add_account(rows, &rows->of_account[intake][i], ind_account_at(status->accounts[intake], i)->listener,
                    snapshot, i);
    for (uint16_t i = 0; i < status->listener_count; i++) {
        struct ind_ledger *listener = &rows->listeners[i];
        listener->ended[IND_END_LOST_BUFFER] += counts->lost_buffer[i];
        listener->waiting += counts->waiting[i];
        unread.received += counts->lost_buffer[i] + counts->waiting[i];
        unread.ended[IND_END_LOST_BUFFER] += counts->lost_buffer[i];
        unread.waiting += counts->waiting[i];
        rows->burst += counts->waiting[i];
    }
    if (unread.received && !rows->unread)
        good &= (rows->unread = row_for(&rows->devices, IND_SLICE("(not read)"))) != NULL;
    if (unread.received && rows->unread)
        ind_row_add(rows->unread, &unread, IND_TIME_NONE, NULL);
    rows->rings += snapshot->ring_waiting;
    rows->files += snapshot->store_waiting;
    return good;
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

struct ind_rows *ind_rows_new(void)
{
    return calloc(1, sizeof(struct ind_rows));
}

bool ind_rows_gather(struct ind_rows *rows, const struct ind_status *status)
{
    bool good = true;
    clear_rows(rows->devices);
    clear_rows(rows->strangers);
    memset(rows->listeners, 0, sizeof rows->listeners);
    rows->total = (struct ind_ledger){0};
    rows->burst = rows->rings = rows->files = 0;
    for (unsigned i = 0; i < status->intakes; i++)
        good &= add_snapshot(rows, status, i);
    settle_received(rows, status);
    return good;
}

void ind_rows_free(struct ind_rows *rows)
{
    if (!rows)
        return;
    free_rows(&rows->devices);
    free_rows(&rows->strangers);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        free(rows->of_account[i]);
    free(rows);
}

struct ind_clock_offset_summary ind_row_clock(const struct ind_row *row)
{
    struct ind_clock_offset_summary summary = {0};
    if (row->offset)
        ind_clock_offset_sum_up(row->offset, &summary);
    return summary;
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
    for (const struct ind_row *row = table; row; row = row->hh.next) {
        ranked[place] = (struct ranked){row->ledger.received, place, row};
        place += row->ledger.received > 0;
    }
    qsort(ranked, place, sizeof *ranked, busiest_first);
    for (*count = 0; *count < place; ++*count)
        sorted[*count] = ranked[*count].row;
    free(ranked);
    return sorted;
}
