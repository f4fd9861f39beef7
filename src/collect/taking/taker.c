#include "collect/taking/taker.h"

#include "collect/runtime/clock.h"
#include "collect/taking/seen.h"
#include "collect/taking/unpack.h"
#include "net/broker.h"
#include "net/socket.h"
#include "store/disk/fs.h"
#include "thread/mutex.h"

#include <errno.h>
#include <poll.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum {
    TAKE_MILLISECONDS = 200, /* for the first of a group, */
    MORE_MILLISECONDS = 5,   /* and for others */
    LOOK_MILLISECONDS = 2,   /* between two looks at the book */
    CONNECT_MILLISECONDS = 5000,
    TOGETHER = 256 << 10, /* bytes in one write */
    FRAME = 24,
    GROUP_SLOTS = 2 * IND_BROKER_MOST
};
#define GROUP (IND_SECOND / 4)
#define SHORTEST_PAUSE (IND_SECOND / 4)
#define LONGEST_PAUSE (60 * IND_SECOND)
#define TELL_AGAIN (60 * IND_SECOND)
#define CUT_OFF (5 * IND_SECOND) /* for what was read of it before to come to the disk */

/* SAME: as one before it in the group, so stored when that one is. */
enum what { NEW, SEEN, SAME, BAD };

struct batch {
    enum what what;
    uint64_t messages, upto; /* upto: of the group, up to its end */
};

struct ind_taker {
    /* Set before the thread is started. */
    struct ind_taker_settings settings;
    char *name, *socket_path, *seen_path;
    struct ind_listen_nats nats; /* its texts are in `kept` */
    char *kept[10];
    pthread_t thread;
    bool running;
    atomic_bool ending, ended;

    struct ind_mutex mutex;
    struct ind_taker_count count IND_GUARDED_BY(mutex);

    /* Of the thread. */
    struct ind_broker *broker;
    struct ind_seen *seen;
    int socket;             /* through which they go; -1: none */
    uint64_t settled, lost; /* of the listener, before the present group */
    struct batch batches[IND_BROKER_MOST];
    uint16_t group[GROUP_SLOTS]; /* its batches by their ids: a place among them and 1 more; 0: free */
    struct ind_unpacker *unpacker;
    char together[TOGETHER + FRAME];
    int64_t pause;
    struct ind_steady told;
    bool told_down;
};

static bool ends(const struct ind_taker *taker)
{
    return atomic_load(&taker->ending) || ind_is_stopping(taker->settings.lifecycle);
}

static void nap(int64_t nanoseconds)
{
    const struct timespec time = {(time_t)(nanoseconds / IND_SECOND), (long)(nanoseconds % IND_SECOND)};
    nanosleep(&time, NULL);
}

/* ---- Up and down ---- */

static void set_state(struct ind_taker *taker, bool up, const char *reason)
{
    ind_mutex_lock(&taker->mutex);
    taker->count.up = up;
    snprintf(taker->count.reason, sizeof taker->count.reason, "%s", reason);
    ind_mutex_unlock(&taker->mutex);
}

static void hang_up(struct ind_taker *taker)
{
    ind_broker_close(taker->broker);
    taker->broker = NULL;
    if (taker->socket >= 0)
        close(taker->socket);
    taker->socket = -1;
}

static void is_down(struct ind_taker *taker, const char *reason)
{
    char why[IND_BROKER_REASON];
    snprintf(why, sizeof why, "%s", reason);
    hang_up(taker);
    set_state(taker, false, why);
    if (!ends(taker) && !ind_steady_reported_lately(&taker->told, ind_steady_now(), TELL_AGAIN)) {
        taker->told_down = true;
        ind_report(taker->settings.reporter, IND_OWN_TAKING_FAILED,
                   IND_WITH({"listener", ind_slice_of(taker->name)}),
                   "%s: nothing can be taken: %s; it is tried again, after growing pauses", taker->name, why);
    }
    for (int64_t left = taker->pause; left > 0 && !ends(taker); left -= IND_SECOND / 20)
        nap(IND_SECOND / 20);
    taker->pause = taker->pause * 2 < LONGEST_PAUSE ? taker->pause * 2 : LONGEST_PAUSE;
}

