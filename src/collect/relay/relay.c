#include "collect/relay/relay_private.h"

#include "collect/relay/probe.h"
#include "collect/runtime/clock.h"
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { END_SECONDS = 2, PATIENT_SECONDS = 5 };

/* ---- Counts ---- */

/* Since when the oldest message waits; IND_TIME_NONE: none does. */
static ind_time oldest_of(struct ind_relay *relay)
{
    struct ind_queued record;
    uint64_t number = relay->to_send;
    const ind_time sent = ind_window_oldest(&relay->window);
    if (sent != IND_TIME_NONE || relay->to_send == relay->next)
        return sent;
    if (relay->oldest_number != number || number == 0) { /* looked for once: that may take a read */
        relay->oldest_number = number;
        relay->oldest_time = ind_relay_find(relay, &number, &record) ? record.time : IND_TIME_NONE;
        relay->span.at = NULL;
    }
    return relay->oldest_time;
}

static uint64_t bytes_in_memory(const struct ind_relay *relay)
{
    uint64_t bytes = 0;
    for (const struct ind_block *block = relay->head; block; block = block->next)
        bytes += block->first + block->count > relay->done ? block->used - block->written : 0;
    return bytes;
}

static void publish(struct ind_relay *relay, struct ind_steady now)
{
    struct ind_relay_count *counts = &relay->counts;
    const ind_time waits = oldest_of(relay);
    counts->waiting = relay->next - relay->done;
    counts->oldest = waits == IND_TIME_NONE || counts->waiting == 0 ? 0 : (ind_now() - waits) / IND_SECOND;
    counts->oldest = counts->oldest > 0 ? counts->oldest : 0;
    counts->waiting_bytes =
        counts->waiting ? bytes_in_memory(relay) + (relay->queue ? ind_queue_bytes(relay->queue) : 0) : 0;
    counts->disk_bytes = relay->queue ? ind_queue_bytes(relay->queue) : 0;
    counts->disk_error = relay->disk_error;
    if (relay->queue && !counts->origin[0])
        snprintf(counts->origin, sizeof counts->origin, "%s", ind_queue_identity(relay->queue));
    counts->target_count = relay->targets.count;
    for (unsigned i = 0; i < relay->targets.count; i++) {
        const struct ind_target *target = &relay->targets.list[i];
        counts->targets[i].up = target->up;
        counts->targets[i].tried = ind_steady_is_set(target->changed);
        counts->targets[i].since =
            counts->targets[i].tried ? ind_steady_from(target->changed, now) / IND_SECOND : 0;
    }
    ind_mutex_lock(&relay->mutex);
    relay->published = *counts;
    ind_mutex_unlock(&relay->mutex);
}

void ind_relay_read_counts(struct ind_relay *relay, struct ind_relay_count *count)
{
    ind_mutex_lock(&relay->mutex);
    *count = relay->published;
    count->looped = relay->looped;
    count->refused = relay->refused;
    ind_mutex_unlock(&relay->mutex);
}

/* ---- The thread ---- */

/* Who had the queue until now ends first; what it has counted is gone on with. */
static void take_over(struct ind_relay *relay)
{
    struct ind_relay_count before;
    if (!relay->before)
        return;
    pthread_join(relay->before->thread, NULL);
    relay->before->running = false;
    ind_relay_read_counts(relay->before, &before);
    relay->counts.taken = before.taken;
    relay->counts.found = before.found;
    relay->counts.sent = before.sent;
    relay->counts.given_up = before.given_up;
    relay->counts.damaged = before.damaged;
    relay->counts.again = before.again;
    ind_mutex_lock(&relay->mutex);
    relay->refused += before.refused;
    relay->looped += before.looped;
    ind_mutex_unlock(&relay->mutex);
    ind_relay_free(relay->before);
    relay->before = NULL;
}

static void wait_for_events(const struct ind_relay *relay, int milliseconds)
{
    struct pollfd pollers[IND_RELAY_TARGETS + 1] = {{relay->waker.read_end, POLLIN, 0}};
    nfds_t count = 1;
    for (unsigned i = 0; i < relay->targets.count; i++)
        if (relay->out[i].link)
            pollers[count++] = (struct pollfd){
                ind_uplink_socket(relay->out[i].link),
                (short)(POLLIN | (relay->out[i].blocked && relay->allowance >= 0 ? POLLOUT : 0)), 0};
    (void)poll(pollers, count, milliseconds);
    ind_waker_drain(&relay->waker);
}

