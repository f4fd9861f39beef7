#include "collect/output/writer.h"

#include "collect/runtime/clock.h"
#include "collect/runtime/reporter.h"
#include "core/message/names.h"

#include <stdlib.h>
#include <time.h>

#define FLUSH_AFTER (IND_SECOND / 5)
enum { TICK_MILLISECONDS = 100, HANDING_MILLISECONDS = 2, RETRY_MILLISECONDS = 100, PATIENCE_SECONDS = 5 };

void ind_writer_begin(struct ind_writer *writer)
{
    ind_rotation_order_begin(&writer->rotation);
}

void ind_writer_end(struct ind_writer *writer)
{
    ind_rotation_order_end(&writer->rotation);
}

static void pause_for(long milliseconds)
{
    struct timespec time = {milliseconds / 1000, milliseconds % 1000 * 1000000};
    nanosleep(&time, NULL);
}

static void publish(struct ind_writer *writer)
{
    const struct ind_store_counts counts = ind_destination_counts(&writer->filing.destination);
    ind_writer_facts_set(&writer->facts, &counts);
    ind_pulse_beat(&writer->pulse, ind_clock_read(writer->clock).steady);
}

/* ---- The book ---- */

static void lock_book(struct ind_writer *writer)
{
    if (writer->filing.book)
        ind_book_lock(writer->filing.book);
    writer->book_locked = true;
}

static void unlock_book(struct ind_writer *writer)
{
    writer->book_locked = false;
    if (writer->filing.book)
        ind_book_unlock(writer->filing.book);
}

void ind_writer_settle_handed_on(struct ind_writer *writer, uint32_t owner, bool taken)
{
    bool locked = writer->book_locked; /* a batch is being filed */
    if (!locked)
        lock_book(writer);
    ind_book_settle_handed_on(writer->filing.book, owner, taken);
    if (!locked)
        unlock_book(writer);
}

/* ---- Ledger snapshots ---- */

static uint64_t waiting_in(const struct ind_ledger_snapshot *snapshot)
{
    uint64_t sum = 0;
    for (uint32_t i = 0; snapshot->ledgers && i < snapshot->account_count; i++)
        sum += snapshot->ledgers[i].waiting;
    return sum;
}

/* All of it is filled: memory that was used before is not cleared. */
static bool make_room(struct ind_ledger_snapshot *snapshot)
{
    if (snapshot->account_count <= snapshot->account_room && snapshot->ledgers)
        return true;
    const uint32_t room = snapshot->account_count + snapshot->account_count / 4 + 64;
    free(snapshot->ledgers);
    free(snapshot->last);
    free(snapshot->offsets);
    snapshot->ledgers = malloc(room * sizeof *snapshot->ledgers);
    snapshot->last = malloc(room * sizeof *snapshot->last);
    snapshot->offsets = malloc(room * sizeof *snapshot->offsets);
    snapshot->account_room = room;
    if (snapshot->ledgers && snapshot->last && snapshot->offsets)
        return true;
    free(snapshot->ledgers);
    snapshot->ledgers = NULL;
    return false;
}

static void weigh(const struct ind_writer *writer, unsigned ring, struct ind_ledger_snapshot *snapshot)
{
    struct ind_weighing weighing = {ring, snapshot->ledgers, snapshot->account_count};
    ind_book_weigh(writer->filing.book, &weighing);
    ind_destination_waiting(&writer->filing.destination, ind_weigh_lines, &weighing);
    ind_sinks_waiting(writer->filing.sinks, ind_weigh_lines, &weighing);
    for (uint32_t i = 0; i < snapshot->account_count; i++) {
        const struct ind_account *account = ind_account_at(writer->accounts[ring], i);
        snapshot->last[i] = account->last;
        snapshot->offsets[i] = account->offset;
    }
    snapshot->store_waiting = waiting_in(snapshot);
}

static void add_shares(const struct ind_writer *writer, unsigned ring, struct ind_ledger_snapshot *snapshot)
{
    size_t count = 0;
    for (uint32_t i = 0; i < snapshot->account_count; i++)
        count += ind_account_at(writer->accounts[ring], i)->route_count + 1u;
    struct ind_route_share *next = snapshot->shares = malloc((count + 1) * sizeof *next);
    for (uint32_t i = 0; next && i < snapshot->account_count; i++) {
        const struct ind_account *account = ind_account_at(writer->accounts[ring], i);
        for (uint32_t n = 0; n < account->route_count; n++)
            *next++ = (struct ind_route_share){i, account->routes[n].place, account->routes[n].messages};
        if (account->other_routes)
            *next++ = (struct ind_route_share){i, UINT32_MAX, account->other_routes};
    }
    snapshot->share_count = next ? (size_t)(next - snapshot->shares) : 0;
}

