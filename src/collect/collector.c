#define _GNU_SOURCE
#include "collect/collector.h"

#include "collect/clock.h"
#include "collect/feed.h"
#include "collect/inside.h"
#include "collect/own.h"
#include "collect/tap.h"
#include "core/message/names.h"
#include "store/archive/keeper.h"
#include "store/disk/fs.h"
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

enum { BATCHES = 12 };

/* ---- Telling ---- */

static void say(struct ind_collector *collector, unsigned severity, const char *text)
{
    char message[IND_INTERNAL_MESSAGE];
    struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
    ind_internal_message_write(&buffer, severity, ind_now(), ind_slice_of(text));
    ind_receiver_say(collector->receivers[0], ind_buffer_view(&buffer));
}

void ind_collect_tell_news(void *context, const struct ind_edit_report *news)
{
    struct ind_collector *collector = context;
    char message[IND_INTERNAL_MESSAGE];
    struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
    if (collector->news_feed) {
        ind_file_source_report(collector->news_feed, news);
        return;
    }
    ind_internal_message_of_edit(&buffer, ind_now(), news);
    ind_receiver_say(collector->receivers[0], ind_buffer_view(&buffer));
}

static void tell(struct ind_collector *collector, unsigned severity, const char *text)
{
    collector->settings->tell(collector->settings->context, text);
    if (collector->receivers[0] && severity <= IND_SEVERITY_WARNING)
        say(collector, severity, text);
}

void ind_collect_tell(struct ind_collector *collector, unsigned severity, const char *format, ...)
{
    char text[1600];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    tell(collector, severity, text);
}

/* The store's, the takers' and the book's context is the collector. */
static void store_tells(void *context, const char *text)
{
    tell(context, IND_SEVERITY_WARNING, text);
}

static void store_settles(void *context, uint32_t owner, uint32_t lines, bool written)
{
    ind_book_settle(((struct ind_collector *)context)->book, owner, lines, written);
}

static void taker_settles(void *context, uint32_t owner, bool taken)
{
    ind_book_settle_taken(((struct ind_collector *)context)->book, owner, taken);
}

uint16_t ind_listener_number(struct ind_collector *collector, const char *text)
{
    for (uint16_t i = 0; i < collector->name_count; i++)
        if (strcmp(collector->names[i], text) == 0)
            return i;
    char *copy = collector->name_count < IND_LISTENER_NAMES ? strdup(text) : NULL;
    if (!copy)
        return 0;
    collector->names[collector->name_count] = copy;
    return collector->name_count++;
}

/* ---- Beginning ---- */

static bool open_store(struct ind_collector *collector)
{
    char reason[1400];
    struct ind_store_settings settings = {.config = collector->settings->config,
                                          .fs = &ind_fs_posix,
                                          .now = ind_now(),
                                          .by_messages = collector->settings->file_count > 0,
                                          .open_files = collector->budget.files,
                                          .report = store_tells,
                                          .settle = store_settles,
                                          .context = collector};
    enum ind_store_status status = ind_store_open(&settings, &collector->store, reason, sizeof reason);
    if (status == IND_STORE_OK)
        return true;
    collector->store = NULL;
    ind_collect_tell(collector, IND_SEVERITY_ERROR, "%s%s", reason,
                     status == IND_STORE_BUSY ? "; end it first" : "");
    return false;
}

static unsigned count_intakes(const struct ind_collect_settings *settings)
{
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    uint64_t wanted = settings->config->threads ? settings->config->threads
                                                : (uint64_t)(processors > 2 ? processors - 1 : 1);
    if (settings->file_count > 0)
        return ind_file_source_threads(settings->config);
    return (unsigned)(wanted < IND_MOST_INTAKES ? wanted : IND_MOST_INTAKES);
}

static void wake_receiver(void *context, unsigned ring)
{
    const struct ind_collector *collector = context;
    if (collector->receivers[ring])
        ind_receiver_wake(collector->receivers[ring]);
}

static void knock_control(void *context)
{
    ind_control_wake(((struct ind_collector *)context)->control);
}

/* Half messages may hold as much as a quarter of the burst buffer. */
static void set_bounds(struct ind_collector *collector)
{
    enum { LEAST_HALVES = 1 << 20 };
    const struct ind_config *config = collector->settings->config;
    size_t halves = (size_t)(config->burst_buffer / 4);
    collector->halves_limit = halves > LEAST_HALVES ? halves : LEAST_HALVES;
    collector->budget = ind_budget_divide(ind_budget_limit(), 2 * config->listener_count * collector->intakes,
                                          config->open_files);
}

