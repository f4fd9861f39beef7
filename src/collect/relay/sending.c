/* Which target gets what, and what becomes of it. */
#include "collect/relay/relay_private.h"

#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define TELL_AGAIN (60 * IND_SECOND)
#define PROBE_EVERY (10 * IND_SECOND)
#define LEAVE_AFTER (5 * IND_SECOND)
enum {
    ASK_MILLISECONDS = 10,    /* while something is under way: nobody tells when it is acknowledged */
    SPOOL_MILLISECONDS = 100, /* while something waits */
    IDLE_MILLISECONDS = 1000
};

static const char *text_of(const struct ind_relay *relay, unsigned target)
{
    return relay->rule->targets[target].text;
}

bool ind_relay_is_up(const struct ind_relay *relay)
{
    return ind_targets_first_up(&relay->targets) >= 0;
}

/* ---- Links come and go ---- */

static void tell_down(struct ind_relay *relay, unsigned target, const char *reason, uint64_t again,
                      struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[target];
    if (ind_steady_reported_lately(&out->told, now, TELL_AGAIN))
        return;
    out->told_down = true;
    char doubles[120] = "";
    if (again)
        snprintf(doubles, sizeof doubles, "; up to %llu messages are sent again and may come twice",
                 (unsigned long long)again);
    ind_report(relay->reporter, IND_OWN_RELAY_FAILED,
               IND_WITH({"relay", ind_slice_of(relay->rule->name)},
                        {"target", ind_slice_of(text_of(relay, target))}),
               "the relay %s: %s: %s; it is tried again, after growing pauses%s", relay->rule->name,
               text_of(relay, target), reason, doubles);
}

static void note_down(struct ind_relay *relay, unsigned target, const char *reason, uint64_t again,
                      struct ind_steady now)
{
    const bool took = relay->out[target].acknowledged > 0;
    struct ind_target_count *count = &relay->counts.targets[target];
    relay->out[target].acknowledged = 0;
    ind_target_is_down(&relay->targets.list[target], took, now);
    count->failures++;
    snprintf(count->reason, sizeof count->reason, "%s", reason);
    tell_down(relay, target, reason, again, now);
}

static uint64_t acknowledged_of(struct ind_outgoing *out)
{
    return out->link ? ind_uplink_acknowledged(out->link) : ind_broker_acknowledged(out->broker);
}

static uint64_t let_go(struct ind_relay *relay, unsigned target)
{
    struct ind_outgoing *out = &relay->out[target];
    const uint64_t acknowledged = acknowledged_of(out);
    relay->counts.targets[target].sent += ind_window_acknowledge(&relay->window, target, acknowledged);
    const uint64_t again = ind_window_break(&relay->window, target, acknowledged);
    relay->counts.again += again;
    relay->counts.targets[target].again += again;
    ind_uplink_close(out->link);
    ind_broker_close(out->broker);
    out->link = NULL;
    out->broker = NULL;
    out->leaving = out->blocked = false;
    out->burst_at = out->burst_length = 0;
    return again;
}

static const char *reason_of(const struct ind_outgoing *out)
{
    return out->link ? ind_uplink_reason(out->link) : ind_broker_reason(out->broker);
}

static void has_ended(struct ind_relay *relay, unsigned target, const char *reason, struct ind_steady now)
{
    char why[IND_UPLINK_REASON];
    snprintf(why, sizeof why, "%s", reason);
    const uint64_t again = let_go(relay, target);
    note_down(relay, target, why, again, now);
}

