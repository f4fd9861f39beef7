/* collect/writer.c: the writer thread, which only puts lines into files, and the housekeeping thread, which
 * does all that may take long. */
#define _GNU_SOURCE /* syscall */
#include "collect/clock.h"
#include "collect/inside.h"
#include "core/message/names.h"

#include <errno.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <time.h>

#ifdef __linux__
#include <sys/syscall.h>
#include <unistd.h>
#endif

#define FLUSH_AFTER (IND_SECOND / 5)
enum { TICK_MILLISECONDS = 100, HANDING_MILLISECONDS = 2, RETRY_MILLISECONDS = 100, PATIENCE_SECONDS = 5 };

struct writer {
    struct ind_collector *collector;
    bool held[IND_MOST_INTAKES]; /* rings whose next batches are of rules that are not adopted yet */
    unsigned held_count;
    struct ind_batch *batch; /* under way */
    unsigned ring;           /* its */
    struct ind_rules *rules; /* to be adopted once all rings are held */
    unsigned weighed;        /* ring, while stuck */
};

static void pause_for(long milliseconds)
{
    struct timespec time = {milliseconds / 1000, milliseconds % 1000 * 1000000};
    nanosleep(&time, NULL);
}

/* ---- Sheets: the ledger at one moment ---- */

static bool is_sheet(const struct ind_marker *mark)
{
    return mark->kind == IND_MARKER_SNAPSHOT;
}

static uint64_t waiting_in(const struct ind_ledger_snapshot *sheet)
{
    uint64_t sum = 0;
    for (uint32_t i = 0; sheet->ledgers && i < sheet->count; i++)
        sum += sheet->ledgers[i].waiting;
    return sum;
}

static void fill_sheet(struct ind_collector *collector, unsigned ring, struct ind_ledger_snapshot *sheet)
{
    size_t count = sheet->count ? sheet->count : 1;
    sheet->ledgers = calloc(count, sizeof *sheet->ledgers);
    sheet->last = calloc(count, sizeof *sheet->last);
    sheet->lags = calloc(count, sizeof *sheet->lags);
    if (!sheet->ledgers || !sheet->last || !sheet->lags) {
        free(sheet->ledgers);
        sheet->ledgers = NULL;
        return;
    }
    ind_book_weigh(collector->book, ring, collector->store, collector->takers, sheet->ledgers, sheet->count);
    for (uint32_t i = 0; i < sheet->count; i++) {
        const struct ind_account *account = ind_account_at(collector->accounts[ring], i);
        sheet->last[i] = account->last;
        ind_clock_offset_sum_up(&account->lag, &sheet->lags[i]);
    }
    sheet->store_waiting = waiting_in(sheet);
    size_t routes;
    const struct ind_route_count *counts = ind_book_routes(collector->book, &routes);
    if (routes > 0 && (sheet->routes = calloc(routes, sizeof *counts))) {
        memcpy(sheet->routes, counts, routes * sizeof *counts);
        sheet->route_count = routes;
    }
    sheet->taker_count = ind_sinks_count(collector->takers, &sheet->takers);
    ind_edit_counts_add_all(&sheet->edits, ind_book_edits(collector->book, ring));
}

static void sheet_done(struct ind_collector *collector)
{
    if (atomic_fetch_sub(&collector->sheets_out, 1) == 1)
        ind_control_wake(collector->control);
}

/* Called with NULL first: then the store and the batch under way are weighed, after it what stands in the
 * ring. */
static void weigh_stuck(void *context, struct ind_marker *mark, const struct ind_batch *batch)
{
    struct writer *writer = context;
    unsigned ring = writer->weighed;
    if (!batch) {
        fill_sheet(writer->collector, ring, mark->sheet);
        batch = writer->batch && writer->ring == ring ? writer->batch : NULL;
    }
    if (batch && mark->sheet->ledgers)
        ind_batch_weigh(batch, mark->sheet->ledgers);
    if (batch && !batch->booked)
        ind_batch_add_edits(batch, &mark->sheet->edits);
    mark->sheet->ring_waiting = waiting_in(mark->sheet) - mark->sheet->store_waiting;
}

/* While the disk takes nothing, a sheet does not wait its turn. */
static void fill_sheets_while_stuck(struct writer *writer)
{
    for (writer->weighed = 0; writer->weighed < writer->collector->intakes; writer->weighed++)
        if (ind_ring_pull(writer->collector->rings, writer->weighed, is_sheet, weigh_stuck, writer))
            sheet_done(writer->collector);
}

static void publish(struct ind_collector *collector)
{
    struct ind_store_counts counts = ind_store_counts(collector->store);
    atomic_store(&collector->lines, counts.lines);
    atomic_store(&collector->bytes, counts.bytes);
    atomic_store(&collector->rotated_files, counts.rotated);
    atomic_store(&collector->overflowed, counts.overflowed);
    atomic_store(&collector->live_files, counts.live_files);
    atomic_store(&collector->open_files, counts.open_files);
}