/* Whether there is still something to be done before the end. */
static bool goes_on(const struct ind_relay *relay, struct ind_steady began, struct ind_steady progress,
                    struct ind_steady now)
{
    if (!atomic_load(&relay->ending))
        return true;
    if (relay->done == relay->next)
        return false;
    if (atomic_load(&relay->patient))
        return ind_steady_from(progress, now) < PATIENT_SECONDS * IND_SECOND;
    return ind_relay_is_up(relay) && ind_steady_from(began, now) < END_SECONDS * IND_SECOND;
}

static void *run(void *argument)
{
    struct ind_relay *relay = argument;
    struct ind_steady began = IND_STEADY_NEVER, now = ind_steady_now(), progress = now;
    uint64_t done = 0;
    take_over(relay);
    ind_relay_open_queue(relay, now);
    do {
        now = ind_steady_now();
        if (!ind_steady_is_set(began) && atomic_load(&relay->ending))
            began = progress = now;
        ind_relay_take_blocks(relay);
        const int wait = ind_relay_send(relay, now);
        if (relay->done != done)
            progress = now;
        done = relay->done;
        ind_relay_spool(relay, false, now);
        publish(relay, now);
        if (!goes_on(relay, began, progress, now))
            break;
        wait_for_events(relay, wait);
    } while (true);
    ind_relay_take_blocks(relay);
    ind_relay_hang_up(relay);
    ind_relay_spool(relay, true, now);
    ind_connector_free(relay->connector);
    relay->connector = NULL;
    ind_queue_close(relay->queue);
    relay->queue = NULL;
    publish(relay, now);
    atomic_store(&relay->ended, true);
    return NULL;
}

/* ---- Made and ended ---- */

struct ind_relay *ind_relay_new(const struct ind_relay_settings *settings)
{
    struct ind_relay *relay = calloc(1, sizeof *relay);
    if (!relay)
        return NULL;
    if (settings->rule->probe)
        ind_probe_begin();
    ind_mutex_begin(&relay->mutex);
    relay->waker = IND_WAKER_CLOSED;
    relay->reporter = settings->reporter;
    relay->hold = settings->hold;
    relay->next = relay->to_send = relay->done = 1;
    relay->rule = ind_relay_rule_copy(settings->rule);
    const size_t room = strlen(settings->state) + strlen(settings->rule->name) + sizeof "/relays/";
    relay->folder = malloc(room);
    if (relay->folder)
        snprintf(relay->folder, room, "%s/relays/%s", settings->state, settings->rule->name);
    bool good = relay->rule && relay->folder && ind_waker_open(&relay->waker);
    if (good) {
        relay->targets.count = relay->rule->target_count;
        relay->targets.share = relay->rule->share;
        relay->connector = ind_connector_new(relay->rule, &relay->waker);
        good = relay->connector != NULL;
    }
    relay->before = settings->before;
    relay->running = good && pthread_create(&relay->thread, NULL, run, relay) == 0;
    if (relay->running)
        return relay;
    relay->before = NULL; /* still the caller's */
    ind_relay_free(relay);
    return NULL;
}

const struct ind_relay_rule *ind_relay_rule(const struct ind_relay *relay)
{
    return relay->rule;
}

void ind_relay_end(struct ind_relay *relay, bool patient)
{
    atomic_store(&relay->patient, patient);
    atomic_store(&relay->ending, true);
    ind_waker_wake(&relay->waker);
}

bool ind_relay_is_ending(const struct ind_relay *relay)
{
    return atomic_load(&relay->ending);
}

bool ind_relay_has_ended(const struct ind_relay *relay)
{
    return atomic_load(&relay->ended);
}

void ind_relay_free(struct ind_relay *relay)
{
    if (!relay)
        return;
    if (relay->running)
        pthread_join(relay->thread, NULL);
    ind_connector_free(relay->connector);
    while (relay->head)
        ind_relay_drop_block(relay);
    for (unsigned i = 0; i < IND_RELAY_TARGETS; i++) {
        free(relay->out[i].burst);
        ind_publisher_free(relay->out[i].publisher);
    }
    for (struct ind_block *block = relay->in_head; block;) {
        struct ind_block *next = block->next;
        free(block);
        block = next;
    }
    free(relay->span.room);
    ind_relay_rule_free(relay->rule);
    free(relay->folder);
    ind_waker_close(&relay->waker);
    ind_mutex_end(&relay->mutex);
    free(relay);
}