static void is_up(struct ind_relay *relay, const struct ind_connected *answer, struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[answer->target];
    if ((answer->link && !out->burst && !(out->burst = malloc(IND_BURST_ROOM))) ||
        (answer->broker && !out->publisher && !(out->publisher = ind_publisher_new()))) {
        ind_uplink_close(answer->link);
        ind_broker_close(answer->broker);
        note_down(relay, answer->target, "out of memory", 0, now);
        return;
    }
    out->link = answer->link;
    out->broker = answer->broker;
    out->leaving = out->blocked = false;
    out->burst_at = out->burst_length = 0;
    out->acknowledged = 0;
    out->progress = now;
    ind_target_is_up(&relay->targets.list[answer->target], now);
    relay->counts.targets[answer->target].reason[0] = '\0';
    if (out->told_down)
        ind_report(relay->reporter, IND_OWN_RELAY_WORKS,
                   IND_WITH({"relay", ind_slice_of(relay->rule->name)},
                            {"target", ind_slice_of(text_of(relay, answer->target))}),
                   "the relay %s: %s takes messages", relay->rule->name, text_of(relay, answer->target));
    out->told_down = false;
    for (unsigned i = answer->target + 1; !relay->targets.share && i < relay->targets.count; i++)
        if (ind_outgoing_is_open(&relay->out[i])) { /* this one is better */
            relay->out[i].leaving = true;
            relay->out[i].leaves_at = ind_steady_after(now, LEAVE_AFTER);
        }
}

static void hear(struct ind_relay *relay, struct ind_steady now)
{
    struct ind_connected answer;
    if (!ind_connector_answer(relay->connector, &answer))
        return;
    struct ind_outgoing *out = &relay->out[answer.target];
    if (answer.probe_only) {
        if (!answer.good && ind_outgoing_is_open(out))
            has_ended(relay, answer.target, answer.reason, now);
    } else if (answer.good) {
        is_up(relay, &answer, now);
    } else {
        note_down(relay, answer.target, answer.reason, 0, now);
    }
}

/* ---- What is acknowledged ---- */

static void look_after(struct ind_relay *relay, unsigned target, struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[target];
    const bool goes_on = out->link ? ind_uplink_look(out->link) : ind_broker_lives(out->broker);
    const uint64_t acknowledged = acknowledged_of(out);
    if (acknowledged > out->acknowledged) {
        if (out->link)
            relay->counts.targets[target].bytes += acknowledged - out->acknowledged;
        out->acknowledged = acknowledged;
        out->progress = now;
        relay->counts.targets[target].sent += ind_window_acknowledge(&relay->window, target, acknowledged);
    }
    if (acknowledged == (out->link ? ind_uplink_taken(out->link) : ind_broker_published(out->broker)) &&
        !(out->link && ind_uplink_holds(out->link)))
        out->progress = now;
    if (!goes_on) {
        has_ended(relay, target, reason_of(out), now);
    } else if (ind_steady_from(out->progress, now) > relay->rule->answer) {
        char reason[100];
        snprintf(reason, sizeof reason, "nothing was acknowledged for %lld s",
                 (long long)(relay->rule->answer / IND_SECOND));
        has_ended(relay, target, reason, now);
    } else if (out->leaving && (!ind_window_is_under_way(&relay->window, target) ||
                                ind_steady_from(out->leaves_at, now) > 0)) {
        (void)let_go(relay, target);
        relay->targets.list[target] = (struct ind_target){.changed = now};
    }
}

static void settle(struct ind_relay *relay)
{
    const uint64_t done = ind_window_done(&relay->window, relay->to_send);
    if (done > relay->done) {
        relay->counts.sent += done - relay->done;
        relay->done = done;
    }
}

/* ---- What is sent ---- */

static void refill(struct ind_relay *relay, struct ind_steady now)
{
    const double rate = (double)relay->rule->at_most,
                 most = rate / 4 > IND_BURST_BYTES ? rate / 4 : IND_BURST_BYTES;
    relay->allowance += rate * (double)ind_steady_from(relay->allowance_at, now) / (double)IND_SECOND;
    relay->allowance = relay->allowance < most ? relay->allowance : most;
    relay->allowance_at = now;
}

static bool may_send(const struct ind_relay *relay)
{
    return relay->rule->at_most == 0 || relay->allowance > 0;
}

/* A message of a stream: RFC 6587 section 3.4.1. */
static void frame(struct ind_outgoing *out, struct ind_slice message)
{
    struct ind_buffer buffer = ind_buffer_on(out->burst, IND_BURST_ROOM);
    buffer.length = out->burst_length;
    ind_buffer_number(&buffer, message.length);
    ind_buffer_byte(&buffer, ' ');
    ind_buffer_slice(&buffer, message);
    out->burst_length = buffer.length;
}

