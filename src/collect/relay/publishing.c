/* Batches for a message system: records of one facility and severity together, compressed, under an id that
 * is the same whenever the same batch goes again (docs/scale.md). */
#include "collect/relay/relay_private.h"

#include "core/find/find.h"
#include "core/message/names.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <zstd.h>

enum {
    RECORDS = 16384,   /* in a burst; fewer wait a moment for others */
    LINES = 8 << 20,   /* bytes of a burst, before its last record; and */
    BATCH = 480 << 10, /* of a batch: with its last record it is less than a broker takes at once */
    LEVEL = 3,
    SUBJECT = 160
};
#define MOMENT (IND_SECOND / 10)

struct line {
    uint32_t offset, length;
    uint16_t next; /* of the same PRI, index + 1; 0: none */
};

struct ind_publisher {
    struct ind_finder facility, severity; /* what stands before their values */
    ZSTD_CCtx *context;
    char *packed;
    size_t room;
    char lines[LINES + IND_QUEUED_MOST + RECORDS];
    size_t used;
    struct line list[RECORDS];
    unsigned count;
    uint16_t first[IND_PRIS], last[IND_PRIS];
    uint32_t bytes[IND_PRIS];
    bool enough;     /* of one of them */
    uint64_t number; /* of the burst: its first record, */
    ind_time time;   /* and since when that waits */
};
_Static_assert(RECORDS < UINT16_MAX, "a line's index + 1 fits");

struct ind_publisher *ind_publisher_new(void)
{
    struct ind_publisher *publisher = calloc(1, sizeof *publisher);
    if (!publisher)
        return NULL;
    publisher->facility = ind_finder_for(ind_slice_of(",\"facility\":\""));
    publisher->severity = ind_finder_for(ind_slice_of(",\"severity\":\""));
    publisher->room = ZSTD_compressBound(sizeof publisher->lines);
    publisher->packed = malloc(publisher->room);
    publisher->context = ZSTD_createCCtx();
    if (publisher->packed && publisher->context)
        return publisher;
    ind_publisher_free(publisher);
    return NULL;
}

void ind_publisher_free(struct ind_publisher *publisher)
{
    if (!publisher)
        return;
    ZSTD_freeCCtx(publisher->context);
    free(publisher->packed);
    free(publisher);
}

/* The value behind a member's name in a stored line of the layout `json`: inside a text no bare quote can
 * stand. */
static struct ind_slice member(struct ind_slice line, const struct ind_finder *name)
{
    const char *at = ind_find(name, line.at, line.length);
    if (!at)
        return IND_NOTHING;
    at += name->literal.length;
    const size_t left = (size_t)(line.at + line.length - at);
    const char *end = memchr(at, '"', left);
    return (struct ind_slice){at, end ? (size_t)(end - at) : 0};
}

static unsigned pri_of(const struct ind_publisher *publisher, struct ind_slice line)
{
    const int facility = ind_facility_read(member(line, &publisher->facility));
    const int severity = ind_severity_read(member(line, &publisher->severity));
    return facility < 0 || severity < 0 ? IND_FACILITY_USER * 8 + IND_SEVERITY_NOTICE
                                        : (unsigned)(facility * 8 + severity);
}

static void add_line(struct ind_publisher *publisher, struct ind_slice text)
{
    const unsigned pri = pri_of(publisher, text);
    struct line *line = &publisher->list[publisher->count++];
    *line = (struct line){(uint32_t)publisher->used, (uint32_t)text.length + 1, 0};
    memcpy(publisher->lines + publisher->used, text.at, text.length);
    publisher->lines[publisher->used + text.length] = '\n';
    publisher->used += text.length + 1;
    if (publisher->last[pri])
        publisher->list[publisher->last[pri] - 1].next = (uint16_t)publisher->count;
    else
        publisher->first[pri] = (uint16_t)publisher->count;
    publisher->last[pri] = (uint16_t)publisher->count;
    publisher->bytes[pri] += line->length;
    publisher->enough |= publisher->bytes[pri] >= BATCH;
}

/* Records from *number on, before `to`. */
static void gather(struct ind_relay *relay, struct ind_publisher *publisher, uint64_t *number, uint64_t to)
{
    struct ind_queued record;
    publisher->used = publisher->count = 0;
    memset(publisher->first, 0, sizeof publisher->first);
    memset(publisher->last, 0, sizeof publisher->last);
    memset(publisher->bytes, 0, sizeof publisher->bytes);
    publisher->enough = false;
    while (*number < to && publisher->used < LINES && publisher->count < RECORDS && !publisher->enough) {
        if (!ind_relay_find(relay, number, &record))
            return;
        if (*number >= to) {
            relay->span.at = NULL;
            return;
        }
        if (publisher->count == 0) {
            publisher->number = *number;
            publisher->time = record.time;
        }
        add_line(publisher, record.bytes);
        ++*number;
    }
}

