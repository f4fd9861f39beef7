/* What became of messages, by days: out of the ledger, as often as that is added up, and at the end. */
#include "collect/daemon/collector_private.h"

void ind_days_begin(struct ind_collector *collector)
{
    const char *state = collector->settings->config->state;
    bool damaged = false;
    if (ind_is_from_files(collector))
        return;
    collector->days = ind_day_book_new(state, &damaged);
    collector->housekeeping.days = collector->days;
    if (damaged)
        ind_report(&collector->reporter, IND_OWN_DAYS_FAILED, NULL,
                   "%s/" IND_DAYS_NAME " is damaged; it is kept as " IND_DAYS_NAME
                   ".damaged, and what became of messages by days begins anew",
                   state);
}

static void add_ledger(uint64_t counts[IND_DAY_COUNTS], const struct ind_ledger *ledger)
{
    counts[IND_DAY_STORED] += ledger->ended[IND_END_STORED];
    counts[IND_DAY_HANDED_ON] += ledger->ended[IND_END_HANDED];
    counts[IND_DAY_DROPPED] += ledger->ended[IND_END_DROPPED];
    counts[IND_DAY_UNROUTED] += ledger->ended[IND_END_UNROUTED];
    counts[IND_DAY_REFUSED] += ledger->ended[IND_END_REFUSED_SENDER] + ledger->ended[IND_END_REFUSED_EMPTY] +
                               ledger->ended[IND_END_REFUSED_TRAP];
    counts[IND_DAY_LOST] += ind_ledger_lost(ledger);
}

static void note(struct ind_collector *collector, const uint64_t counts[IND_DAY_COUNTS],
                 const struct ind_edit_count *edits)
{
    ind_day_book_note(collector->days, counts, edits, ind_now(), collector->rules->config->zone);
}

void ind_days_note(struct ind_collector *collector, const struct ind_ledger_snapshot *snapshots)
{
    uint64_t counts[IND_DAY_COUNTS] = {0};
    struct ind_edit_count *edits = NULL;
    if (!collector->days)
        return;
    for (unsigned i = 0; i < collector->intakes; i++) {
        const struct ind_ledger_snapshot *snapshot = &snapshots[i];
        for (uint16_t n = 0; n < collector->listeners.name_count; n++) {
            counts[IND_DAY_RECEIVED] += snapshot->counts.received[n];
            counts[IND_DAY_LOST] += snapshot->counts.lost_buffer[n];
        }
        for (uint32_t n = 0; snapshot->ledgers && n < snapshot->account_count; n++)
            add_ledger(counts, &snapshot->ledgers[n]);
        ind_edit_counts_add_all(&edits, snapshot->edits);
    }
    counts[IND_DAY_DROPPED_BY_KERNEL] = collector->latest.dropped;
    note(collector, counts, edits);
    ind_edit_counts_free(&edits);
}

void ind_days_end(struct ind_collector *collector, const struct ind_collect_result *result)
{
    uint64_t counts[IND_DAY_COUNTS] = {
        [IND_DAY_RECEIVED] = result->ledger.received, [IND_DAY_DROPPED_BY_KERNEL] = result->kernel_dropped};
    if (!collector->days)
        return;
    add_ledger(counts, &result->ledger);
    note(collector, counts, result->edits);
    if (!ind_day_book_save(collector->days, true, ind_steady_now()))
        ind_report(&collector->reporter, IND_OWN_DAYS_FAILED, NULL,
                   "what became of messages today cannot be saved in %s", collector->settings->config->state);
    ind_day_book_free(collector->days);
    collector->days = NULL;
}