static uint64_t framed_length(size_t length)
{
    uint64_t digits = 1;
    for (size_t rest = length; rest >= 10; rest /= 10)
        digits++;
    return digits + 1 + length;
}

/* Of a burst that is to be sent again: the records at its beginning that the other side's system has. */
static void pass_over_had(struct ind_relay *relay, struct ind_burst *burst)
{
    struct ind_queued record;
    uint64_t number = burst->first;
    while (burst->skip && number < burst->next && ind_relay_find(relay, &number, &record)) {
        const uint64_t length = framed_length(record.bytes.length);
        if (length > burst->skip) {
            relay->span.at = NULL; /* it is found again */
            break;
        }
        burst->skip -= length;
        burst->first = ++number;
    }
    burst->skip = 0;
}

/* Records from `*number` on, as many as make a burst. */
static void gather(struct ind_relay *relay, struct ind_outgoing *out, uint64_t *number, uint64_t to,
                   struct ind_burst *burst)
{
    struct ind_queued record;
    out->burst_at = out->burst_length = 0;
    while (*number < to && out->burst_length < IND_BURST_BYTES) {
        if (!ind_relay_find(relay, number, &record))
            return;
        if (*number >= to) { /* between there was something damaged */
            relay->span.at = NULL;
            return;
        }
        if (out->burst_length == 0) {
            burst->first = *number;
            burst->time = record.time;
        }
        frame(out, record.bytes);
        ++*number;
    }
}

/* False where it is not all there at present. */
static bool gather_again(struct ind_relay *relay, unsigned target, struct ind_burst *again)
{
    struct ind_outgoing *out = &relay->out[target];
    const uint64_t start = ind_uplink_taken(out->link);
    struct ind_burst burst = {.first = again->next};
    pass_over_had(relay, again);
    uint64_t number = again->first;
    gather(relay, out, &number, again->next, &burst);
    if (number < again->next) {
        out->burst_length = 0;
        return false;
    }
    ind_window_send_again(&relay->window, again, burst.first, target, start, start + out->burst_length);
    if (out->burst_length == 0) /* none of it is there any more */
        (void)ind_window_acknowledge(&relay->window, target, start);
    return true;
}

static bool gather_new(struct ind_relay *relay, unsigned target)
{
    struct ind_outgoing *out = &relay->out[target];
    struct ind_burst burst = {.link = target, .start = ind_uplink_taken(out->link)};
    if (ind_window_is_full(&relay->window))
        return false;
    gather(relay, out, &relay->to_send, relay->next, &burst);
    if (out->burst_length == 0)
        return false;
    burst.next = relay->to_send;
    burst.end = burst.start + out->burst_length;
    ind_window_add(&relay->window, &burst);
    if (relay->queue && burst.first < ind_queue_next(relay->queue))
        ind_relay_note(relay, burst.next);
    return true;
}

/* Sends as much of a stream as there is room for. False where the link has ended. */
static bool send_stream(struct ind_relay *relay, unsigned target)
{
    struct ind_outgoing *out = &relay->out[target];
    out->blocked = false;
    for (;;) {
        if (out->burst_at == out->burst_length) {
            struct ind_burst *again = out->leaving ? NULL : ind_window_next_again(&relay->window);
            if (out->leaving || !may_send(relay) ||
                !(again ? gather_again(relay, target, again) : gather_new(relay, target)))
                return true;
            relay->allowance -= (double)out->burst_length;
            continue;
        }
        const ptrdiff_t taken =
            ind_uplink_write(out->link, out->burst + out->burst_at, out->burst_length - out->burst_at);
        if (taken < 0)
            return false;
        out->blocked = taken == 0;
        if (taken == 0)
            return true;
        out->burst_at += (size_t)taken;
    }
}

/* A datagram counts as had once it is sent: nobody says more. What of a message does not fit one is cut off.
 */