static void is_up(struct ind_taker *taker)
{
    set_state(taker, true, "");
    if (taker->told_down)
        ind_report(taker->settings.reporter, IND_OWN_TAKING_WORKS,
                   IND_WITH({"listener", ind_slice_of(taker->name)}), "%s: messages are taken", taker->name);
    taker->told_down = false;
}

static void wake(void *context)
{
    (void)context; /* it looks by itself */
}

/* False with the reason. */
static bool connect_to(struct ind_taker *taker, char reason[IND_BROKER_REASON])
{
    const struct ind_listen_nats *nats = &taker->nats;
    const struct ind_broker_settings settings = {.host = nats->host,
                                                 .port = nats->port,
                                                 .trust = nats->trust,
                                                 .certificate = nats->certificate,
                                                 .key = nats->key,
                                                 .login = nats->login,
                                                 .milliseconds = CONNECT_MILLISECONDS,
                                                 .woken = wake,
                                                 .context = taker};
    const char *why = "";
    if (!taker->seen && !(taker->seen = ind_seen_open(taker->seen_path))) {
        snprintf(reason, IND_BROKER_REASON, "%.120s: %.60s", taker->seen_path, strerror(errno));
        return false;
    }
    taker->broker = ind_broker_open(&settings, reason);
    if (!taker->broker || !ind_broker_join(taker->broker, nats->stream, nats->subject, nats->group,
                                           nats->again_after / 1000000, reason))
        return false;
    taker->socket = ind_connect(IND_SEND_UNIX, taker->socket_path, NULL, NULL, &why);
    if (taker->socket < 0) {
        snprintf(reason, IND_BROKER_REASON, "%.120s: %.60s", taker->socket_path, why);
        return false;
    }
    return true;
}

/* ---- Said to the collector ---- */

/* It waits as long as that takes nothing. */
static bool say(struct ind_taker *taker, const char *bytes, size_t length)
{
    while (length > 0) {
        struct pollfd ready = {taker->socket, POLLOUT, 0};
        const ssize_t sent = send(taker->socket, bytes, length, MSG_NOSIGNAL | MSG_DONTWAIT);
        if (sent > 0) {
            bytes += sent;
            length -= (size_t)sent;
            continue;
        }
        if (sent < 0 && errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR)
            return false;
        if (ends(taker))
            return false;
        (void)poll(&ready, 1, 100);
    }
    return true;
}

/* Each line as a message, with its octets counted; many in one write. *count: how many were said whole. */
static bool say_lines(struct ind_taker *taker, struct ind_slice lines, uint64_t *count)
{
    static const char space = ' ';
    char *room = taker->together;
    struct ind_buffer out = ind_buffer_on(room, TOGETHER);
    uint64_t gathered = 0;
    bool good = true;
    while (good && lines.length) {
        const char *end = memchr(lines.at, '\n', lines.length);
        const struct ind_slice line = {lines.at, end ? (size_t)(end - lines.at) : lines.length};
        lines = ind_slice_from(lines, line.length + (end != NULL));
        if (line.length == 0)
            continue;
        if (out.length + line.length + FRAME > TOGETHER) {
            good = say(taker, room, out.length);
            *count += good ? gathered : 0;
            gathered = 0;
            out = ind_buffer_on(room, TOGETHER);
        }
        if (line.length + FRAME > TOGETHER) { /* one that is very long goes by itself */
            struct ind_buffer head = ind_buffer_on(room, FRAME);
            ind_buffer_number(&head, line.length);
            ind_buffer_byte(&head, space);
            good = good && say(taker, room, head.length) && say(taker, line.at, line.length);
            *count += good;
            continue;
        }
        ind_buffer_number(&out, line.length);
        ind_buffer_byte(&out, space);
        ind_buffer_slice(&out, line);
        gathered++;
    }
    good = good && say(taker, room, out.length);
    *count += good ? gathered : 0;
    return good;
}

/* ---- A group of batches ---- */

static void note_bad(struct ind_taker *taker, const struct ind_broker_taken *batch)
{
    ind_mutex_lock(&taker->mutex);
    taker->count.bad++;
    ind_mutex_unlock(&taker->mutex);
    if (!ind_steady_reported_lately(&taker->told, ind_steady_now(), TELL_AGAIN))
        ind_report(
            taker->settings.reporter, IND_OWN_TAKING_FAILED,
            IND_WITH({"listener", ind_slice_of(taker->name)}),
            "%s: a batch of %zu bytes is none that a collector makes: it is left out, and the broker is told "
            "so",
            taker->name, batch->length);
}

