/* store/search/groups.h: how many found messages there are of each, told apart by values that they have. */
#ifndef IND_STORE_SEARCH_GROUPS_H
#define IND_STORE_SEARCH_GROUPS_H

#include "core/line/template.h"
#include "store/search/search.h"

struct ind_group_kept;

/* Empty where it is all zero. */
struct ind_groups {
    struct ind_group_kept *table;
    bool cut; /* there was no room for a group, or no memory: its messages are not counted */
};

/* Adds what tells a message's group from others, by what `settings` group by: IND_GROUP_KEY_MOST bytes at
 * most. `answers` are of this message; `clock` tells its date. */
enum { IND_GROUP_VALUE_MOST = 200, IND_GROUP_KEY_MOST = IND_SEARCH_FIELDS * (4 * IND_GROUP_VALUE_MOST + 8) };
void ind_group_key(const struct ind_search_settings *settings, const struct ind_message *message,
                   struct ind_answers *answers, struct ind_path_clock *clock, struct ind_buffer *key);

/* Counts `count` messages more in the group of that key. */
void ind_groups_add(struct ind_groups *groups, struct ind_slice key, uint64_t count);

/* Adds the others' counts; these are then empty. */
void ind_groups_join(struct ind_groups *groups, struct ind_groups *others);

/* Puts them into the result, most first, or in the order of time where it groups by one (its `top` most
 * frequent only, where that is not 0): borrowed by it. Where memory is out it has failed. */
void ind_groups_list(const struct ind_groups *groups, const struct ind_search_settings *settings,
                     struct ind_search_result *result);
void ind_groups_free(struct ind_groups *groups);

#endif