/* ---- Batches ---- */

/* Nobody waits for ever: messages from files end after some seconds without room, sockets go on until they
 * are told to end, and then no longer than that. */
static bool out_of_patience(struct ind_collector *collector, struct ind_steady stuck_since)
{
    bool ending = collector->settings->file_count > 0 || atomic_load(&collector->stop);
    return ending && ind_steady_from(stuck_since, ind_steady_now()) > PATIENCE_SECONDS * IND_SECOND;
}

static bool wait_for_disk(struct writer *writer, struct ind_steady *stuck_since)
{
    if (!ind_steady_is_set(*stuck_since))
        *stuck_since = ind_steady_now();
    if (out_of_patience(writer->collector, *stuck_since)) {
        atomic_store(&writer->collector->give_up, true);
        return false;
    }
    fill_sheets_while_stuck(writer);
    publish(writer->collector);
    pause_for(RETRY_MILLISECONDS);
    (void)ind_store_flush(writer->collector->store, ind_clocks_now());
    return true;
}

/* Only messages from files wait for standard output or a program. */
static void wait_for_takers(struct writer *writer)
{
    struct ind_collector *collector = writer->collector;
    fill_sheets_while_stuck(writer);
    publish(collector);
    if (atomic_load(&collector->stop))
        ind_sinks_hurry(collector->takers);
    (void)ind_sinks_wait(collector->takers, RETRY_MILLISECONDS);
    (void)ind_store_tick(collector->store, ind_clocks_now(), FLUSH_AFTER);
}

static void store_batch(struct writer *writer, unsigned ring, struct ind_batch *batch)
{
    struct ind_collector *collector = writer->collector;
    struct ind_steady stuck_since = IND_STEADY_NEVER;
    writer->batch = batch;
    writer->ring = ring;
    enum ind_batch_stored stored = IND_BATCH_FULL;
    while (!atomic_load(&collector->give_up) &&
           (stored = ind_batch_store(batch, ring, collector->book, collector->store, collector->takers,
                                     ind_clocks_now())) != IND_BATCH_STORED)
        if (stored == IND_BATCH_HELD)
            wait_for_takers(writer);
        else if (!wait_for_disk(writer, &stuck_since))
            break;
    if (atomic_load(&collector->give_up))
        ind_batch_lose(batch, ring, collector->book, collector->takers);
    writer->batch = NULL;
    ind_ring_give_back(collector->rings, ring, batch);
}

/* At the end what is queued for standard output and programs is still handed out, as long as it is taken. */
static void hand_out(struct ind_collector *collector)
{
    struct ind_steady progress = ind_steady_now();
    size_t left = ind_sinks_run(collector->takers, progress), before = left;
    bool files = collector->settings->file_count > 0;
    while (left > 0 && !atomic_load(&collector->give_up)) {
        bool hurry = !files || atomic_load(&collector->stop);
        if (hurry)
            ind_sinks_hurry(collector->takers);
        left = ind_sinks_wait(collector->takers, RETRY_MILLISECONDS);
        if (left < before || ind_sinks_worth_waiting(collector->takers))
            progress = ind_steady_now();
        before = left;
        if (ind_steady_from(progress, ind_steady_now()) > PATIENCE_SECONDS * IND_SECOND)
            break;
    }
    ind_sinks_give_up(collector->takers);
}

/* What still waits when patience ends is lost; closing the store tells the book so. */
static void flush_all(struct writer *writer)
{
    struct ind_steady stuck_since = IND_STEADY_NEVER;
    while (!ind_store_flush(writer->collector->store, ind_clocks_now()) &&
           !atomic_load(&writer->collector->give_up))
        if (!wait_for_disk(writer, &stuck_since))
            break;
    hand_out(writer->collector);
}

/* ---- Marks and orders ---- */

/* Behind the mark a ring has batches of the new rules: it is held until all rings have come so far. */
static void take_rules(struct writer *writer, unsigned ring, struct ind_rules *rules)
{
    struct ind_collector *collector = writer->collector;
    writer->held[ring] = true;
    if (++writer->held_count < collector->intakes)
        return;
    ind_store_adopt(collector->store, rules->plan);
    if (!ind_book_adopt(collector->book, rules->config))
        ind_collect_tell(collector, IND_SEVERITY_WARNING, "out of memory: routes are not counted any more");
    if (!ind_sinks_adopt(collector->takers, rules->config))
        ind_collect_tell(collector, IND_SEVERITY_WARNING,
                         "out of memory: some routes to programs or standard output lose their messages");
    for (unsigned i = 0; i < collector->intakes; i++)
        writer->held[i] = false;
    writer->held_count = 0;
    atomic_store(&collector->keeper_rules, rules);
    atomic_store(&collector->writer_behind, false);
    ind_control_wake(collector->control);
}

static void begin_turns(struct writer *writer)
{
    bool in_turns = writer->collector->settings->file_count > 0;
    for (unsigned i = 1; in_turns && i < writer->collector->intakes; i++)
        writer->held[i] = true;
}