static bool make_parts(struct ind_collector *collector)
{
    bool files = collector->settings->file_count > 0, good = true;
    good = ind_listener_number(collector, "internal") == IND_NAME_INTERNAL &&
           ind_listener_number(collector, "files") == IND_NAME_FILES;
    for (unsigned i = 0; i < collector->intakes; i++)
        good &= (collector->accounts[i] = ind_accounts_new()) != NULL;
    collector->rings = ind_rings_new(collector->intakes, BATCHES, wake_receiver, collector);
    collector->book = ind_book_new(collector->accounts);
    collector->tap = ind_tap_new(knock_control, collector);
    collector->control = ind_control_new(collector);
    const struct ind_sinks_settings takers = {.helper = collector->helper,
                                              .hold = files,
                                              .tell = store_tells,
                                              .settle = taker_settles,
                                              .context = collector};
    collector->takers = ind_sinks_new(&takers);
    good &= collector->takers && ind_sinks_adopt(collector->takers, collector->settings->config);
    good &= collector->rings && collector->book && collector->tap && collector->control &&
            ind_book_adopt(collector->book, collector->settings->config);
    if (good && !files) {
        collector->slabs = ind_slabs_new(collector->settings->config->burst_buffer, collector->intakes);
        good = collector->slabs != NULL;
        for (unsigned i = 0; good && i < collector->intakes; i++)
            good = (collector->receivers[i] = ind_receiver_new(collector, i)) != NULL;
    }
    if (!good)
        ind_collect_tell(collector, IND_SEVERITY_ERROR, "out of memory: the collector cannot begin");
    return good;
}

static bool make_rules(struct ind_collector *collector)
{
    char reason[1400];
    collector->rules = ind_rules_prepare(collector, NULL, collector->settings->config, reason, sizeof reason);
    if (!collector->rules)
        ind_collect_tell(collector, IND_SEVERITY_ERROR, "%s", reason);
    return collector->rules != NULL;
}

/* ---- Threads ---- */

void ind_tell_written(struct ind_collector *collector)
{
    pthread_mutex_lock(&collector->ending);
    atomic_store(&collector->written, true);
    pthread_cond_broadcast(&collector->ended);
    pthread_mutex_unlock(&collector->ending);
    ind_control_wake(collector->control);
}

bool ind_wait_written(struct ind_collector *collector, int milliseconds)
{
    struct timespec until;
    clock_gettime(CLOCK_MONOTONIC, &until);
    until.tv_nsec += (long)milliseconds * 1000000;
    until.tv_sec += until.tv_nsec / 1000000000;
    until.tv_nsec %= 1000000000;
    pthread_mutex_lock(&collector->ending);
    if (!atomic_load(&collector->written))
        (void)pthread_cond_timedwait(&collector->ended, &collector->ending, &until);
    pthread_mutex_unlock(&collector->ending);
    return atomic_load(&collector->written);
}

struct threads {
    pthread_t list[IND_MOST_INTAKES + 2];
    size_t count;
};

/* Named, so that tools which list threads tell them apart. */
static bool start(struct threads *threads, const char *name, void *(*body)(void *), void *context)
{
    if (pthread_create(&threads->list[threads->count], NULL, body, context) != 0)
        return false;
#ifdef __linux__
    (void)pthread_setname_np(threads->list[threads->count], name);
#else
    (void)name;
#endif
    threads->count++;
    return true;
}

static bool start_all(struct ind_collector *collector, struct threads *threads)
{
    bool files = collector->settings->file_count > 0;
    bool good = start(threads, "writer", ind_writer, collector) &&
                start(threads, "housekeeping", ind_housekeeping, collector);
    if (files)
        return good && start(threads, "reader", ind_read_files, collector);
    for (unsigned i = 0; good && i < collector->intakes; i++) {
        ind_receiver_begin(collector->receivers[i], collector->rules);
        good = start(threads, "receiver", ind_receive, collector->receivers[i]);
    }
    return good;
}

/* Signals are for the control thread alone. */
static bool run_threads(struct ind_collector *collector)
{
    struct threads threads = {.count = 0};
    sigset_t set, before;
    sigfillset(&set);
    pthread_sigmask(SIG_BLOCK, &set, &before);
    bool good = start_all(collector, &threads);
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (good) {
        if (collector->settings->file_count == 0) {
            ind_control_open(collector->control);
            ind_ports_tell(collector, collector->rules);
        }
        ind_control_run(collector->control);
    } else {
        ind_collect_tell(collector, IND_SEVERITY_ERROR, "cannot start a thread");
        atomic_store(&collector->give_up, true);
        atomic_store(&collector->stop, true);
        ind_tell_written(collector);
        for (unsigned i = 0; i < collector->intakes; i++)
            ind_ring_end(collector->rings, i);
    }
    for (size_t i = 0; i < threads.count; i++)
        pthread_join(threads.list[i], NULL);
    return good;
}

/* ---- The end ---- */

/* What the accounts have received, and what was lost before it came to one, must be what was counted at the
 * sockets. */