/* 0 where it cannot be packed. */
static size_t pack(struct ind_publisher *publisher, unsigned pri, unsigned *messages)
{
    ZSTD_outBuffer out = {publisher->packed, publisher->room, 0};
    size_t left = ZSTD_CCtx_reset(publisher->context, ZSTD_reset_session_only);
    (void)ZSTD_CCtx_setParameter(publisher->context, ZSTD_c_compressionLevel, LEVEL);
    *messages = 0;
    for (unsigned i = publisher->first[pri]; i && !ZSTD_isError(left); i = publisher->list[i - 1].next) {
        const struct line *line = &publisher->list[i - 1];
        ZSTD_inBuffer in = {publisher->lines + line->offset, line->length, 0};
        left = ZSTD_compressStream2(publisher->context, &out, &in, line->next ? ZSTD_e_continue : ZSTD_e_end);
        ++*messages;
    }
    return ZSTD_isError(left) || left > 0 ? 0 : out.pos;
}

static bool publish_batch(struct ind_relay *relay, unsigned target, unsigned pri)
{
    struct ind_outgoing *out = &relay->out[target];
    struct ind_publisher *publisher = out->publisher;
    char subject[SUBJECT], id[120], count[16];
    unsigned messages;
    const size_t length = pack(publisher, pri, &messages);
    const char *origin = relay->queue ? ind_queue_identity(relay->queue) : "unknown";
    struct ind_buffer name = ind_buffer_on(subject, sizeof subject - 1);
    ind_buffer_text(&name, relay->rule->subject);
    ind_buffer_byte(&name, '.');
    ind_buffer_slice(&name, ind_facility_name(pri / 8));
    ind_buffer_byte(&name, '.');
    ind_buffer_slice(&name, ind_severity_name(pri % 8));
    subject[name.length] = '\0';
    snprintf(id, sizeof id, "%s-%llu-%llx-%u", origin, (unsigned long long)publisher->number,
             (unsigned long long)publisher->time, pri);
    snprintf(count, sizeof count, "%u", messages);
    const char *const headers[] = {
        "Content-Encoding", "zstd", "Indagator-Origin", origin, "Indagator-Messages", count, NULL};
    relay->allowance -= (double)length;
    return length > 0 && ind_broker_publish(out->broker, subject, id, headers, publisher->packed, length);
}

static bool publish_burst(struct ind_relay *relay, unsigned target)
{
    const struct ind_publisher *publisher = relay->out[target].publisher;
    for (unsigned pri = 0; pri < IND_PRIS; pri++)
        if (publisher->first[pri] && !publish_batch(relay, target, pri))
            return false;
    return true;
}

/* A burst of before, which must be as it was. 1: done; 0: not now; -1: the connection has ended. */
static int publish_again(struct ind_relay *relay, unsigned target, struct ind_burst *again)
{
    struct ind_outgoing *out = &relay->out[target];
    const uint64_t start = ind_broker_published(out->broker), next = again->next;
    uint64_t number = again->first;
    gather(relay, out->publisher, &number, next);
    if (number < next)
        return 0;
    const bool good = publish_burst(relay, target);
    ind_window_send_again(&relay->window, again, out->publisher->count ? out->publisher->number : next,
                          target, start, ind_broker_published(out->broker) + !good);
    if (out->publisher->count == 0) /* none of it is there any more */
        (void)ind_window_acknowledge(&relay->window, target, start);
    return good ? 1 : -1;
}

static int publish_new(struct ind_relay *relay, unsigned target, struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[target];
    struct ind_burst burst = {.link = target, .start = ind_broker_published(out->broker)};
    const bool few = relay->next - relay->to_send < RECORDS && !atomic_load(&relay->ending);
    if (relay->to_send == relay->next) {
        relay->gathering = IND_STEADY_NEVER;
        return 0;
    }
    if (!ind_steady_is_set(relay->gathering))
        relay->gathering = now;
    if (few && ind_steady_from(relay->gathering, now) < MOMENT)
        return 0;
    relay->gathering = IND_STEADY_NEVER;
    gather(relay, out->publisher, &relay->to_send, relay->next);
    if (out->publisher->count == 0)
        return 0;
    burst.first = out->publisher->number;
    burst.next = relay->to_send;
    burst.time = out->publisher->time;
    burst.end = burst.start + 1; /* until it is known */
    ind_window_add(&relay->window, &burst);
    ind_relay_note(relay, burst.next); /* its bounds: the next start must make the same batches of it */
    const bool good = publish_burst(relay, target);
    ind_window_amend(&relay->window, ind_broker_published(out->broker) + !good);
    return good ? 1 : -1;
}

bool ind_relay_publish(struct ind_relay *relay, unsigned target, struct ind_steady now)
{
    struct ind_outgoing *out = &relay->out[target];
    while (!out->leaving && (relay->rule->at_most == 0 || relay->allowance > 0)) {
        struct ind_burst *again = ind_window_next_again(&relay->window);
        const uint64_t under_way = ind_broker_published(out->broker) - ind_broker_acknowledged(out->broker);
        if (under_way + IND_PRIS >= IND_BROKER_UNDER_WAY ||
            (!again && relay->window.count >= IND_QUEUE_BATCHES))
            return true;
        const int done = again ? publish_again(relay, target, again) : publish_new(relay, target, now);
        if (done < 0)
            return false;
        if (done == 0 || ind_relay_block_count(relay) > IND_BLOCKS / 4) /* memory is to become free first */
            return true;
    }
    return true;
}
