/* collect/input/listener.h: what is listened on: opened, named, closed.
 *
 * A listener is one address as the system knows it. An item of `listen:` is one of them; on [::] it is two,
 * for an IPv6 socket of ours takes no IPv4. It lives on through reloads that ask for the same. The control
 * thread alone opens and closes; receivers and the door read the listeners of the rules that they have taken
 * over, and close a socket of their own when it goes. */
#ifndef IND_COLLECT_INPUT_LISTENER_H
#define IND_COLLECT_INPUT_LISTENER_H

#include "collect/account/book.h"
#include "collect/intake/trap_rules.h"
#include "collect/runtime/identity.h"
#include "collect/runtime/reporter.h"
#include "config/config.h"
#include "net/inherited.h"
#include "net/tls_session.h"

#include <stdatomic.h>

enum { IND_MOST_LISTENERS_OPEN = 2 * IND_MOST_LISTENERS };

struct ind_listener {
    struct ind_listener *next; /* the control thread's */
    char *text;                /* of its item, as the configuration names it */
    enum ind_listener_kind kind;
    enum ind_transport transport; /* of what comes to it */
    bool stream;                  /* connections come to it, which the door lets in; else datagrams */
    char *address;    /* numeric, or the path of a local socket, or the name of an inherited one */
    uint16_t wanted;  /* port; 0: any */
    uint16_t port;    /* that it has; 0 of a local socket */
    uint16_t number;  /* of its text, in the ledger */
    atomic_bool join; /* lines that begin with a blank belong to the message before; likewise */
    atomic_bool drop; /* what has no room is lost: set by control at a reload, read by receivers */
    int sockets[IND_MOST_INTAKES]; /* UDP: one for each receiver, others: one; -1: closed by its receiver */
    unsigned socket_count;
    char *path;  /* of a local socket: to be removed at the end; or NULL */
    bool shared; /* several sockets, and the kernel picks one by the source address */
    atomic_uint_fast64_t
        kernel_dropped[IND_MOST_INTAKES]; /* by socket: each receiver writes its own, control reads */
    /* TLS: handshakes that were done, and that failed, by the reason. The door writes, control reads. */
    atomic_uint_fast64_t shaken, failed[IND_TLS_FAILURES];
    struct ind_steady failure_reported[IND_TLS_FAILURES]; /* the door's */
    /* Traps: refused, by the reason, and informs and questions that were answered. Receivers write, control
     * reads. */
    atomic_uint_fast64_t traps_refused[IND_TRAP_FAULTS], traps_answered;
};

/* The listeners of one configuration. Never changes once it is open; any thread may read it. */
struct ind_listener_set {
    const struct ind_config *config;
    struct ind_listener *list[IND_MOST_LISTENERS_OPEN];
    size_t item_of[IND_MOST_LISTENERS_OPEN];               /* of `listen:` */
    struct ind_tls *tls[IND_MOST_LISTENERS_OPEN];          /* held; NULL: none */
    struct ind_trap_rules *traps[IND_MOST_LISTENERS_OPEN]; /* NULL: none */
    size_t count;
};

/* All that are open, and the names that listeners ever had. The control thread's; but a name that a number
 * stands for may be read by all who have got the number. */
struct ind_listeners {
    unsigned receivers;
    const struct ind_inherited *inherited; /* or NULL */
    const struct ind_identity *identity;   /* whose local sockets are to be */
    struct ind_listener *open;
    const char *names[IND_LISTENER_NAMES];
    uint16_t name_count;
    bool closed[IND_LISTENER_NAMES]; /* by their number: somebody has paused them; they are not opened */
};

/* False where memory is out. */
bool ind_listeners_begin(struct ind_listeners *listeners, unsigned receivers,
                         const struct ind_inherited *inherited, const struct ind_identity *identity);
void ind_listeners_end(struct ind_listeners *listeners);

enum { IND_LISTENER_PLACE = 80 };
/* "udp 127.0.0.1:53171": the name with the port that it has; "" where there is nothing more to say. */
void ind_listener_write_place(const struct ind_listener *listener, struct ind_buffer *buffer);

/* The number of a listener's name, which it keeps. 0 where there are too many, or memory is out. */
uint16_t ind_listeners_number(struct ind_listeners *listeners, const char *text);

/* Opens what the configuration asks for and is not open yet; these are kept apart in *fresh until they are
 * taken in. False with `reason` filled in. */
bool ind_listener_set_open(struct ind_listeners *listeners, const struct ind_config *config,
                           struct ind_listener_set *set, struct ind_listener **fresh, char *reason,
                           size_t room);
/* Lets go of what the set holds; the listeners stay. */
void ind_listener_set_end(struct ind_listener_set *set);
/* Cannot fail. */
void ind_listeners_add(struct ind_listeners *listeners, struct ind_listener *fresh);
void ind_listeners_discard(struct ind_listener *fresh);

/* Closes all that are not in `set` (NULL: all). */
void ind_listeners_close_others(struct ind_listeners *listeners, const struct ind_listener_set *set);

/* Reports each, as configured, but with the port that was found where any would do. */
void ind_listener_set_report(const struct ind_listener_set *set, struct ind_reporter *reporter);

/* Whether connections come to it, which the door lets in; else datagrams, which receivers read. */
static inline bool ind_listener_connects(const struct ind_listener *listener)
{
    return listener->stream;
}

/* What of an item takes effect on a listener that stays: whether senders wait, lines are joined, and the
 * permissions of a local socket. The control thread. */
void ind_listener_set_settings(struct ind_listener *listener, const struct ind_listen_item *item);

/* Its reader closes one of its sockets: the listener is to go. */
void ind_listener_close_socket(struct ind_listener *listener, unsigned index);

/* Where it is in the set; -1 where it is not. */
int ind_listener_set_index(const struct ind_listener_set *set, const struct ind_listener *listener);
/* Reports what the service manager has handed over and no item of `listen:` names. */
void ind_listeners_report_unused(const struct ind_listeners *listeners, const struct ind_config *config,
                                 struct ind_reporter *reporter);

bool ind_listener_set_has(const struct ind_listener_set *set, const struct ind_listener *listener);
/* The listener of the set that is the same to the system, if under another item's name; or NULL. */
struct ind_listener *ind_listener_set_successor(const struct ind_listener_set *set,
                                                const struct ind_listener *listener);

#endif