static void fill_snapshot(struct ind_writer *writer, unsigned ring, struct ind_ledger_snapshot *snapshot)
{
    if (!make_room(snapshot))
        return;
    lock_book(writer);
    weigh(writer, ring, snapshot);
    size_t routes;
    const struct ind_route_count *counts = ind_book_routes(writer->filing.book, &routes);
    if (routes > 0 && (snapshot->routes = calloc(routes, sizeof *counts))) {
        memcpy(snapshot->routes, counts, routes * sizeof *counts);
        snapshot->route_count = routes;
    }
    add_shares(writer, ring, snapshot);
    snapshot->sink_count = ind_sinks_count(writer->filing.sinks, &snapshot->sinks);
    ind_edit_counts_add_all(&snapshot->edits, ind_book_edits(writer->filing.book, ring));
    unlock_book(writer);
}

static void snapshot_done(struct ind_writer *writer)
{
    if (atomic_fetch_sub(&writer->snapshots_out, 1) == 1)
        ind_waker_wake(writer->control);
}

/* What of a batch is not filed yet. */
static void add_batch(const struct ind_batch *batch, struct ind_ledger_snapshot *snapshot)
{
    if (snapshot->ledgers)
        ind_batch_weigh(batch, snapshot->ledgers);
    for (size_t i = 0; !batch->booked && i < batch->edit_tally_count; i++)
        ind_edit_counts_add_tally(&snapshot->edits, &batch->edit_tallies[i]);
}

/* A snapshot does not wait until its marker comes to us, while the disk takes nothing maybe for hours: the
 * store, the batch under way and what stands before the marker in its ring are weighed. */
static void fill_snapshots_early(struct ind_writer *writer)
{
    for (unsigned ring = 0; writer->filing.book && ring < writer->intakes; ring++) {
        const struct ind_batch *before[IND_RING_BATCHES];
        size_t count;
        struct ind_marker *marker = ind_ring_pull_snapshot(writer->rings, ring, before, &count);
        if (!marker)
            continue;
        struct ind_ledger_snapshot *snapshot = marker->snapshot;
        fill_snapshot(writer, ring, snapshot);
        if (writer->batch && writer->ring == ring)
            add_batch(writer->batch, snapshot);
        for (size_t i = 0; i < count; i++)
            add_batch(before[i], snapshot);
        snapshot->ring_waiting = waiting_in(snapshot) - snapshot->store_waiting;
        snapshot_done(writer);
    }
}

/* ---- Batches ---- */

static struct ind_clocks now(const struct ind_writer *writer)
{
    return ind_clock_read(writer->clock);
}

/* Nobody waits forever: messages from files end after some seconds without room, sockets go on until they
 * are told to end, and then no longer than that. */
static bool out_of_patience(const struct ind_writer *writer)
{
    bool ending = writer->from_files || ind_is_stopping(writer->lifecycle);
    return ending && ind_steady_from(writer->stuck_since, now(writer).steady) > PATIENCE_SECONDS * IND_SECOND;
}

/* The disk takes nothing: gives up where that has lasted too long. Another disk may take what it is given. */
static void note_stuck(struct ind_writer *writer)
{
    if (!ind_steady_is_set(writer->stuck_since))
        writer->stuck_since = now(writer).steady;
    if (!out_of_patience(writer))
        return;
    if (writer->filing.book)
        atomic_store(&writer->lifecycle->give_up, true);
    else
        writer->gave_up = true;
}

static bool has_given_up(const struct ind_writer *writer)
{
    return writer->gave_up || ind_has_given_up(writer->lifecycle);
}

/* Blocks of files are filed in their order: of all rings but one the batches wait. */
static void hold_later_blocks(struct ind_writer *writer)
{
    for (unsigned i = 1; writer->from_files && i < writer->intakes; i++)
        writer->held[i] = true;
}

static void go_on_with_next_block(struct ind_writer *writer, unsigned ring)
{
    writer->held[ring] = true;
    writer->held[(ring + 1) % writer->intakes] = false;
}

