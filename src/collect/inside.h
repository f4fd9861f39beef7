/* collect/inside.h: what the threads of a collector share, for the files of collect/ only.
 *
 *     receivers (or the one reader of files) ─► rings ─► writer ─► housekeeping
 *
 * and the control thread, which is the one that called ind_collect: signals, the control socket, reloads. It
 * gives orders to the others, who take them when they are between two messages, and knock when they are
 * through. Nobody waits for the control thread. */
#ifndef IND_COLLECT_INSIDE_H
#define IND_COLLECT_INSIDE_H

#include "collect/book.h"
#include "collect/budget.h"
#include "collect/burst.h"
#include "collect/collector.h"
#include "collect/ring.h"
#include "collect/takers.h"

#include <pthread.h>
#include <stdatomic.h>

/* Listeners that one run can know, over all reloads; each has a number in the ledger. */
enum { IND_MOST_PORTS = 2 * IND_MOST_LISTENERS };
enum { IND_LISTENER_NAMES = 256, IND_NAME_INTERNAL = 0, IND_NAME_FILES = 1 };

/* One address that is listened on; a listener on [::] has two, for an IPv6 socket of ours takes no IPv4. It
 * lives on through reloads that ask for the same. */
struct ind_port {
    struct ind_port *next;
    char *text; /* of the listener, as the configuration names it */
    enum ind_listener_kind kind;
    char *address;   /* numeric, or the path of a local socket */
    uint16_t wanted; /* port; 0: any */
    atomic_bool drop;
    uint16_t number;
    int sockets[IND_MOST_INTAKES]; /* UDP: one for each receiver, others: one; -1: closed by its receiver */
    unsigned socket_count;
    char *path;  /* of a local socket: to be removed at the end; or NULL */
    bool shared; /* several sockets, and the kernel picks one by the source address */
    atomic_uint_fast64_t kernel_dropped[IND_MOST_INTAKES];
};

/* One configuration with all that was made from it. */
struct ind_rules {
    struct ind_loaded loaded; /* empty: the configuration is borrowed */
    const struct ind_config *config;
    struct ind_plan *plan; /* NULL for the first rules: the store's own */
    struct ind_port *ports[IND_MOST_PORTS];
    size_t listener_of[IND_MOST_PORTS]; /* of the configuration, by port */
    size_t port_count;
    struct ind_intake *intakes[IND_MOST_INTAKES];
};

/* The ledger of one receiver at one moment: what it had received, and what had become of it when all that it
 * had passed on before had come to the writer. */
struct ind_ledger_snapshot {
    uint64_t received[IND_LISTENER_NAMES], bytes[IND_LISTENER_NAMES]; /* at the socket */
    uint64_t lost_buffer[IND_LISTENER_NAMES], waiting[IND_LISTENER_NAMES];
    uint32_t count;             /* accounts */
    struct ind_ledger *ledgers; /* by account; NULL: no memory for them */
    ind_time *last;
    struct ind_clock_offset_summary *lags;
    uint64_t ring_waiting, store_waiting; /* messages, of `waiting` in the ledgers */
    struct ind_route_count *routes;       /* names are borrowed */
    size_t route_count;
    struct ind_sink_count *takers; /* likewise */
    size_t taker_count;
    struct ind_edit_count *edits; /* of this intake; ind_edit_counts_free */
};

struct ind_marker {
    enum { IND_MARKER_SNAPSHOT, IND_MARKER_RULES } kind;
    struct ind_ledger_snapshot *sheet;
    struct ind_rules *rules;
};

struct ind_receiver;
struct ind_control;
struct ind_file_source;
struct ind_tap;

struct ind_collector {
    const struct ind_collect_settings *settings;
    struct ind_rules *rules; /* the control thread's */
    struct ind_store *store;
    struct ind_book *book;
    struct ind_spawner *helper; /* NULL: there are no programs to be started */
    struct ind_sinks *takers;   /* the writer's */
    struct ind_rings *rings;
    struct ind_slabs *slabs;
    struct ind_accounts *accounts[IND_MOST_INTAKES];
    struct ind_receiver *receivers[IND_MOST_INTAKES];
    struct ind_control *control;
    struct ind_tap *tap;
    struct ind_edit_states *recalls;   /* NULL as long as no edit remembers anything */
    struct ind_file_source *news_feed; /* with --from: where what they have to tell goes */
    struct ind_port *ports;
    const char *names[IND_LISTENER_NAMES]; /* listeners by their number; the control thread's */
    ind_time began;
    uint64_t unread_files;

    pthread_mutex_t ending;
    pthread_cond_t ended; /* told when `written` comes true */

    /* Orders of the control thread to the writer and to housekeeping, and how far they are. */
    pthread_mutex_t ordering;
    size_t rotated_count, rotated_failed;
    _Atomic(struct ind_rules *) keeper_rules; /* to be adopted */

