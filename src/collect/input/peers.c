#include "collect/input/peers.h"

#include "thread/mutex.h"
#include <stdlib.h>
#include <uthash.h>

struct row {
    UT_hash_handle hh;
    struct ind_peer peer;
    char key[]; /* the listener's number, and the name */
};

struct ind_peers {
    struct ind_mutex mutex;
    struct row *rows IND_GUARDED_BY(mutex);
};

enum { NUMBER = sizeof(uint16_t), LONGEST = 255 };

struct ind_peers *ind_peers_new(void)
{
    struct ind_peers *peers = calloc(1, sizeof *peers);
    if (peers)
        ind_mutex_begin(&peers->mutex);
    return peers;
}

IND_NOT_SHARED void ind_peers_free(struct ind_peers *peers)
{
    struct row *row, *next;
    if (!peers)
        return;
    HASH_ITER(hh, peers->rows, row, next)
    {
        HASH_DEL(peers->rows, row);
        free(row);
    }
    ind_mutex_end(&peers->mutex);
    free(peers);
}

static struct row *new_row(const char *key, size_t length, uint16_t listener)
{
    struct row *row = calloc(1, sizeof *row + length);
    if (!row)
        return NULL;
    memcpy(row->key, key, length);
    row->peer.name = (struct ind_slice){row->key + NUMBER, length - NUMBER};
    row->peer.listener = listener;
    return row;
}

void ind_peers_note(struct ind_peers *peers, struct ind_slice name, uint16_t listener,
                    const struct ind_address *address, ind_time now)
{
    char key[NUMBER + LONGEST];
    struct row *row;
    if (name.length == 0 || name.length > LONGEST)
        return;
    size_t length = NUMBER + name.length;
    memcpy(key, &listener, NUMBER);
    memcpy(key + NUMBER, name.at, name.length);
    ind_mutex_lock(&peers->mutex);
    HASH_FIND(hh, peers->rows, key, length, row);
    if (!row && HASH_COUNT(peers->rows) < IND_MOST_PEERS && (row = new_row(key, length, listener)))
        HASH_ADD_KEYPTR(hh, peers->rows, row->key, length, row);
    if (row) {
        row->peer.handshakes++;
        row->peer.address = *address;
        row->peer.last = now;
    }
    ind_mutex_unlock(&peers->mutex);
}

void ind_peers_visit(struct ind_peers *peers, void (*visit)(void *context, const struct ind_peer *peer),
                     void *context)
{
    ind_mutex_lock(&peers->mutex);
    for (const struct row *row = peers->rows; row; row = row->hh.next)
        visit(context, &row->peer);
    ind_mutex_unlock(&peers->mutex);
}
