/* Archives that no retention touches, because somebody said so. */
#include "store/archive/keeper_private.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <utlist.h>

void ind_protection_free(struct ind_protection *list)
{
    struct ind_protection *one, *next;
    LL_FOREACH_SAFE(list, one, next)
    {
        free(one->archive);
        free(one->why);
        free(one);
    }
}

bool ind_keeper_ask_protection(struct ind_keeper *keeper, const char *archive, bool on, const char *why)
{
    struct ind_protection *asked = calloc(1, sizeof *asked);
    bool good =
        asked && (asked->archive = strdup(archive)) != NULL && (!why || (asked->why = strdup(why)) != NULL);
    if (!good) {
        ind_protection_free(asked);
        return false;
    }
    asked->on = on;
    ind_mutex_lock(&keeper->asking);
    LL_APPEND(keeper->asked, asked);
    atomic_store(&keeper->asked_for, true);
    ind_mutex_unlock(&keeper->asking);
    return true;
}

bool ind_keeper_protection_waits(const struct ind_keeper *keeper)
{
    return atomic_load(&keeper->asked_for);
}

static struct ind_archive *find(const struct ind_keeper *keeper, const char *path)
{
    for (size_t i = 0; i < keeper->archive_count; i++)
        if (keeper->archives[i].path && strcmp(keeper->archives[i].path, path) == 0)
            return &keeper->archives[i];
    return NULL;
}

static void protect(struct ind_keeper *keeper, const struct ind_protection *asked, ind_time now)
{
    struct ind_archive *archive = find(keeper, asked->archive);
    if (!archive || archive->removed || archive->is_protected == asked->on)
        return;
    const struct ind_journal_record record = {.event =
                                                  asked->on ? IND_EVENT_PROTECTED : IND_EVENT_UNPROTECTED,
                                              .at = now,
                                              .series = archive->series,
                                              .number = archive->number,
                                              .archive = archive->path,
                                              .reason = asked->why};
    archive->is_protected = ind_chain_journal(keeper->disk, &record, ind_keeper_policy(keeper, archive))
                                ? asked->on
                                : archive->is_protected;
    keeper->heads_moved = true;
}

/* Those that were removed in the same run are not in the list any more. */
static void count(struct ind_keeper *keeper)
{
    keeper->counts.protected_archives = 0;
    for (size_t i = 0; i < keeper->archive_count; i++)
        keeper->counts.protected_archives += keeper->archives[i].is_protected;
}

void ind_keeper_protect(struct ind_keeper *keeper, ind_time now)
{
    if (!ind_keeper_protection_waits(keeper))
        return;
    ind_mutex_lock(&keeper->asking);
    struct ind_protection *list = keeper->asked;
    keeper->asked = NULL;
    ind_mutex_unlock(&keeper->asking);
    for (const struct ind_protection *asked = list; asked; asked = asked->next)
        protect(keeper, asked, now);
    if (list)
        (void)ind_keeper_sync_journal(keeper);
    ind_keeper_keep_heads(keeper);
    ind_protection_free(list);
    count(keeper);
    ind_mutex_lock(&keeper->asking);
    if (!keeper->asked)
        atomic_store(&keeper->asked_for, false);
    ind_mutex_unlock(&keeper->asking);
}
