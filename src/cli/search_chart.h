/* cli/search_chart.h: how much there is over time, drawn in characters. */
#ifndef IND_CLI_SEARCH_CHART_H
#define IND_CLI_SEARCH_CHART_H

#include "cli/search_call.h"

/* The steps of time of groups, the first of which is by IND_BY_EVERY. */
struct ind_steps {
    int64_t *begins; /* in order, without a gap */
    size_t count;
};

/* False where there are none, or too many to be gone through. To be freed. */
bool ind_steps_find(const struct ind_search_result *result, const struct ind_every *every,
                    struct ind_steps *steps);
void ind_steps_free(struct ind_steps *steps);
/* The number of the step of a group. */
size_t ind_steps_place(const struct ind_steps *steps, const struct ind_search_group *group);

/* Whether the terminal shows more than ASCII, by the environment. */
bool ind_has_blocks(void);
/* A bar of that share of `width` columns; `text` has room for IND_BAR_ROOM bytes and is returned. */
enum { IND_BAR_WIDTH = 30, IND_BAR_ROOM = 3 * IND_BAR_WIDTH + 1 };
const char *ind_bar(double share, char text[IND_BAR_ROOM]);

/* Of all groups together, or, where they are told apart by more than time, a line of each of the largest. */
void ind_search_print_chart(const struct ind_search_result *result,
                            const struct ind_search_settings *settings, FILE *out);

#endif