/* Ids come to `seen` as a group is settled: a copy within the group is looked for here. What is not there yet
 * is put there. */
static bool is_in_group(struct ind_taker *taker, unsigned batch, const char *id)
{
    size_t at = ind_seen_hash(id) % GROUP_SLOTS;
    for (; taker->group[at]; at = (at + 1) % GROUP_SLOTS) {
        const unsigned before = taker->group[at] - 1U;
        if (taker->batches[before].what == NEW && strcmp(ind_broker_at(taker->broker, before).id, id) == 0)
            return true;
    }
    taker->group[at] = (uint16_t)(batch + 1);
    return false;
}

/* All lines of those that are new, from *said on, up to `count`. False where it came to an end before. */
static bool say_batches(struct ind_taker *taker, struct batch *batches, unsigned count, unsigned *said)
{
    uint64_t all = *said ? batches[*said - 1].upto : 0;
    for (; *said < count; ++*said) {
        struct batch *batch = &batches[*said];
        const struct ind_broker_taken taken = ind_broker_at(taker->broker, *said);
        struct ind_slice lines = {taken.bytes, taken.length};
        *batch = (struct batch){.what = NEW, .upto = all};
        const bool seen = taken.id[0] && ind_seen_has(taker->seen, taken.id);
        if (seen || (taken.id[0] && is_in_group(taker, *said, taken.id))) {
            batch->what = seen ? SEEN : SAME;
            batch->messages = taken.messages;
            continue;
        }
        if (taken.packed) {
            if (!ind_unpack(taker->unpacker, lines, &lines)) {
                batch->what = BAD;
                note_bad(taker, &taken);
                continue;
            }
        }
        const bool good = say_lines(taker, lines, &batch->messages);
        all += batch->messages;
        batch->upto = all;
        if (!good)
            return false;
    }
    return true;
}

static uint64_t settled_since(const struct ind_taker *taker, bool *lost)
{
    uint64_t settled, gone;
    ind_book_settled(taker->settings.book, taker->settings.listener, &settled, &gone);
    *lost = gone > taker->lost;
    return settled - taker->settled;
}

/* The collector reads no more of it: its listener goes, or all of it ends. */
static bool is_cut_off(const struct ind_taker *taker)
{
    char byte;
    return recv(taker->socket, &byte, 1, MSG_PEEK | MSG_DONTWAIT) == 0;
}

/* Until nothing of what was said waits any more, or the collector has written all that it ever will, or reads
 * no more of it. Returns how many are settled. */
static uint64_t wait_until_settled(struct ind_taker *taker, uint64_t said, unsigned count, bool *lost)
{
    struct ind_steady renewed = ind_steady_now(), progress = renewed;
    uint64_t before = 0;
    for (;;) {
        const bool written = ind_is_written(taker->settings.lifecycle);
        const uint64_t settled = settled_since(taker, lost);
        const struct ind_steady now = ind_steady_now();
        if (settled != before)
            progress = now;
        before = settled;
        const bool over = written || (is_cut_off(taker) && ind_steady_from(progress, now) > CUT_OFF);
        if (settled >= said || over)
            return settled < said ? settled : said;
        if (ind_steady_from(renewed, now) > taker->nats.again_after / 3) {
            renewed = now;
            for (unsigned i = 0; i < count; i++)
                ind_broker_go_on(taker->broker, i);
        }
        nap(LOOK_MILLISECONDS * (IND_SECOND / 1000));
    }
}

static void count_origin(struct ind_taker_count *count, const char *origin, uint64_t messages)
{
    unsigned i = 0;
    while (i < count->origin_count && strcmp(count->origins[i].origin, origin) != 0)
        i++;
    if (i == IND_TAKER_ORIGINS)
        return;
    if (i == count->origin_count)
        snprintf(count->origins[count->origin_count++].origin, sizeof count->origins[0].origin, "%s", origin);
    count->origins[i].messages += messages;
}

