#include "collect/guests.h"

#include <pthread.h>
#include <stdlib.h>
#include <unistd.h>
#include <uthash.h>

enum { CARRY_KEPT = 2048 };

struct visitor {
    UT_hash_handle hh;
    struct ind_address address;
    size_t count;
};

struct ind_admission {
    pthread_mutex_t mutex;
    struct visitor *visitors;
    size_t count, most;
    atomic_size_t held; /* bytes of half messages */
};

struct ind_connection *ind_connection_new(struct ind_admission *door, struct ind_port *port, int socket,
                                          const struct ind_address *sender)
{
    struct ind_connection *guest = calloc(1, sizeof *guest);
    if (!guest)
        return NULL;
    guest->port = port;
    guest->socket = socket;
    guest->sender = *sender;
    guest->held_by_all = &door->held;
    return guest;
}

static void count_held(const struct ind_connection *guest, size_t before, size_t after)
{
    atomic_fetch_add_explicit(guest->held_by_all, after - before, memory_order_relaxed);
}

void ind_connection_free(struct ind_connection *guest)
{
    if (!guest)
        return;
    close(guest->socket);
    count_held(guest, guest->carry_room + (guest->left ? guest->left_length : 0), 0);
    free(guest->carry);
    free(guest->left);
    free(guest);
}

/* False where memory is out: the message loses this part, and is marked as cut. */
static bool carry(struct ind_connection *guest, struct ind_slice bytes)
{
    if (guest->carry_room - guest->carried < bytes.length) {
        size_t room = guest->carry_room ? guest->carry_room : 512;
        while (room - guest->carried < bytes.length)
            room *= 2;
        char *grown = realloc(guest->carry, room);
        if (!grown)
            return false;
        count_held(guest, guest->carry_room, room);
        guest->carry = grown;
        guest->carry_room = room;
    }
    if (bytes.length)
        memcpy(guest->carry + guest->carried, bytes.at, bytes.length);
    guest->carried += bytes.length;
    return true;
}

static void drop_carry(struct ind_connection *guest)
{
    guest->carried = 0;
    guest->since = IND_STEADY_NEVER;
    if (guest->carry_room <= CARRY_KEPT)
        return;
    count_held(guest, guest->carry_room, 0);
    free(guest->carry);
    guest->carry = NULL;
    guest->carry_room = 0;
}

/* Bytes are taken apart only where there is room for a message: so it is asked before, by the message that
 * would be next, and the framing is put back where there is none. */
static enum ind_connection_fed feed(struct ind_connection *guest, struct ind_slice *input,
                                    ind_connection_take take, void *context)
{
    struct ind_slice bytes;
    bool cut = false;
    for (;;) {
        struct ind_framing before = guest->framing;
        struct ind_slice at = *input;
        switch (ind_framing_next(&guest->framing, input, &bytes, &cut)) {
        case IND_FRAME_MORE:
            return IND_CONNECTION_FED;
        case IND_FRAME_BAD:
            return IND_CONNECTION_BAD;
        case IND_FRAME_PART:
            if (!carry(guest, bytes))
                guest->framing.cut = true;
            break;
        case IND_FRAME_END:
            if (!take(context, guest, (struct ind_slice){guest->carry, guest->carried}, bytes, cut)) {
                guest->framing = before;
                *input = at;
                return IND_CONNECTION_FULL;
            }
            if (guest->carried)
                drop_carry(guest);
        }
    }
}

/* What is left is kept whole; without memory for it there is nothing to be done but to end the connection. */
static enum ind_connection_fed keep(struct ind_connection *guest, struct ind_slice rest)
{
    char *copy = malloc(rest.length ? rest.length : 1);
    if (!copy)
        return IND_CONNECTION_BAD;
    memcpy(copy, rest.at, rest.length);
    count_held(guest, guest->left ? guest->left_length : 0, rest.length);
    free(guest->left);
    guest->left = copy;
    guest->left_length = rest.length;
    return IND_CONNECTION_FULL;
}

enum ind_connection_fed ind_connection_feed(struct ind_connection *guest, struct ind_slice bytes,
                                            ind_connection_take take, void *context)
{
    if (guest->left) {
        struct ind_slice left = {guest->left, guest->left_length};
        enum ind_connection_fed fed = feed(guest, &left, take, context);
        if (fed ==
            IND_CONNECTION_FULL) { /* bytes are only read once nothing is left: `bytes` is empty here */
            memmove(guest->left, left.at, left.length);
            count_held(guest, guest->left_length, left.length);
            guest->left_length = left.length;
        }
        if (fed != IND_CONNECTION_FED)
            return fed;
        count_held(guest, guest->left_length, 0);
        free(guest->left);
        guest->left = NULL;
    }
    enum ind_connection_fed fed = feed(guest, &bytes, take, context);
    return fed == IND_CONNECTION_FULL ? keep(guest, bytes) : fed;
}

bool ind_connection_finish(struct ind_connection *guest, bool broken_off, ind_connection_take take,
                           void *context)
{
    struct ind_framing before = guest->framing;
    struct ind_slice bytes;
    bool cut;
    if (!ind_framing_end(&guest->framing, broken_off, &bytes, &cut))
        return true;
    if (!take(context, guest, (struct ind_slice){guest->carry, guest->carried}, bytes, cut)) {
        guest->framing = before;
        return false;
    }
    drop_carry(guest);
    return true;
}

/* ---- At the door ---- */

struct ind_admission *ind_admission_new(size_t most)
{
    struct ind_admission *door = calloc(1, sizeof *door);
    if (!door)
        return NULL;
    pthread_mutex_init(&door->mutex, NULL);
    door->most = most;
    return door;
}

void ind_admission_free(struct ind_admission *door)
{
    struct visitor *visitor, *next;
    if (!door)
        return;
    HASH_ITER(hh, door->visitors, visitor, next)
    {
        HASH_DEL(door->visitors, visitor);
        free(visitor);
    }
    pthread_mutex_destroy(&door->mutex);
    free(door);
}

bool ind_admission_enter(struct ind_admission *door, const struct ind_address *address)
{
    struct visitor *visitor;
    pthread_mutex_lock(&door->mutex);
    HASH_FIND(hh, door->visitors, address, sizeof *address, visitor);
    bool good = door->count < door->most && (!visitor || visitor->count < (door->most + 1) / 2);
    if (good && !visitor && (visitor = calloc(1, sizeof *visitor))) {
        visitor->address = *address;
        HASH_ADD(hh, door->visitors, address, sizeof visitor->address, visitor);
    }
    good = good && visitor;
    if (good) {
        visitor->count++;
        door->count++;
    }
    pthread_mutex_unlock(&door->mutex);
    return good;
}

void ind_admission_leave(struct ind_admission *door, const struct ind_address *address)
{
    struct visitor *visitor;
    pthread_mutex_lock(&door->mutex);
    HASH_FIND(hh, door->visitors, address, sizeof *address, visitor);
    if (visitor) {
        door->count--;
        if (--visitor->count == 0) {
            HASH_DEL(door->visitors, visitor);
            free(visitor);
        }
    }
    pthread_mutex_unlock(&door->mutex);
}

size_t ind_admission_held(struct ind_admission *door)
{
    return atomic_load_explicit(&door->held, memory_order_relaxed);
}