static void next_turn(struct writer *writer, unsigned ring)
{
    writer->held[ring] = true;
    writer->held[(ring + 1) % writer->collector->intakes] = false;
}

static void take_mark(struct writer *writer, unsigned ring, struct ind_marker *mark)
{
    if (mark->kind == IND_MARKER_RULES) {
        take_rules(writer, ring, mark->rules);
        return;
    }
    fill_sheet(writer->collector, ring, mark->sheet);
    sheet_done(writer->collector);
}

static void take_orders(struct ind_collector *collector)
{
    pthread_mutex_lock(&collector->ordering);
    bool asked = collector->rotate_asked, only_due = collector->rotate_only_due;
    collector->rotate_asked = false;
    pthread_mutex_unlock(&collector->ordering);
    if (!asked)
        return;
    size_t failed = 0, count = ind_store_rotate(collector->store, only_due, ind_clocks_now(), &failed);
    pthread_mutex_lock(&collector->ordering);
    collector->rotated = true;
    collector->rotated_count += count; /* until those who asked have been answered */
    collector->rotated_failed += failed;
    pthread_mutex_unlock(&collector->ordering);
    ind_control_wake(collector->control);
}

void *ind_writer(void *argument)
{
    struct ind_collector *collector = argument;
    struct writer writer = {.collector = collector};
    bool ended = false;
    begin_turns(&writer);
    while (!ended) {
        bool handing = ind_sinks_run(collector->takers, ind_steady_now()) > 0;
        struct ind_ring_item item = ind_rings_take(
            collector->rings, writer.held, handing ? HANDING_MILLISECONDS : TICK_MILLISECONDS, &ended);
        bool last_of_turn = item.batch && item.batch->last_of_turn;
        if (item.batch)
            store_batch(&writer, item.ring, item.batch);
        if (last_of_turn)
            next_turn(&writer, item.ring);
        if (item.mark)
            take_mark(&writer, item.ring, item.mark);
        if (!atomic_load(&collector->give_up))
            (void)ind_store_tick(collector->store, ind_clocks_now(), FLUSH_AFTER);
        take_orders(collector);
        publish(collector);
    }
    flush_all(&writer);
    publish(collector);
    ind_tell_written(collector);
    return NULL;
}

/* ---- Housekeeping ---- */

/* Receiving and writing come first. */
static void step_back(void)
{
#if defined(__linux__) && defined(SYS_ioprio_set)
    enum { WHO_PROCESS = 1, CLASS_IDLE = 3, CLASS_SHIFT = 13 };
    (void)syscall(SYS_ioprio_set, WHO_PROCESS, 0, CLASS_IDLE << CLASS_SHIFT);
    (void)setpriority(PRIO_PROCESS, (id_t)syscall(SYS_gettid), 10); /* on Linux a thread's own */
#endif
}

/* Between two blocks of what is compressed, too: a reload and the end wait for no more than that. */
static void adopt_rules(struct ind_collector *collector)
{
    struct ind_rules *rules = atomic_exchange(&collector->keeper_rules, NULL);
    if (!rules)
        return;
    ind_keeper_adopt(ind_store_keeper(collector->store), rules->plan);
    atomic_store(&collector->keeper_behind, false);
    ind_control_wake(collector->control);
}

static bool must_end(void *argument)
{
    struct ind_collector *collector = argument;
    adopt_rules(collector);
    return atomic_load(&collector->stop) && atomic_load(&collector->written);
}

static void keep(struct ind_collector *collector)
{
    const struct ind_interrupt interrupt = {must_end, collector};
    adopt_rules(collector);
    if (atomic_exchange(&collector->clock_is_right, false))
        ind_keeper_retain(ind_store_keeper(collector->store), ind_clocks_now(), true);
    (void)ind_keeper_run(ind_store_keeper(collector->store), ind_clocks_now(), &interrupt);
    struct ind_keeper_counts counts = ind_keeper_counts(ind_store_keeper(collector->store));
    atomic_store(&collector->compressed, counts.compressed);
    atomic_store(&collector->removed, counts.removed);
    atomic_store(&collector->archives, counts.archives);
    atomic_store(&collector->archive_bytes, counts.archive_bytes);
}

void *ind_housekeeping(void *argument)
{
    struct ind_collector *collector = argument;
    int ticks = 0;
    step_back();
    while (!atomic_load(&collector->written)) {
        if (ind_keeper_wanted(ind_store_keeper(collector->store)) || atomic_load(&collector->keeper_rules) ||
            atomic_load(&collector->clock_is_right) || ++ticks >= 10) {
            ticks = 0;
            keep(collector);
        }
        (void)ind_wait_written(collector, TICK_MILLISECONDS);
    }
    /* Messages from files leave everything in order behind them; a collector that is told to end does so. */
    if (!atomic_load(&collector->stop))
        keep(collector);
    return NULL;
}
