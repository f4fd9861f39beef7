/* store/recover.c: what a start finds, and how it finishes what a stop left half done.
 *
 * Whatever step was the last: temporary files go; a plain archive beside its compressed one goes; an archive
 * without its "rotated" gets it; one that was journaled as removed is removed; a live file's torn last line
 * is cut off; a live file is taken up where it was. */
#include "store/inside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

static void remove_leftovers(struct ind_store *store, const struct ind_survey *survey)
{
    for (size_t i = 0; i < survey->leftover_count; i++)
        if (store->fs.remove(store->fs.context, store->folder, survey->leftovers[i]) != 0 && errno != ENOENT)
            ind_store_tell(store, "cannot remove the unfinished %s: %s", survey->leftovers[i],
                           strerror(errno));
}

/* The size of the file up to the end of its last whole line. */
static uint64_t whole_lines(int file, uint64_t size)
{
    char block[65536];
    while (size > 0) {
        size_t part = size < sizeof block ? (size_t)size : sizeof block;
        if (pread(file, block, part, (off_t)(size - part)) != (ssize_t)part)
            return size;
        for (size_t i = part; i > 0; i--)
            if (block[i - 1] == '\n')
                return size - part + i;
        size -= part;
    }
    return 0;
}

static void cut_torn_line(struct ind_store *store, struct ind_live_path *path)
{
    int file = store->fs.open(store->fs.context, store->folder, path->path, O_RDWR | O_NOFOLLOW, 0);
    if (file < 0)
        return;
    uint64_t whole = whole_lines(file, path->size);
    if (whole < path->size && store->fs.truncate(store->fs.context, file, whole) == 0) {
        ind_store_tell(store, "%s: cut off an unfinished line of %llu bytes, left by a crash", path->path,
                       (unsigned long long)(path->size - whole));
        path->size = whole;
    }
    close(file);
}

