/* What waits too long, on disk; and what has no room there. */
#include "collect/relay/relay_private.h"

#include "collect/runtime/clock.h"
#include <errno.h>
#include <stdio.h>
#include <string.h>

#define SPOOL_AFTER (IND_SECOND / 2)
#define SYNC_EVERY IND_SECOND
#define TRY_AGAIN (10 * IND_SECOND)
#define TELL_AGAIN (60 * IND_SECOND)
enum { LEAST_SEGMENT = 64 << 10, MOST_SEGMENT = 64 << 20, SEGMENTS = 16 };

#define NAME(relay)                                                                                          \
    {                                                                                                        \
        "relay", ind_slice_of((relay)->rule->name)                                                           \
    }

void ind_relay_disk_failed(struct ind_relay *relay, int error, struct ind_steady now)
{
    relay->disk_error = error;
    if (ind_steady_reported_lately(&relay->error_told, now, TELL_AGAIN))
        return;
    ind_report(relay->reporter, IND_OWN_RELAY_QUEUE, IND_WITH(NAME(relay)),
               "the relay %s: its queue at %s takes nothing: %s; what waits is in memory only",
               relay->rule->name, relay->folder, strerror(error));
}

static void tell_what_was_found(struct ind_relay *relay, const struct ind_queue_found *found)
{
    if (found->records)
        ind_report(
            relay->reporter, IND_OWN_RELAY_WAITED, IND_WITH(NAME(relay)),
            "the relay %s: %llu messages of the last run wait and are passed on; up to %llu of them may come "
            "twice",
            relay->rule->name, (unsigned long long)found->records, (unsigned long long)found->doubles);
    if (found->cut || found->strange || found->position_lost)
        ind_report(
            relay->reporter, IND_OWN_RELAY_QUEUE, IND_WITH(NAME(relay)),
            "the relay %s: in its queue at %s %llu bytes at the end of the newest segment are no messages, "
            "%u files are none of its own (what has the name of a segment is renamed to NAME.damaged)%s",
            relay->rule->name, relay->folder, (unsigned long long)found->cut, found->strange,
            found->position_lost ? ", and its position cannot be read: everything is sent again" : "");
}

/* What was under way when the last run ended goes again as it was, before all else. */
static void take_up_batches(struct ind_relay *relay, const struct ind_queue_batches *batches)
{
    for (unsigned i = 0; i < batches->count && relay->rule->form == IND_PASS_ON_JSON; i++) {
        const struct ind_burst burst = {.first = relay->to_send,
                                        .next = relay->to_send + batches->records[i],
                                        .time = ind_now(),
                                        .state = IND_BURST_AGAIN};
        ind_window_add(&relay->window, &burst);
        relay->to_send = burst.next;
    }
}

void ind_relay_open_queue(struct ind_relay *relay, struct ind_steady now)
{
    struct ind_queue_found found;
    uint64_t segment = relay->rule->space / SEGMENTS;
    segment = segment < LEAST_SEGMENT ? LEAST_SEGMENT : segment > MOST_SEGMENT ? MOST_SEGMENT : segment;
    const struct ind_queue_settings settings = {
        .fs = &ind_fs_posix, .folder = relay->folder, .segment = segment};
    relay->queue_tried = now;
    const int error = ind_queue_open(&settings, &relay->queue, &found);
    if (error) {
        ind_relay_disk_failed(relay, error, now);
        return;
    }
    relay->disk_error = 0;
    tell_what_was_found(relay, &found);
    relay->counts.found += found.records;
    relay->counts.again += found.doubles;
    relay->done = relay->to_send = ind_queue_first(relay->queue);
    relay->noted_done = relay->noted_offered = 0; /* the next note is made in any case */
    relay->next = ind_queue_next(relay->queue);
    take_up_batches(relay, &found.batches);
}

/* Another try, once nothing in memory has a number that the queue may have, too. */
static void try_again(struct ind_relay *relay, struct ind_steady now)
{
    if (!relay->queue && !relay->head && relay->window.count == 0 &&
        ind_steady_from(relay->queue_tried, now) > TRY_AGAIN)
        ind_relay_open_queue(relay, now);
}

/* As they stand in the window, from the first that is not done with on. */
static void list_batches(const struct ind_relay *relay, struct ind_queue_batches *batches)
{
    const struct ind_window *window = &relay->window;
    for (size_t i = 0; i < window->count && batches->count < IND_QUEUE_BATCHES; i++) {
        const struct ind_burst *burst = ind_window_at(window, i);
        batches->records[batches->count++] = (uint32_t)(burst->next - burst->first);
    }
}

void ind_relay_note(struct ind_relay *relay, uint64_t offered)
{
    offered = offered > relay->to_send ? offered : relay->to_send;
    if (!relay->queue || (relay->done == relay->noted_done && offered == relay->noted_offered))
        return;
    struct ind_queue_batches batches = {{0}, 0};
    if (relay->rule->form == IND_PASS_ON_JSON)
        list_batches(relay, &batches);
    const int error = ind_queue_note(relay->queue, relay->done, offered, &batches);
    if (error) {
        relay->disk_error = error;
        return;
    }
    relay->noted_done = relay->done;
    relay->noted_offered = offered;
}

