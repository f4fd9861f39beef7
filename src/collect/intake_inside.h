/* collect/intake_inside.h: what the intake is made of, for its files only. */
#ifndef IND_COLLECT_INTAKE_INSIDE_H
#define IND_COLLECT_INTAKE_INSIDE_H

#include "collect/intake.h"
#include "collect/senders.h"
#include "store/read/line_reader.h"

enum { RECENT = 1024, MOST_BEGUN = 16 };

/* The message at hand. It is kept while its lines do not all fit into a batch: what edits remember of it must
 * not be asked twice. */
struct at_hand {
    struct ind_message message;
    struct ind_slice bytes; /* as the caller knows it */
    bool under_way;
    const struct ind_edit *dropped;
    size_t routes; /* of `taken` */
    uint64_t gave_up;
};

struct ind_intake {
    const struct ind_config *config;
    struct ind_accounts *accounts;
    struct ind_edit_states *recalls; /* or NULL */
    struct ind_editor *editor;       /* NULL: there are no edits */
    struct at_hand at_hand;
    uint64_t begun[MOST_BEGUN]; /* what edits remember that begins with this message */
    size_t begun_count;
    struct ind_steady moment; /* of the message at hand, for them */
    uint64_t *edit_round;     /* by edit: the batch in which it has the tally edit_place */
    uint32_t *edit_place;
    struct ind_onlooker onlooker;
    struct ind_answers answers;
    uint32_t *taken;
    size_t next_copy; /* of a message whose lines did not all fit into the last batch */
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    /* Of routes whose path is made of facility and severity alone, or is always the same: the group in the
     * present batch. */
    struct known_group {
        uint64_t round; /* of the batch for which it is known */
        struct ind_batch_group *group;
    } * groups;
    uint32_t *first_group; /* by route: its first in `groups`; NO_GROUP: what its paths are made of is more */
    struct known_tally {   /* of an account, in the present batch */
        uint64_t round;
        uint32_t tally;
    } * tallies;
    size_t tally_room;
    uint32_t recent[RECENT]; /* accounts */
    uint64_t round;
    struct ind_senders *senders;
    struct ind_known_sender *last; /* most messages come from where the one before came from */
    struct ind_known_sender named; /* for messages from files */
    struct ind_device local;       /* this machine, where it is not configured */
    char host[256];
    struct ind_line_reader *reader;
    char device[IND_DEVICE_SCRATCH];
};

#define NO_GROUP UINT32_MAX

/* All its messages are of one group. */
static inline bool ind_route_is_constant(const struct ind_route *route)
{
    return route->to != IND_TO_FILE ||
           (route->file.count == 1 && route->file.parts[0].put == IND_PUT_LITERAL);
}

#endif