/* Counted only where the policy asks for a number of messages: it means reading the whole file. */
static uint64_t count_lines(const struct ind_store *store, const char *path)
{
    char block[65536];
    uint64_t lines = 0;
    int file = openat(store->folder, path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    ssize_t got;
    while (file >= 0 && (got = read(file, block, sizeof block)) > 0)
        for (ssize_t i = 0; i < got; i++)
            lines += block[i] == '\n';
    if (file >= 0)
        close(file);
    return lines;
}

static bool take_live(struct ind_store *store, struct ind_live_path *path)
{
    const struct ind_filed *filed = path->filed;
    const struct ind_config *config = store->config;
    cut_torn_line(store, path);
    struct ind_live *live =
        ind_live_new(store, ind_slice_of(path->path), ind_path_hash(ind_slice_of(path->path)),
                     ind_slice_of(filed->series));
    if (!live || !(live->archive = strdup(filed->archive)))
        return false;
    live->route = filed->route;
    live->policy = filed->policy;
    live->made_up = filed->made_up;
    live->begun = live->journaled = true;
    live->number = filed->number;
    live->first = filed->first;
    live->last = path->modified > filed->first ? path->modified : filed->first;
    live->on_disk = live->facts.size = path->size;
    live->facts.messages = path->size ? 1 : 0; /* enough to know that it is not empty */
    live->messages_known = path->size == 0;
    if (live->policy == IND_NO_POLICY) {
        ind_store_tell(store,
                       "no route writes %s any more, and its archive policy is gone: it is left as it is",
                       path->path);
        return true;
    }
    const struct ind_policy *policy = &config->policies[live->policy];
    atomic_fetch_add(&store->live_bytes[live->policy], live->on_disk);
    live->stored = filed->stored;
    ind_live_settle_period(store, live);
    if (policy->rotate.messages) {
        live->facts.messages = count_lines(store, path->path);
        live->messages_known = true;
    }
    return true;
}

static void journal_missing_rotation(struct ind_store *store, const struct ind_filed *filed, ind_time rotated)
{
    struct ind_record record = {.event = IND_EVENT_ROTATED,
                                .at = rotated,
                                .series = filed->series,
                                .number = filed->number,
                                .archive = filed->archive,
                                .reason = "crash",
                                .bytes = filed->plain_size,
                                .messages = UINT64_MAX,
                                .inode = filed->inode,
                                .first = filed->first,
                                .last = IND_TIME_NONE};
    (void)ind_journal_add(&store->fs, store->journal, &record);
}

static void compressed_path(const struct ind_filed *filed, char *path, size_t room)
{
    snprintf(path, room, "%s%s", filed->archive, ind_compression_suffix(filed->compression).at);
}

/* Journaled as removed, but still there: the stop came in between. */
static void finish_removal(struct ind_store *store, const struct ind_filed *filed)
{
    char path[IND_PATH + 64];
    compressed_path(filed, path, sizeof path);
    if (filed->has_plain)
        (void)store->fs.remove(store->fs.context, store->folder, filed->archive);
    if (filed->compression)
        (void)store->fs.remove(store->fs.context, store->folder, path);
}

static void finish_compression(struct ind_store *store, const struct ind_filed *filed, ind_time now)
{
    char path[IND_PATH + 64];
    compressed_path(filed, path, sizeof path);
    if (store->fs.remove(store->fs.context, store->folder, filed->archive) != 0)
        return;
    struct ind_record record = {.event = IND_EVENT_COMPRESSED,
                                .at = now,
                                .series = filed->series,
                                .number = filed->number,
                                .archive = filed->archive,
                                .file = path,
                                .bytes = filed->compressed_size};
    (void)ind_journal_add(&store->fs, store->journal, &record);
}

static bool take_archive(struct ind_store *store, const struct ind_filed *filed, ind_time now,
                         size_t *unknown)
{
    if (!filed->has_plain && !filed->compression)
        return true;
    if (filed->known_removed) {
        finish_removal(store, filed);
        return true;
    }
    ind_time rotated = filed->known_rotated ? filed->rotated : filed->modified;
    if (filed->known_opened && !filed->known_rotated)
        journal_missing_rotation(store, filed, rotated);
    if (filed->has_plain && filed->compression)
        finish_compression(store, filed, now);
    *unknown += filed->policy == IND_NO_POLICY;
    bool packs = filed->policy != IND_NO_POLICY &&
                 store->config->policies[filed->policy].compress != IND_COMPRESS_NONE;
    struct ind_archive archive = {.path = filed->archive,
                                  .series = filed->series,
                                  .number = filed->number,
                                  .size = filed->compression ? filed->compressed_size : filed->plain_size,
                                  .policy = filed->policy,
                                  .rotated = rotated,
                                  .compression = filed->compression,
                                  .to_do = !filed->compression && packs};
    return ind_archive_add(store, &archive);
}

/* Numbers go on after the greatest that was ever given; one whose file never came to be is given again. */
static bool take_number(struct ind_store *store, const struct ind_filed *filed)
{
    struct ind_series *series = ind_series_for(store, ind_slice_of(filed->series));
    bool came_to_be = filed->is_live || filed->has_plain || filed->compression || filed->known_rotated;
    if (series && came_to_be && filed->number >= series->next)
        series->next = filed->number + 1;
    return series != NULL;
}

static void count_made_today(struct ind_store *store, const struct ind_filed *filed, ind_time now)
{
    int64_t seconds = ind_time_seconds(now);
    int64_t day = (seconds + ind_zone_offset(store->config->zone, seconds)) / IND_DAY_SECONDS;
    int64_t opened = filed->opened == IND_TIME_NONE ? INT64_MIN : ind_time_seconds(filed->opened);
    store->today = day;
    if (filed->made_up && filed->live && filed->route != IND_NO_POLICY && opened != INT64_MIN &&
        (opened + ind_zone_offset(store->config->zone, opened)) / IND_DAY_SECONDS == day)
        (void)ind_made_count(store, ind_path_hash(ind_slice_of(filed->live)), (uint32_t)filed->route);
}

static ind_time read_last_run(const struct ind_store *store)
{
    char text[64];
    ind_time time;
    enum ind_time_style style;
    int file = openat(store->state, "retention-last-run", O_RDONLY | O_CLOEXEC);
    ssize_t length = file >= 0 ? read(file, text, sizeof text) : 0;
    if (file >= 0)
        close(file);
    return length > 0 && ind_time_read((struct ind_slice){text, (size_t)length}, &time, &style)
               ? time
               : IND_TIME_NONE;
}

static bool take_over(struct ind_store *store, struct ind_survey *survey, ind_time now)
{
    size_t unknown = 0;
    bool good = true;
    struct ind_filed *filed, *next;
    remove_leftovers(store, survey);
    HASH_ITER(hh, survey->filed, filed, next)
    {
        good &= take_number(store, filed) && take_archive(store, filed, now, &unknown);
        count_made_today(store, filed, now);
    }
    struct ind_live_path *path, *after;
    HASH_ITER(hh, survey->lives, path, after)
    if (path->filed)
        good &= take_live(store, path);
    else
        cut_torn_line(store, path);
    if (unknown)
        ind_store_tell(
            store,
            "%zu archives are of no route and no archive policy that is configured: they are kept for ever",
            unknown);
    store->last_run = read_last_run(store);
    atomic_store(&store->wanted, true);
    return good;
}

bool ind_store_recover(struct ind_store *store, ind_time now, char *reason, size_t room)
{
    struct ind_survey survey;
    bool good = ind_survey(store->config, store->folder, &survey);
    if (good && survey.link) {
        snprintf(
            reason, room,
            "%s/%s is a symbolic link: what is written through it would not be found again; put the folder "
            "or file itself there (a bind mount can do that), or move the link out of the store",
            store->config->store, survey.link);
        ind_survey_free(&survey);
        return false;
    }
    good = good && take_over(store, &survey, now);
    ind_survey_free(&survey);
    if (!good)
        snprintf(reason, room, "out of memory while looking through %s", store->config->store);
    return good;
}