static void add_intake(const struct ind_collector *collector, unsigned intake,
                       struct ind_ledger_snapshot *sheet, struct ind_collect_result *result)
{
    struct ind_ledger sum = {0};
    for (uint32_t i = 0; i < ind_accounts_count(collector->accounts[intake]); i++)
        ind_ledger_add(&sum, &ind_account_at(collector->accounts[intake], i)->ledger);
    if (collector->receivers[intake]) {
        struct ind_receiver_facts facts;
        ind_receiver_fill_snapshot(collector->receivers[intake], sheet);
        sum.received = sum.bytes = 0;
        for (uint16_t i = 0; i < collector->name_count; i++) {
            sum.received += sheet->received[i];
            sum.bytes += sheet->bytes[i];
            sum.ended[IND_END_LOST_BUFFER] += sheet->lost_buffer[i];
            sum.waiting += sheet->waiting[i];
        }
        ind_receiver_facts(collector->receivers[intake], &facts);
        if (facts.longest_pause > result->longest_pause)
            result->longest_pause = facts.longest_pause;
    }
    ind_ledger_add(&result->ledger, &sum);
}

static void fill_result(struct ind_collector *collector, struct ind_collect_result *result)
{
    result->store = ind_store_counts(collector->store);
    result->keeper = ind_keeper_counts(ind_store_keeper(collector->store));
    result->unread_files = collector->unread_files;
    size_t routes;
    const struct ind_route_count *counts = ind_book_routes(collector->book, &routes);
    for (size_t i = 0; i < routes; i++)
        result->lines_cut += counts[i].cut;
    for (const struct ind_port *port = collector->ports; port; port = port->next)
        for (unsigned i = 0; i < port->socket_count; i++)
            result->kernel_dropped += atomic_load(&port->kernel_dropped[i]);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_edit_counts_add_all(&result->edits, ind_book_edits(collector->book, i));
    ind_store_close(collector->store); /* what still waits is lost now, and the book hears of it */
    collector->store = NULL;
    ind_book_close(collector->book);
    struct ind_ledger_snapshot *sheet = calloc(1, sizeof *sheet);
    for (unsigned i = 0; sheet && i < collector->intakes; i++)
        add_intake(collector, i, sheet, result);
    free(sheet);
    result->adds_up = result->ledger.received == ind_ledger_accounted(&result->ledger);
    if (!result->adds_up)
        ind_collect_tell(collector, IND_SEVERITY_ERROR,
                         "the ledger does not add up: this is a fault of ours; please report it");
}

static enum ind_collect_status run(struct ind_collector *collector, struct ind_collect_result *result)
{
    /* Before there is a thread, a socket or a file. A reload may bring programs that are not there yet. */
    if (collector->settings->file_count == 0 ||
        ind_config_has_to(collector->settings->config, IND_TO_PROGRAM))
        collector->helper = ind_spawner_new();
    ind_fs_raise_file_limit(); /* live files, sockets, connections, what a search holds open */
    collector->intakes = count_intakes(collector->settings);
    set_bounds(collector);
    if (!make_parts(collector))
        return IND_COLLECT_FAILED;
    if (!make_rules(collector))
        return IND_COLLECT_CALL;
    if (!open_store(collector) || !run_threads(collector))
        return IND_COLLECT_FAILED;
    fill_result(collector, result);
    bool whole = ind_ledger_lost(&result->ledger) + result->unread_files == 0;
    return whole ? IND_COLLECT_DONE : IND_COLLECT_PART;
}

enum ind_collect_status ind_collect(const struct ind_collect_settings *settings,
                                    struct ind_collect_result *result)
{
    struct ind_collector *collector = calloc(1, sizeof *collector);
    *result = (struct ind_collect_result){0};
    if (!collector) {
        settings->tell(settings->context, "out of memory");
        return IND_COLLECT_FAILED;
    }
    collector->settings = settings;
    collector->began = ind_now();
    pthread_mutex_init(&collector->ending, NULL);
    pthread_mutex_init(&collector->ordering, NULL);
    pthread_condattr_t steady; /* the wait goes by the steady clock */
    pthread_condattr_init(&steady);
    pthread_condattr_setclock(&steady, CLOCK_MONOTONIC);
    pthread_cond_init(&collector->ended, &steady);
    pthread_condattr_destroy(&steady);
    enum ind_collect_status status = run(collector, result);
    ind_control_free(collector->control);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        ind_receiver_free(collector->receivers[i]);
    ind_store_close(collector->store);
    ind_rules_free(collector, collector->rules);
    ind_ports_close_old(collector, NULL);
    ind_sinks_free(collector->takers);
    ind_spawner_free(collector->helper);
    ind_rings_free(collector->rings);
    ind_book_free(collector->book);
    ind_tap_free(collector->tap);
    ind_edit_states_free(collector->recalls);
    ind_slabs_free(collector->slabs);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        ind_accounts_free(collector->accounts[i]);
    for (uint16_t i = 0; i < collector->name_count; i++)
        free((char *)(uintptr_t)collector->names[i]);
    pthread_mutex_destroy(&collector->ending);
    pthread_mutex_destroy(&collector->ordering);
    pthread_cond_destroy(&collector->ended);
    free(collector);
    return status;
}

void ind_collect_result_free(struct ind_collect_result *result)
{
    ind_edit_counts_free(&result->edits);
}
