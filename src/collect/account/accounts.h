/* collect/account/accounts.h: whose messages are counted where: an account for each listener and device, and
 * for each sender that no configured device has.
 *
 * An intake thread has accounts of its own, so that what it has sent to the writer so far is all that is in
 * their ledgers. It alone adds accounts; the writer alone writes their ledgers; both only ever meet an
 * account by its number in a batch that passes between them. Accounts stay until the end: reloads do not
 * touch them. Names of devices and addresses of senders can be forged: from some number on, strangers share
 * one account a listener. */
#ifndef IND_COLLECT_ACCOUNT_ACCOUNTS_H
#define IND_COLLECT_ACCOUNT_ACCOUNTS_H

#include "core/base/slice.h"
#include "core/ledger/clock_offset.h"
#include "core/ledger/ledger.h"

enum { IND_ACCOUNT_CHUNK = 1024, IND_ACCOUNT_CHUNKS = 256, IND_STRANGERS = 20000, IND_REFUSED = 2000 };

enum ind_account_kind {
    IND_ACCOUNT_DEVICE,   /* configured */
    IND_ACCOUNT_STRANGER, /* not configured; `sender` tells its address */
    IND_ACCOUNT_CLAIMANT, /* the same, and it calls itself by the name of a configured device: `device` */
    IND_ACCOUNT_REFUSED,  /* not under allow: */
    IND_ACCOUNT_OTHERS    /* all that found no account of their own */
};

/* What a route took; `place`: in the routes of the book (ind_book_routes). */
enum { IND_ACCOUNT_ROUTES = 32 };
struct ind_account_route {
    uint32_t place;
    uint64_t messages;
};

struct ind_account {
    uint16_t listener;               /* its number */
    uint8_t kind;                    /* enum ind_account_kind */
    struct ind_slice device, sender; /* terminated */

    /* The writer's. */
    struct ind_ledger ledger;
    ind_time last; /* receipt of the last message; IND_TIME_NONE: none yet */
    struct ind_clock_offset offset;
    struct ind_account_route *routes; /* that took messages of it; those beyond IND_ACCOUNT_ROUTES together */
    uint32_t route_count;
    uint64_t other_routes;
    uint64_t aside; /* lines that have gone on to the writers of file systems, and are not settled yet */
};

struct ind_accounts;
struct ind_accounts *ind_accounts_new(void);
void ind_accounts_free(struct ind_accounts *accounts);

/* The account for these, made where there is none; always one, if only the one for others. */
uint32_t ind_account_for(struct ind_accounts *accounts, uint16_t listener, enum ind_account_kind kind,
                         struct ind_slice device, struct ind_slice sender);

/* Good for every number that was given. */
struct ind_account *ind_account_at(const struct ind_accounts *accounts, uint32_t number);

/* How many numbers were given: for the thread that gives them, or later. */
uint32_t ind_accounts_count(const struct ind_accounts *accounts);

#endif