static bool send_datagrams(struct ind_relay *relay, unsigned target)
{
    enum { DATAGRAM = 65507, AT_ONCE = 1000 };
    struct ind_outgoing *out = &relay->out[target];
    struct ind_queued record;
    out->blocked = false;
    for (int i = 0; i < AT_ONCE && !out->leaving && may_send(relay); i++) {
        struct ind_burst *again = ind_window_next_again(&relay->window);
        if (again)
            pass_over_had(relay, again);
        if (!again && ind_window_is_full(&relay->window))
            return true;
        uint64_t number = again ? again->first : relay->to_send;
        const uint64_t to = again ? again->next : relay->next;
        const bool any = number < to && ind_relay_find(relay, &number, &record);
        if (any && number < to) {
            const size_t length = record.bytes.length < DATAGRAM ? record.bytes.length : DATAGRAM;
            const ptrdiff_t taken = ind_uplink_write(out->link, record.bytes.at, length);
            if (taken <= 0)
                relay->span.at = NULL; /* it is found again */
            out->blocked = taken == 0;
            if (taken <= 0)
                return taken == 0;
            relay->allowance -= (double)length;
            relay->counts.targets[target].sent++;
            number++;
        } else if (!any && number < to) {
            return true;
        }
        if (again && number < to) {
            again->first = number;
        } else if (again) {
            ind_window_send_again(&relay->window, again, to, target, 0, 0);
            (void)ind_window_acknowledge(&relay->window, target, 0);
        } else if (any) {
            const struct ind_burst burst = {
                .first = number - 1, .next = number, .link = target, .state = IND_BURST_HAD};
            relay->to_send = number;
            ind_window_add(&relay->window, &burst);
            settle(relay);
        } else {
            return true;
        }
    }
    return true;
}

/* Whether what was sent before over a target that is left is still under way: what comes behind it waits. */
static bool waits_for_others(const struct ind_relay *relay)
{
    for (unsigned i = 0; i < relay->targets.count; i++)
        if (ind_outgoing_is_open(&relay->out[i]) && relay->out[i].leaving)
            return true;
    return false;
}

static void send_on(struct ind_relay *relay, unsigned target, struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[target];
    if (!ind_outgoing_is_open(out) || (waits_for_others(relay) && !out->leaving))
        return;
    const bool goes_on = out->broker                       ? ind_relay_publish(relay, target, now)
                         : ind_uplink_is_stream(out->link) ? send_stream(relay, target)
                                                           : send_datagrams(relay, target);
    if (!goes_on)
        has_ended(relay, target, reason_of(out), now);
}

/* ---- Whom to ask next ---- */

static void ask(struct ind_relay *relay, struct ind_steady now, int64_t *wait)
{
    *wait = INT64_MAX;
    if (ind_connector_is_busy(relay->connector))
        return;
    const int target = ind_targets_to_try(&relay->targets, now, wait);
    if (target >= 0) {
        ind_connector_ask(relay->connector, (unsigned)target, false);
        return;
    }
    const int up = ind_targets_first_up(&relay->targets);
    if (!relay->rule->probe || up < 0 || ind_steady_lately(relay->probed, now, PROBE_EVERY))
        return;
    relay->probed = now;
    do /* of several that are up one after the other */
        relay->turn = (relay->turn + 1) % relay->targets.count;
    while (!relay->targets.list[relay->turn].up);
    ind_connector_ask(relay->connector, relay->turn, true);
}

int ind_relay_send(struct ind_relay *relay, struct ind_steady now)
{
    int64_t wait;
    hear(relay, now);
    for (unsigned i = 0; i < relay->targets.count; i++)
        if (ind_outgoing_is_open(&relay->out[i]))
            look_after(relay, i, now);
    settle(relay);
    refill(relay, now);
    const unsigned first = relay->targets.share ? ++relay->turn % relay->targets.count : 0;
    for (unsigned i = 0; i < relay->targets.count; i++)
        send_on(relay, (first + i) % relay->targets.count, now);
    settle(relay);
    ask(relay, now, &wait);
    const int least = relay->window.count || ind_steady_is_set(relay->gathering) ? ASK_MILLISECONDS
                      : relay->done < relay->next                                ? SPOOL_MILLISECONDS
                                                                                 : IDLE_MILLISECONDS;
    return wait / 1000000 + 1 < least ? (int)(wait / 1000000 + 1) : least;
}

void ind_relay_hang_up(struct ind_relay *relay)
{
    for (unsigned i = 0; i < relay->targets.count; i++)
        if (ind_outgoing_is_open(&relay->out[i]))
            (void)let_go(relay, i);
    settle(relay);
}
