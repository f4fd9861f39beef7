/* collect/taking/taker.h: takes messages from a message system (docs/scale.md): a thread for each listener of
 * that kind.
 *
 *     broker ─► batches ─► local socket ─► receiver ─► … ─► files
 *        ▲                                                   │
 *        └── acknowledged, once all of them are on disk ◄────┘
 *
 * What it takes it says over a local socket that the collector listens on, and so it goes the way of all
 * messages. The book tells when nothing of it waits any more; then the disk is flushed, the ids of the
 * batches are written down, and the broker is told. */
#ifndef IND_COLLECT_TAKING_TAKER_H
#define IND_COLLECT_TAKING_TAKER_H

#include "collect/account/book.h"
#include "collect/runtime/lifecycle.h"
#include "collect/runtime/reporter.h"

struct ind_taker_settings {
    const struct ind_listen_item *item; /* copied */
    uint16_t listener;                  /* its number */
    const char *state;                  /* the folder; copied */
    const struct ind_book *book;        /* these are borrowed */
    struct ind_reporter *reporter;
    struct ind_lifecycle *lifecycle;
    bool (*flush)(void *context); /* everything that was written is on disk: false with errno set */
    void *context;
};

enum { IND_TAKER_ORIGINS = 64 };

/* What one queue of a collector (its relay's) has sent through the broker, as far as it came here. */
struct ind_taker_origin {
    char origin[40];
    uint64_t messages;
};

/* Since the start. */
struct ind_taker_count {
    char name[80], group[68];
    bool up;
    char reason[200];                                   /* why it is not; "" where it is */
    uint64_t batches, messages;                         /* stored, and acknowledged */
    uint64_t repeated_batches, repeated;                /* that were stored before: left out */
    uint64_t again;                                     /* batches that had been given to somebody before */
    uint64_t bad;                                       /* batches that nobody can read */
    struct ind_taker_origin origins[IND_TAKER_ORIGINS]; /* of `messages`; others are not listed */
    unsigned origin_count;
};

struct ind_taker;

/* New, with its thread. NULL where that cannot be made. */
struct ind_taker *ind_taker_new(const struct ind_taker_settings *settings);
const char *ind_taker_name(const struct ind_taker *taker);
/* Whether that item asks for the same. */
bool ind_taker_is_for(const struct ind_taker *taker, const struct ind_listen_item *item);
/* Asks it to end: it takes nothing more, and sees what it has taken through. */
void ind_taker_end(struct ind_taker *taker);
bool ind_taker_has_ended(const struct ind_taker *taker);
/* Waits until it has. Accepts NULL. */
void ind_taker_free(struct ind_taker *taker);
/* Any thread. */
void ind_taker_read_count(struct ind_taker *taker, struct ind_taker_count *count);

#endif
