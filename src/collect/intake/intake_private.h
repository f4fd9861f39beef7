/* collect/intake/intake_private.h: what the intake is made of, for its files only. */
#ifndef IND_COLLECT_INTAKE_INTAKE_PRIVATE_H
#define IND_COLLECT_INTAKE_INTAKE_PRIVATE_H

#include "collect/account/notes.h"
#include "collect/intake/alerting.h"
#include "collect/intake/intake.h"
#include "collect/intake/message_reader.h"
#include "collect/intake/senders.h"
#include "collect/queue/causes.h"

enum { IND_RECENT_ACCOUNTS = 1024, IND_MOST_BEGUN = 16 };
#define IND_NO_GROUP UINT32_MAX

/* The message that is being taken in. It is kept while its lines do not all fit into a batch: what edits
 * remember of it must not be asked twice. */
struct ind_message_at_hand {
    struct ind_message message;
    size_t length; /* of its bytes, as they came */
    enum ind_line_form form;
    bool pending;
    bool refused; /* its sender is not allowed, or it is no trap that is accepted: */
    enum ind_end refused_as;
    bool waits; /* its sender is held back rather than that it is lost */
    struct ind_sender *sender;
    struct ind_steady moment; /* of its receipt */
    bool counted;             /* it is in the tallies of a batch */
    uint32_t account;
    size_t next_copy; /* of its lines: the first that is in no batch yet */
    const struct ind_edit *dropped;
    size_t routes; /* of `taken` */
    uint64_t gave_up;
    /* What edits that remember have said of it, in the order in which they were asked. */
    bool said[IND_MOST_EDITS];
    size_t said_count, replayed; /* replayed: of these, when it is read again */
    bool replay;
};

/* The group of a route in the present batch, where its path is made of facility and severity alone, or is
 * always the same; and the tally of an account. `round`: of the batch for which it is known. */
struct ind_known_group {
    uint64_t round;
    struct ind_batch_group *group;
};

struct ind_known_tally {
    uint64_t round;
    uint32_t tally;
};

struct ind_intake {
    const struct ind_config *config;
    struct ind_message_reader reader;
    struct ind_message_at_hand at_hand;
    struct ind_onlooker onlooker;

    /* Whose messages they are. */
    struct ind_accounts *accounts;
    struct ind_senders *senders;
    struct ind_known_sender *last; /* most messages come from where the one before came from */
    struct ind_known_sender named; /* for messages from files */
    struct ind_device local;       /* this machine, where it is not configured */
    char host[256];
    uint32_t recent[IND_RECENT_ACCOUNTS]; /* accounts */

    /* Edits. */
    struct ind_edit_states *states; /* or NULL */
    struct ind_editor *editor;      /* NULL: there are no edits */
    struct ind_steady moment;       /* of the message at hand, for edits that remember */
    uint64_t begun[IND_MOST_BEGUN]; /* what they remember that begins with this message */
    size_t begun_count;

    /* Routes and lines. */
    struct ind_answers answers;
    uint32_t *taken;
    bool wants_fields; /* some route's file or layout does */
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;

    struct ind_alerting alerting;
    struct ind_causes *causes; /* of alerts; NULL: nobody is told */

    struct ind_notes *notes; /* NULL: nothing is remembered */

    const struct ind_mounts *mounts; /* NULL: the store is on one file system */
    const struct ind_clog *clog;

    /* What is known of the present batch. */
    uint64_t round;
    struct ind_known_group *groups;
    uint32_t
        *first_group; /* by route: its first in `groups`; IND_NO_GROUP: what its paths are made of is more */
    struct ind_known_tally *tallies;
    size_t tally_room;
    uint64_t *edit_round; /* by edit: the batch in which it has the tally edit_place */
    uint32_t *edit_place;
};

/* All its messages are of one group. */
static inline bool ind_route_is_constant(const struct ind_route *route)
{
    return route->to != IND_TO_FILE ||
           (route->file.count == 1 && route->file.parts[0].put == IND_PUT_LITERAL);
}

#endif