static void count_batch(struct ind_taker *taker, const struct ind_broker_taken *taken,
                        const struct batch *batch)
{
    struct ind_taker_count *count = &taker->count;
    ind_mutex_lock(&taker->mutex);
    count->again += taken->delivered > 1;
    if (batch->what == SEEN || batch->what == SAME) {
        count->repeated_batches++;
        count->repeated += batch->messages;
    } else if (batch->what == NEW) {
        count->batches++;
        count->messages += batch->messages;
        count_origin(count, taken->origin, batch->messages);
    }
    ind_mutex_unlock(&taker->mutex);
}

/* The ids are on disk before the broker is told: whoever is killed between gets them once more, and knows
 * them. */
static bool settle(struct ind_taker *taker, const struct batch *batches, unsigned count, uint64_t settled)
{
    bool good = true;
    for (unsigned i = 0; i < count && good; i++) {
        const struct ind_broker_taken taken = ind_broker_at(taker->broker, i);
        if (batches[i].what == NEW && batches[i].upto <= settled && taken.id[0])
            good = ind_seen_add(taker->seen, taken.id);
    }
    if (!good || !ind_seen_flush(taker->seen))
        return false;
    for (unsigned i = 0; i < count; i++) {
        const struct ind_broker_taken taken = ind_broker_at(taker->broker, i);
        const bool waits = batches[i].what == NEW || batches[i].what == SAME;
        const bool done = !waits || batches[i].upto <= settled;
        ind_broker_settle(taker->broker, i,
                          batches[i].what == BAD ? IND_BROKER_NEVER
                          : done                 ? IND_BROKER_DONE
                                                 : IND_BROKER_AGAIN);
        if (done)
            count_batch(taker, &taken, &batches[i]);
    }
    return true;
}

/* For a moment, as many as come; each is said at once. False where the collector reads no more of it. */
static bool take_and_say(struct ind_taker *taker, unsigned *said)
{
    const struct ind_steady began = ind_steady_now();
    unsigned count = ind_broker_take(taker->broker, TAKE_MILLISECONDS), before = 0;
    *said = 0;
    while (count > before && say_batches(taker, taker->batches, count, said)) {
        before = count;
        if (ends(taker) || ind_broker_has_enough(taker->broker) ||
            ind_steady_from(began, ind_steady_now()) > GROUP)
            break;
        count = ind_broker_take(taker->broker, MORE_MILLISECONDS);
    }
    return *said == count;
}

static void give_back(struct ind_taker *taker, unsigned count)
{
    for (unsigned i = 0; i < count; i++)
        ind_broker_settle(taker->broker, i, IND_BROKER_AGAIN);
}

/* False where the connection is to be made anew. */
static bool take_group(struct ind_taker *taker, char reason[IND_BROKER_REASON])
{
    unsigned said;
    bool lost = false;
    ind_book_settled(taker->settings.book, taker->settings.listener, &taker->settled, &taker->lost);
    memset(taker->group, 0, sizeof taker->group);
    bool good = take_and_say(taker, &said);
    /* One that was broken off was not said whole: it goes to somebody once more. */
    const uint64_t all = said + !good > 0 ? taker->batches[said + !good - 1].upto : 0;
    if (said + !good > 0) {
        const uint64_t settled = wait_until_settled(taker, all, said, &lost);
        if (!lost && taker->settings.flush(taker->settings.context))
            good &= settle(taker, taker->batches, said, settled);
        else
            give_back(taker, said);
    }
    ind_broker_let_go(taker->broker);
    if (!good)
        snprintf(reason, IND_BROKER_REASON, "the collector has ended the connection to itself");
    if (!ind_broker_lives(taker->broker)) {
        snprintf(reason, IND_BROKER_REASON, "%s", ind_broker_reason(taker->broker));
        return false;
    }
    taker->pause = good ? SHORTEST_PAUSE : taker->pause;
    return good;
}

static void *run(void *argument)
{
    struct ind_taker *taker = argument;
    while (!ends(taker)) {
        char reason[IND_BROKER_REASON] = "";
        bool good = connect_to(taker, reason);
        if (good)
            is_up(taker);
        while (good && !ends(taker))
            good = take_group(taker, reason);
        if (!good)
            is_down(taker, reason);
    }
    hang_up(taker);
    set_state(taker, false, "it has ended");
    atomic_store(&taker->ended, true);
    return NULL;
}