static void end_batch(struct ind_writer *writer)
{
    bool last_of_block = writer->batch->last_of_block;
    ind_ring_give_back(writer->rings, writer->ring, writer->batch);
    writer->batch = NULL;
    writer->stuck_since = IND_STEADY_NEVER;
    if (last_of_block)
        go_on_with_next_block(writer, writer->ring);
}

/* Goes on with the batch under way; it is done where the writer goes on. */
static enum ind_writer_state file_batch(struct ind_writer *writer)
{
    enum ind_filed filed = IND_FILED_STORE_FULL;
    lock_book(writer);
    if (!has_given_up(writer))
        filed = ind_file_batch(&writer->filing, writer->batch, writer->ring, now(writer));
    if (filed == IND_FILED_STORE_FULL && !has_given_up(writer))
        note_stuck(writer);
    if (filed == IND_FILED_STORE_FULL && has_given_up(writer)) {
        ind_file_lose(&writer->filing, writer->batch, writer->ring);
        filed = IND_FILED;
    }
    unlock_book(writer);
    if (filed != IND_FILED)
        return filed == IND_FILED_SINK_FULL ? IND_WRITER_SINK_FULL : IND_WRITER_DISK_FULL;
    end_batch(writer);
    return IND_WRITER_GOES_ON;
}

static void wait_for_disk(struct ind_writer *writer)
{
    pause_for(RETRY_MILLISECONDS);
    (void)ind_destination_flush(&writer->filing.destination, now(writer));
}

/* Only messages from files wait for standard output or a program. */
static void wait_for_sinks(struct ind_writer *writer)
{
    if (ind_is_stopping(writer->lifecycle))
        ind_sinks_hurry(writer->filing.sinks);
    (void)ind_sinks_wait(writer->filing.sinks, HANDING_MILLISECONDS);
    ind_relays_run(writer->filing.relays);
    (void)ind_destination_tick(&writer->filing.destination, now(writer), FLUSH_AFTER);
}

/* At the end what is queued for standard output and programs is still handed on, as long as it is taken. */
static void empty_sinks(struct ind_writer *writer)
{
    struct ind_sinks *sinks = writer->filing.sinks;
    struct ind_steady progress = now(writer).steady;
    size_t left = ind_sinks_run(sinks, progress), before = left;
    while (left > 0 && !ind_has_given_up(writer->lifecycle)) {
        if (!writer->from_files || ind_is_stopping(writer->lifecycle))
            ind_sinks_hurry(sinks);
        left = ind_sinks_wait(sinks, RETRY_MILLISECONDS);
        if (left < before || ind_sinks_worth_waiting(sinks))
            progress = now(writer).steady;
        before = left;
        if (ind_steady_from(progress, now(writer).steady) > PATIENCE_SECONDS * IND_SECOND)
            break;
    }
    ind_sinks_give_up(sinks);
}

/* What they cannot pass on in time waits on disk. */
static void end_relays(struct ind_writer *writer)
{
    struct ind_relays *relays = writer->filing.relays;
    bool patient = writer->from_files && !ind_is_stopping(writer->lifecycle);
    ind_relays_end(relays, patient);
    while (patient && !ind_relays_have_ended(relays)) {
        pause_for(HANDING_MILLISECONDS);
        patient = !ind_is_stopping(writer->lifecycle);
    }
    if (writer->from_files)
        ind_relays_end(relays, false);
}

/* What still waits when patience ends is lost; closing the store enters that into the book. */
static void flush_all(struct ind_writer *writer)
{
    writer->stuck_since = IND_STEADY_NEVER;
    while (!ind_destination_flush(&writer->filing.destination, now(writer)) && !has_given_up(writer)) {
        note_stuck(writer);
        fill_snapshots_early(writer);
        publish(writer);
        if (!has_given_up(writer))
            pause_for(RETRY_MILLISECONDS);
    }
    if (writer->filing.relays)
        end_relays(writer);
    if (writer->filing.sinks)
        empty_sinks(writer);
}

/* Each gives up by itself where its disk takes nothing. */
static void wait_for_lanes(struct ind_writer *writer)
{
    struct ind_lanes *lanes = writer->filing.destination.lanes;
    if (!lanes)
        return;
    ind_lanes_end(lanes, now(writer).steady);
    while (!ind_lanes_have_ended(lanes)) {
        publish(writer);
        pause_for(HANDING_MILLISECONDS);
    }
}