void ind_relay_give_up(struct ind_relay *relay, uint64_t first)
{
    if (first <= relay->done)
        return;
    relay->counts.given_up += first - relay->done;
    ind_window_forget(&relay->window, first);
    if (relay->to_send < first)
        relay->to_send = first;
    relay->done = ind_window_done(&relay->window, relay->to_send);
    relay->span.at = NULL;
}

/* The records of a block that are not on disk and not done with. 0, or the error. */
static int write_block(struct ind_relay *relay, struct ind_block *block)
{
    char *at = block->bytes + block->written;
    uint64_t number = block->first + block->written_count;
    for (; number < relay->done && at < block->bytes + block->used; number++)
        at += ind_queued_at(at).size;
    const struct ind_slice rest = {at, (size_t)(block->bytes + block->used - at)};
    const uint64_t first = number;
    for (; at < block->bytes + block->used; number++) {
        ind_queued_seal(at, number);
        at += ind_queued_at(at).size;
    }
    const int error = rest.length ? ind_queue_append(relay->queue, rest, first, number - first) : 0;
    if (error)
        return error;
    block->written = block->used;
    block->written_count = block->count;
    return 0;
}

/* The space is used up. */
static void make_room(struct ind_relay *relay)
{
    const uint64_t space = relay->rule->space;
    bool full = false;
    if (relay->rule->give_up_newest || relay->hold) {
        full = ind_queue_bytes(relay->queue) >= space;
    } else {
        while (ind_queue_bytes(relay->queue) > space && !ind_queue_is_empty(relay->queue))
            ind_relay_give_up(relay, ind_queue_give_up(relay->queue));
    }
    ind_mutex_lock(&relay->mutex);
    relay->full = full;
    ind_mutex_unlock(&relay->mutex);
}

/* The disk takes nothing, and memory is used up: the oldest block makes room; those who add see to the
 * newest.
 */
static void make_room_in_memory(struct ind_relay *relay)
{
    while (relay->head && !relay->rule->give_up_newest && !relay->hold &&
           ind_relay_block_count(relay) >= IND_BLOCKS) {
        const uint64_t next = relay->head->first + relay->head->count;
        if (relay->head->written != relay->head->used)
            ind_relay_give_up(relay, next);
        ind_relay_drop_block(relay);
    }
}

static void tell_losses(struct ind_relay *relay, struct ind_steady now)
{
    ind_mutex_lock(&relay->mutex);
    const uint64_t refused = relay->refused, looped = relay->looped;
    ind_mutex_unlock(&relay->mutex);
    const uint64_t lost = relay->counts.given_up + refused + relay->counts.damaged;
    if (lost > relay->given_up_at_last &&
        !ind_steady_reported_lately(&relay->given_up_told, now, TELL_AGAIN)) {
        relay->given_up_at_last = lost;
        ind_report(relay->reporter, IND_OWN_RELAY_GAVE_UP, IND_WITH(NAME(relay)),
                   "the relay %s: there is no room for all that waits: %llu messages given up so far, %llu "
                   "not taken, "
                   "%llu damaged on disk",
                   relay->rule->name, (unsigned long long)relay->counts.given_up, (unsigned long long)refused,
                   (unsigned long long)relay->counts.damaged);
    }
    if (looped > relay->looped_at_last && !ind_steady_reported_lately(&relay->looped_told, now, TELL_AGAIN)) {
        relay->looped_at_last = looped;
        ind_report(relay->reporter, IND_OWN_RELAY_LOOP, IND_WITH(NAME(relay)),
                   "the relay %s: %llu messages had been passed on %d times and go no further: relays pass "
                   "them round "
                   "in a circle; let a route leave out what has \"data \\\"passed@32473\\\" \\\"hops\\\"\"",
                   relay->rule->name, (unsigned long long)looped, (int)IND_PASS_ON_HOPS);
    }
}

void ind_relay_spool(struct ind_relay *relay, bool all, struct ind_steady now)
{
    try_again(relay, now);
    if (relay->read_error)
        ind_relay_disk_failed(relay, relay->read_error, now);
    relay->read_error = 0;
    const bool crowded = ind_relay_block_count(relay) > IND_BLOCKS / 4;
    int error = relay->queue ? 0 : relay->disk_error;
    bool wrote = false;
    for (struct ind_block *block = relay->head; relay->queue && block && !error; block = block->next) {
        if (block->written == block->used)
            continue;
        if (!all && !crowded && ind_steady_from(block->since, now) < SPOOL_AFTER)
            break;
        if (!wrote)
            ind_relay_note(relay, relay->to_send);
        error = write_block(relay, block);
        wrote = true;
    }
    if (relay->queue && error)
        ind_relay_disk_failed(relay, error, now);
    else if (wrote)
        relay->disk_error = 0;
    if (relay->queue) {
        ind_queue_done(relay->queue, relay->done);
        make_room(relay);
    }
    ind_relay_free_blocks(relay, crowded && !error);
    if (error)
        make_room_in_memory(relay);
    if (relay->queue && (!ind_queue_is_empty(relay->queue) || relay->noted_offered > relay->noted_done))
        ind_relay_note(relay, relay->to_send);
    if (relay->queue && (all || ind_steady_from(relay->synced, now) > SYNC_EVERY)) {
        const int failed = ind_queue_sync(relay->queue);
        if (failed)
            ind_relay_disk_failed(relay, failed, now);
        relay->synced = now;
    }
    tell_losses(relay, now);
}