bool ind_taker_has_ended(const struct ind_taker *taker)
{
    return atomic_load(&taker->ended);
}

/* ---- Made and ended ---- */

static const char *keep(struct ind_taker *taker, unsigned *count, const char *text, bool *good)
{
    if (!text)
        return NULL;
    taker->kept[*count] = strdup(text);
    *good &= taker->kept[*count] != NULL;
    return taker->kept[(*count)++];
}

static bool keep_settings(struct ind_taker *taker, const struct ind_taker_settings *settings)
{
    const struct ind_listen_nats *from = settings->item->nats;
    unsigned count = 0;
    bool good = true;
    char path[4300];
    taker->nats = (struct ind_listen_nats){.host = keep(taker, &count, from->host, &good),
                                           .port = keep(taker, &count, from->port, &good),
                                           .subject = keep(taker, &count, from->subject, &good),
                                           .stream = keep(taker, &count, from->stream, &good),
                                           .group = keep(taker, &count, from->group, &good),
                                           .trust = keep(taker, &count, from->trust, &good),
                                           .certificate = keep(taker, &count, from->certificate, &good),
                                           .key = keep(taker, &count, from->key, &good),
                                           .login = keep(taker, &count, from->login, &good),
                                           .again_after = from->again_after};
    taker->name = strdup(settings->item->text);
    taker->socket_path = strdup(settings->item->address);
    snprintf(path, sizeof path, "%s/taken", settings->state);
    good &= taker->name && taker->socket_path && ind_fs_make_path(path, NULL, NULL);
    snprintf(path, sizeof path, "%s/taken/%s.%s", settings->state, from->stream, from->group);
    taker->seen_path = strdup(path);
    if (good && taker->seen_path) {
        snprintf(taker->count.name, sizeof taker->count.name, "%s", taker->name);
        snprintf(taker->count.group, sizeof taker->count.group, "%s", taker->nats.group);
        snprintf(taker->count.reason, sizeof taker->count.reason, "not tried yet");
    }
    return good && taker->seen_path;
}

struct ind_taker *ind_taker_new(const struct ind_taker_settings *settings)
{
    struct ind_taker *taker = calloc(1, sizeof *taker);
    if (!taker)
        return NULL;
    ind_mutex_begin(&taker->mutex);
    taker->settings = *settings;
    taker->socket = -1;
    taker->pause = SHORTEST_PAUSE;
    taker->unpacker = ind_unpacker_new();
    taker->running = taker->unpacker && keep_settings(taker, settings) &&
                     pthread_create(&taker->thread, NULL, run, taker) == 0;
    if (taker->running)
        return taker;
    ind_taker_free(taker);
    return NULL;
}

static bool same(const char *a, const char *b)
{
    return a && b ? strcmp(a, b) == 0 : a == b;
}

const char *ind_taker_name(const struct ind_taker *taker)
{
    return taker->name;
}

bool ind_taker_is_for(const struct ind_taker *taker, const struct ind_listen_item *item)
{
    const struct ind_listen_nats *a = &taker->nats, *b = item->nats;
    return same(taker->name, item->text) && same(a->subject, b->subject) && same(a->stream, b->stream) &&
           same(a->group, b->group) && same(a->trust, b->trust) && same(a->certificate, b->certificate) &&
           same(a->key, b->key) && same(a->login, b->login) && a->again_after == b->again_after;
}

void ind_taker_end(struct ind_taker *taker)
{
    atomic_store(&taker->ending, true);
}

void ind_taker_free(struct ind_taker *taker)
{
    if (!taker)
        return;
    if (taker->running)
        pthread_join(taker->thread, NULL);
    ind_seen_close(taker->seen);
    ind_unpacker_free(taker->unpacker);
    for (size_t i = 0; i < sizeof taker->kept / sizeof *taker->kept; i++)
        free(taker->kept[i]);
    free(taker->name);
    free(taker->socket_path);
    free(taker->seen_path);
    ind_mutex_end(&taker->mutex);
    free(taker);
}

void ind_taker_read_count(struct ind_taker *taker, struct ind_taker_count *count)
{
    ind_mutex_lock(&taker->mutex);
    *count = taker->count;
    ind_mutex_unlock(&taker->mutex);
}
