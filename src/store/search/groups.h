/* store/search/groups.h: how many found messages there are of each, told apart by values that they have; and
 * what is measured of them. */
#ifndef IND_STORE_SEARCH_GROUPS_H
#define IND_STORE_SEARCH_GROUPS_H

#include "store/search/search.h"

/* Of one message: the number whose sum is wanted, and a hash of the value that is counted once. */
struct ind_measured {
    double number;
    uint64_t value;
    bool has_number, has_value;
};

struct ind_group_kept;

/* Values that differ, each with its group. */
struct ind_distinct {
    uint64_t value;
    struct ind_group_kept *group; /* NULL: the place is free */
};

/* Empty where it is all zero. */
struct ind_groups {
    struct ind_group_kept **slots; /* by hash; half full at most */
    size_t count, slot_count;
    struct ind_group_page *pages; /* in which they lie */
    size_t bytes;
    bool cut;      /* there was no room for a group: its messages are not counted */
    uint64_t lost; /* these */
    struct ind_distinct *distinct;
    size_t distinct_count, distinct_room;
    bool distinct_cut; /* there was no room for a value */
};

enum { IND_GROUP_KEY_MOST = (IND_SEARCH_FIELDS + 1) * (IND_BY_WRITTEN_MOST + 1) };

/* Adds what tells a message's group from others, by what `settings` group by: IND_GROUP_KEY_MOST bytes at
 * most. `answers` are of this message. */
void ind_group_key(const struct ind_search_settings *settings, const struct ind_message *message,
                   struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *key);
void ind_group_measure(const struct ind_search_settings *settings, const struct ind_message *message,
                       struct ind_answers *answers, struct ind_by_reader *reader,
                       struct ind_measured *measured);

/* Counts `count` messages more in the group of that key; `measured` may be NULL. */
void ind_groups_add(struct ind_groups *groups, struct ind_slice key, uint64_t count,
                    const struct ind_measured *measured);

/* Adds the others' counts; these are then empty. */
void ind_groups_join(struct ind_groups *groups, struct ind_groups *others);

/* Puts them into the result in the order that is wanted (its `top` first only, where that is not 0): borrowed
 * by it. Where memory is out it has failed. */
void ind_groups_list(const struct ind_groups *groups, const struct ind_search_settings *settings,
                     struct ind_search_result *result);
void ind_groups_free(struct ind_groups *groups);

#endif
