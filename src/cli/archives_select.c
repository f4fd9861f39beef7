#include "cli/archives_select.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

bool ind_archives_is_named(const struct ind_archive_entry *entry, const char **names)
{
    const bool any = *names == NULL;
    for (; *names; names++)
        if (strncmp(entry->series, *names, strlen(*names)) == 0 ||
            strncmp(entry->archive, *names, strlen(*names)) == 0)
            return true;
    return any;
}

static bool is_in_span(const struct ind_selected *selected, const struct ind_archive_entry *entry)
{
    const ind_time last = entry->last != IND_TIME_NONE ? entry->last : entry->rotated;
    return (selected->until == IND_TIME_NONE || entry->first == IND_TIME_NONE ||
            entry->first < selected->until) &&
           (selected->since == IND_TIME_NONE || last == IND_TIME_NONE || last >= selected->since);
}

static int by_path(const void *one, const void *other)
{
    return strcmp((*(const struct ind_archive_entry *const *)one)->archive,
                  (*(const struct ind_archive_entry *const *)other)->archive);
}

static bool take(const struct ind_archives_call *given, struct ind_selected *selected)
{
    const struct ind_archive_entry *entry = selected->inventory.entries;
    selected->list = calloc(HASH_COUNT(entry) + 1, sizeof(const struct ind_archive_entry *));
    for (; selected->list && entry; entry = entry->hh.next)
        if ((entry->has_plain || entry->compression) && !entry->known_removed &&
            ind_archives_is_named(entry, given->names) && is_in_span(selected, entry))
            selected->list[selected->count++] = entry;
    if (selected->list)
        qsort(selected->list, selected->count, sizeof *selected->list, by_path);
    return selected->list != NULL;
}

int ind_archives_select(const struct ind_config *config, const struct ind_archives_call *given,
                        struct ind_selected *selected)
{
    *selected = (struct ind_selected){.folder = -1};
    if (!ind_moment_option("since", given->since, config->zone, false, &selected->since) ||
        !ind_moment_option("until", given->until, config->zone, true, &selected->until))
        return IND_EXIT_CALL;
    if (!ind_has_store(config))
        return IND_EXIT_FAILED;
    selected->folder = open(config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (selected->folder < 0) {
        ind_complain("%s: %s", config->store, strerror(errno));
        return IND_EXIT_FAILED;
    }
    if (!ind_inventory(config, selected->folder, &selected->inventory) || !take(given, selected)) {
        ind_complain("out of memory");
        return IND_EXIT_FAILED;
    }
    if (selected->count == 0)
        ind_complain("there is no such archive");
    return selected->count ? IND_EXIT_DONE : IND_EXIT_NO;
}

void ind_archives_select_free(struct ind_selected *selected)
{
    free(selected->list);
    ind_inventory_free(&selected->inventory);
    if (selected->folder >= 0)
        close(selected->folder);
}