/* ---- Markers and orders ---- */

static void adopt_routes(struct ind_writer *writer, const struct ind_config *config)
{
    lock_book(writer);
    bool counted = ind_book_adopt(writer->filing.book, config);
    unlock_book(writer);
    if (!counted)
        ind_report(writer->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: routes are not counted any more");
    if (!ind_relays_adopt(writer->filing.relays, config))
        ind_report(writer->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: some relays cannot begin, and lose their messages");
    if (!ind_sinks_adopt(writer->filing.sinks, config))
        ind_report(writer->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: some routes to programs or standard output lose their messages");
}

/* Behind the marker a ring has batches of the new rules: it is held until all rings have come so far. */
static void adopt_rules(struct ind_writer *writer, unsigned ring, const struct ind_marker *marker)
{
    writer->held[ring] = true;
    if (++writer->held_count < writer->intakes)
        return;
    ind_destination_adopt(&writer->filing.destination, marker->config, marker->plan);
    if (writer->filing.book)
        adopt_routes(writer, marker->config);
    for (unsigned i = 0; i < writer->intakes; i++)
        writer->held[i] = false;
    writer->held_count = 0;
    atomic_store(&writer->behind, false);
    ind_waker_wake(writer->control);
}

static void pass_marker(struct ind_writer *writer, unsigned ring, struct ind_marker *marker)
{
    if (marker->kind == IND_MARKER_RULES) {
        adopt_rules(writer, ring, marker);
        return;
    }
    fill_snapshot(writer, ring, marker->snapshot);
    snapshot_done(writer);
}

static void carry_out_rotation(struct ind_writer *writer)
{
    bool only_due;
    size_t failed;
    if (!ind_rotation_order_accept(&writer->rotation, &only_due))
        return;
    size_t count = ind_destination_rotate(&writer->filing.destination, only_due, now(writer), &failed);
    ind_rotation_order_settle(&writer->rotation, count, failed);
    ind_waker_wake(writer->control);
}

void ind_writer_order_rotation(struct ind_writer *writer, bool only_due)
{
    ind_rotation_order_ask(&writer->rotation, only_due);
    ind_rings_wake(writer->rings);
}

enum ind_writer_state ind_writer_step(struct ind_writer *writer, int milliseconds)
{
    bool ended = false;
    ind_pulse_beat(&writer->pulse, now(writer).steady);
    if (atomic_load_explicit(&writer->snapshots_out, memory_order_relaxed) > 0)
        fill_snapshots_early(writer);
    if (!writer->batch) {
        struct ind_ring_item item = ind_rings_next(writer->rings, writer->held, milliseconds, &ended);
        writer->batch = item.batch;
        writer->ring = item.ring;
        if (item.marker)
            pass_marker(writer, item.ring, item.marker);
    }
    enum ind_writer_state state = writer->batch ? file_batch(writer) : IND_WRITER_GOES_ON;
    if (state != IND_WRITER_GOES_ON) {
        fill_snapshots_early(writer);
        publish(writer);
        return state;
    }
    if (!has_given_up(writer))
        (void)ind_destination_tick(&writer->filing.destination, now(writer), FLUSH_AFTER);
    if (writer->filing.relays)
        ind_relays_run(writer->filing.relays);
    carry_out_rotation(writer);
    publish(writer);
    return ended ? IND_WRITER_ENDED : IND_WRITER_GOES_ON;
}

void *ind_writer_run(void *argument)
{
    struct ind_writer *writer = argument;
    enum ind_writer_state state = IND_WRITER_GOES_ON;
    hold_later_blocks(writer);
    while (state != IND_WRITER_ENDED) {
        bool handing = writer->filing.sinks && ind_sinks_run(writer->filing.sinks, now(writer).steady) > 0;
        state = ind_writer_step(writer, handing ? HANDING_MILLISECONDS : TICK_MILLISECONDS);
        if (state == IND_WRITER_DISK_FULL)
            wait_for_disk(writer);
        else if (state == IND_WRITER_SINK_FULL)
            wait_for_sinks(writer);
    }
    flush_all(writer);
    wait_for_lanes(writer);
    publish(writer);
    atomic_store(&writer->ended, true);
    if (writer->filing.book)
        ind_lifecycle_set_written(writer->lifecycle);
    return NULL;
}