    /* Facts for the status; of the threads, read by control. */
    struct ind_budget budget; /* of descriptors */
    size_t halves_limit;      /* bytes of half messages that all connections together may hold */

    atomic_uint_fast64_t lines, bytes, rotated_files, overflowed, live_files, open_files;
    atomic_uint_fast64_t compressed, removed, archives, archive_bytes;

    unsigned intakes;
    atomic_uint receivers_behind; /* that have not taken the new rules yet */
    /* Of the first receiver, which hands out connections: a port that it handed one out for is still there.
     */
    _Atomic(const struct ind_rules *) door_rules;
    atomic_uint sheets_out;
    atomic_uint drained; /* receivers that have nothing left, but for what is our own */
    uint16_t name_count;
    atomic_bool stop;    /* asked to end */
    atomic_bool give_up; /* the writer has waited long enough at the end */
    atomic_bool written; /* the writer is done: housekeeping may end */
    atomic_bool writer_behind, keeper_behind, clock_is_right;
    bool rotate_asked, rotate_only_due, rotated; /* under `ordering` */
};

/* To whoever called, and, from warnings on, as a message of our own to the routes. Severity as in RFC 5424.
 */
void ind_collect_tell(struct ind_collector *collector, unsigned severity, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

/* News of edits, as a message of our own; from any thread. `collector` as context. */
void ind_collect_tell_news(void *collector, const struct ind_edit_report *news);

/* The number of a listener's name, which it keeps. 0 where there are too many. The control thread only. */
uint16_t ind_listener_number(struct ind_collector *collector, const char *text);

/* ---- rules.c ---- */

/* Makes rules ready to be used: sockets opened, intakes and, once there is a store, its plan made. Touches
 * nothing that runs. `loaded`, which holds `config`, is taken over, unless NULL. NULL with `reason` filled
 * in. */
struct ind_rules *ind_rules_prepare(struct ind_collector *collector, struct ind_loaded *loaded,
                                    const struct ind_config *config, char *reason, size_t room);
void ind_rules_free(struct ind_collector *collector, struct ind_rules *rules);
bool ind_rules_have_port(const struct ind_rules *rules, const struct ind_port *port);
/* The port of the rules that is the same to the system, if under the name of another listener; or NULL. */
struct ind_port *ind_rules_successor(const struct ind_rules *rules, const struct ind_port *port);
/* Closes the ports that `rules` (NULL: none) do not name. */
void ind_ports_close_old(struct ind_collector *collector, const struct ind_rules *rules);
void ind_ports_tell(struct ind_collector *collector, const struct ind_rules *rules);

/* ---- receiver.c ---- */

struct ind_receiver *ind_receiver_new(struct ind_collector *collector, unsigned number);
void ind_receiver_free(struct ind_receiver *receiver);
/* Before its thread is started. */
void ind_receiver_begin(struct ind_receiver *receiver, struct ind_rules *rules);
void *ind_receive(void *receiver);

/* Orders; from the control thread. */
void ind_receiver_wake(struct ind_receiver *receiver);
void ind_receiver_order_snapshot(struct ind_receiver *receiver, struct ind_marker *mark);
void ind_receiver_order_rules(struct ind_receiver *receiver, struct ind_marker *mark);

/* A message of our own; from any thread. */
void ind_receiver_say(struct ind_receiver *receiver, struct ind_slice text);

/* A connection for this receiver to read; from any receiver's thread. */
struct ind_connection;
void ind_receiver_hand(struct ind_receiver *receiver, struct ind_connection *guest);

struct ind_receiver_facts {
    uint64_t longest_pause; /* ns in which no socket was looked at though messages may have come */
    uint64_t connections, accepted, turned_away, not_allowed, bad_counts, too_slow;
};
void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts);

/* What it has received and lost by itself, by listener; once its thread has ended. */
void ind_receiver_fill_snapshot(const struct ind_receiver *receiver, struct ind_ledger_snapshot *sheet);

/* ---- others ---- */

void *ind_read_files(void *collector);
void *ind_writer(void *collector);
void *ind_housekeeping(void *collector);

/* The writer is done: wakes all who wait for it. */
void ind_tell_written(struct ind_collector *collector);
/* True once the writer is done; waits for it so long at most. */
bool ind_wait_written(struct ind_collector *collector, int milliseconds);

/* ---- control.c ---- */

struct ind_control *ind_control_new(struct ind_collector *collector);
void ind_control_free(struct ind_control *control);
/* Opens the control socket: whoever reads that we listen may ask at once. */
void ind_control_open(struct ind_control *control);
/* Until the writer is done. */
void ind_control_run(struct ind_control *control);
/* Something it waits for has come; from any thread. */
void ind_control_wake(struct ind_control *control);

#endif
