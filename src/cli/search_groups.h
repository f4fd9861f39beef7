/* cli/search_groups.h: groups and numbers that a search has counted, printed. */
#ifndef IND_CLI_SEARCH_GROUPS_H
#define IND_CLI_SEARCH_GROUPS_H

#include "cli/search_call.h"

/* As a table, JSON or CSV; on a terminal with bars and, of steps of time, a chart. */
void ind_search_print_groups(const struct ind_search_result *result,
                             const struct ind_search_settings *settings,
                             const struct ind_search_options *given, FILE *out);

/* What is new, gone, more or less in `now` against `before`: the worst first. Returns how many. */
size_t ind_search_print_change(const struct ind_search_result *now, const struct ind_search_result *before,
                               const struct ind_search_read *read, const struct ind_search_options *given,
                               FILE *out);

#endif
