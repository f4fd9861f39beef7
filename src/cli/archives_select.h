/* cli/archives_select.h: the archives of a store that somebody means, by name and by time. */
#ifndef IND_CLI_ARCHIVES_SELECT_H
#define IND_CLI_ARCHIVES_SELECT_H

#include "cli/archives.h"
#include "store/disk/inventory.h"

struct ind_selected {
    struct ind_inventory inventory;
    const struct ind_archive_entry **list; /* those that are there, by path */
    size_t count;
    ind_time since, until; /* as given; IND_TIME_NONE: open */
    int folder;            /* of the store */
};

/* Whether its series or path begins with one of the names; none: any does. */
bool ind_archives_is_named(const struct ind_archive_entry *entry, const char **names);

/* Those whose series or path begins with one of the names (none: all), and that have messages in the span, as
 * far as is known. An exit code: IND_EXIT_NO where there are none; all but IND_EXIT_DONE is reported. To be
 * freed in any case. */
int ind_archives_select(const struct ind_config *config, const struct ind_archives_call *given,
                        struct ind_selected *selected);
void ind_archives_select_free(struct ind_selected *selected);

#endif
