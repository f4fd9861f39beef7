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

/* Counts a message by what `settings` group by. `answers` are of this message; `clock` tells its date. */
void ind_groups_count(struct ind_groups *groups, const struct ind_search_settings *settings,
                      const struct ind_message *message, struct ind_answers *answers,
                      struct ind_path_clock *clock);

/* Adds the others' counts; these are then empty. */
void ind_groups_join(struct ind_groups *groups, struct ind_groups *others);

/* Puts them into the result, most first: borrowed by it, `values` each. Where memory is out it has failed. */
void ind_groups_list(const struct ind_groups *groups, size_t values, struct ind_search_result *result);
void ind_groups_free(struct ind_groups *groups);

#endif
