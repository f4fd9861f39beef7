/* collect/control/status.h: all that is known of a running collector, as JSON (docs/formats.md).
 *
 * Whoever asks gives it as plain values: no other part of the collector is known here. */
#ifndef IND_COLLECT_CONTROL_STATUS_H
#define IND_COLLECT_CONTROL_STATUS_H

#include "collect/account/book.h"
#include "collect/account/notes.h"
#include "collect/alert/desk.h"
#include "collect/control/device_rates.h"
#include "collect/relay/relays.h"
#include "collect/taking/taker.h"
#include "core/trap/trap.h"
#include "net/tls_session.h"
#include "store/disk/mounts.h"

struct ind_status_listener {
    const char *name; /* as the configuration writes it, and messages name it */
    char at[80];      /* with the port that it has; "": nothing else is known */
    bool open;
    bool paused;             /* by somebody; it is closed, or will be in a moment */
    bool datagrams;          /* the kernel may drop what it has no room for: */
    uint64_t kernel_dropped; /* of all its sockets, since they were opened */
    bool traps; /* what comes to it is traps: informs that were answered, and what was refused and why */
    uint64_t traps_answered, traps_refused[IND_TRAP_FAULTS];
    /* TLS; expiries NULL: it has none. */
    uint64_t shaken, failed[IND_TLS_FAILURES];
    const struct ind_tls_expiries *expiries;
};

struct ind_status_receiver {
    uint64_t longest_pause; /* ns in which no socket was looked at though messages may have come */
    uint64_t connections;   /* that are open */
    uint64_t bad_counts, too_slow, unfinished, idle, broken_off; /* that were ended, and why */
};

struct ind_status_door {
    uint64_t accepted, turned_away, not_allowed; /* connections */
};

struct ind_status_files {
    uint64_t live, open, lines, bytes, overflowed, rotated; /* of the writing half */
    uint64_t compressed, removed, archives, archive_bytes, protected_archives, to_copy,
        to_count;        /* of the keeping half */
    bool catalog_failed; /* likewise */
    struct ind_status_disk {
        const char *folder; /* below the store; "": the store itself */
        uint64_t size, free;
        double days; /* until it is full; below 0: not known, or never */
    } disks[IND_MOST_FILE_SYSTEMS];
    unsigned disk_count; /* the store's own first */
    char trouble[400];   /* what is wrong with it; "": nothing */
};

/* Something that is not well. `reason` is one of a few words: those of /health (docs/formats.md). */
struct ind_status_reason {
    const char *reason;
    char text[240];
};
enum { IND_STATUS_REASONS = 32 };

/* In so many minutes, or since the start. */
enum { IND_STATUS_RATES = 3 };
static inline unsigned ind_status_minutes(int rate)
{
    static const unsigned minutes[IND_STATUS_RATES] = {1, 5, 15};
    return minutes[rate];
}
struct ind_status_rate {
    double seconds; /* 0: nothing is known yet */
    uint64_t received, bytes, lost;
};

/* Who has shown a certificate. */
struct ind_status_peer {
    char name[IND_TLS_PEER_WIDTH];
    size_t name_length;
    uint16_t listener;
    struct ind_address address;
    uint64_t handshakes;
    ind_time last;
};

/* At one moment. Everything is borrowed for the call. */
struct ind_status {
    ind_time now, began, rules_since; /* rules_since: when the present ones came into force */
    const char *version;
    struct ind_status_reason reasons[IND_STATUS_REASONS]; /* worst first */
    size_t reason_count;
    struct ind_status_rate rates[IND_STATUS_RATES];
    const struct ind_config *config;
    unsigned intakes;
    const struct ind_ledger_snapshot *snapshots; /* of each intake */
    struct ind_accounts *const *accounts;        /* likewise */
    struct ind_notes *const *notes;              /* likewise; each may be NULL */
    const struct ind_device_rates *device_rates;
    struct ind_device_rates_then then[IND_STATUS_RATES];
    const struct ind_status_receiver *receivers; /* of each intake */
    struct ind_status_door door;
    struct ind_status_listener listeners[IND_LISTENER_NAMES]; /* by their number */
    uint16_t listener_count;
    const struct ind_status_peer *peers;
    size_t peer_count;
    uint64_t remembered, evicted; /* entries of edits that remember */
    struct ind_status_files files;
    const struct ind_named_relay_count *relays;
    size_t relay_count;
    const struct ind_taker_count *takers;
    size_t taker_count;
    const struct ind_desk_count *alerts; /* NULL: there are none */
};

/* For whoever asks while the writer cannot be asked: the status that was given last (NULL: none), with what
 * is wrong now, and `as_of`, the time that its numbers are of. New, to be freed; NULL where memory is out. */
char *ind_status_again(const char *last, ind_time now, const char *trouble);

/* What is not well, as JSON. New, to be freed; NULL where memory is out. */
char *ind_status_reasons_text(const struct ind_status_reason *reasons, size_t count);

struct ind_rows;
/* New, to be freed; NULL where memory is out. `rows`: gathered of this status. */
char *ind_status_text(const struct ind_status *status, const struct ind_rows *rows);

#endif
