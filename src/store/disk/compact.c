#include "store/disk/compact.h"

#include "core/archive/volumes.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <uthash.h>

/* A short one is read in a moment, whatever it says. */
enum { WORTH_IT = 16 << 10 };

struct archive {
    UT_hash_handle hh;
    char *path;
    bool removed, gone;
    bool copied; /* to a second place, where it is still proven by what stands here */
};

/* What is left out of a series. */
struct series {
    UT_hash_handle hh;
    char *name, *policy, *route,
        *last; /* route: of those that are left out; last: the path of the last archive that is left out */
    uint64_t number; /* of that */
    uint64_t archives, messages, bytes;
    ind_time first, until;
    struct ind_volumes *volumes; /* NULL: of none of them known; all devices are "others" */
    bool chained;                /* a link has been seen */
    bool stopped;                /* a link that stays: all behind it stay, too */
    bool is_written;             /* its record is in the new journal */
    uint64_t lines;              /* that are left out */
    struct ind_link link;        /* the last one that is left out; number 0: none */
};

struct compacting {
    struct ind_disk *disk;
    const struct ind_config *config;
    ind_time now;
    struct archive *archives;
    struct series *series;
    uint64_t dropped, whole; /* bytes */
    bool failed;
    int out; /* the new journal; -1: it is not written yet */
    const char *line;
    size_t length;
    bool linked;
    struct ind_link link;
};

/* ---- What there is ---- */

static struct archive *archive_for(struct compacting *compacting, const char *path)
{
    struct archive *archive;
    HASH_FIND_STR(compacting->archives, path, archive);
    if (archive)
        return archive;
    archive = calloc(1, sizeof *archive);
    if (archive && (archive->path = strdup(path)) != NULL) {
        HASH_ADD_KEYPTR(hh, compacting->archives, archive->path, strlen(archive->path), archive);
        return archive;
    }
    free(archive);
    compacting->failed = true;
    return NULL;
}

static struct series *series_for(struct compacting *compacting, const char *name)
{
    struct series *series;
    HASH_FIND_STR(compacting->series, name, series);
    if (series)
        return series;
    series = calloc(1, sizeof *series);
    if (series && (series->name = strdup(name)) != NULL) {
        series->first = series->until = IND_TIME_NONE;
        HASH_ADD_KEYPTR(hh, compacting->series, series->name, strlen(series->name), series);
        return series;
    }
    free(series);
    compacting->failed = true;
    return NULL;
}

static void replace(struct compacting *compacting, char **text, const char *with)
{
    char *copy = strdup(with);
    compacting->failed |= !copy;
    free(*text);
    *text = copy;
}

static void note_archive(void *context, const struct ind_journal_record *record)
{
    struct compacting *compacting = context;
    struct archive *archive = record->archive ? archive_for(compacting, record->archive) : NULL;
    struct series *series = series_for(compacting, record->series);
    if (archive && record->event == IND_EVENT_OPENED)
        archive->removed = false;
    else if (archive && (record->event == IND_EVENT_REMOVED || record->event == IND_EVENT_COMPACTED))
        archive->removed = true;
    if (archive && record->event == IND_EVENT_COPIED)
        archive->copied = true;
    if (series && record->policy)
        replace(compacting, &series->policy, record->policy);
}

static void look_at_line(void *context, char *line, size_t length)
{
    struct compacting *compacting = context;
    compacting->whole += length + 1;
    (void)ind_record_read(line, length, note_archive, compacting);
}

static bool is_there(int folder, const char *path)
{
    struct stat facts;
    char whole[1200];
    for (int with = 0; with < 3; with++) {
        snprintf(whole, sizeof whole, "%s%s", path, ind_compression_suffix((enum ind_compression)with).at);
        if (fstatat(folder, whole, &facts, AT_SYMLINK_NOFOLLOW) == 0)
            return true;
    }
    return false;
}

/* ---- What is left out ---- */

/* Of a chained series nothing behind the first link that stays; of others whatever is about an archive that
 * is gone. */
static bool is_left_out(struct compacting *compacting, struct series *series,
                        const struct ind_journal_record *record)
{
    struct archive *archive = NULL;
    if (record->archive)
        HASH_FIND_STR(compacting->archives, record->archive, archive);
    const bool gone = archive ? archive->gone : compacting->linked;
    if (!compacting->linked)
        return gone && !series->chained;
    series->chained = true;
    series->stopped |= !gone;
    return !series->stopped;
}

static uint32_t any_device(void *context, struct ind_slice name)
{
    (void)context;
    (void)name;
    return IND_DEVICE_OTHERS;
}

/* Those that cannot be read are not known. */
static void add_volumes(struct compacting *compacting, struct series *series, const char *text)
{
    if (!series->volumes)
        series->volumes = ind_volumes_new();
    compacting->failed |= !series->volumes;
    if (series->volumes)
        (void)ind_volumes_read(ind_slice_of(text), any_device, NULL, series->volumes);
}

static void add_up(struct compacting *compacting, struct series *series,
                   const struct ind_journal_record *record)
{
    series->lines++;
    if (compacting->linked)
        series->link = compacting->link;
    if (record->event == IND_EVENT_COMPACTED) {
        series->archives += record->archives;
        if (compacting->linked)
            (void)ind_link_handed_on(record, &series->link);
    }
    series->archives += record->event == IND_EVENT_REMOVED;
    if (record->route)
        replace(compacting, &series->route, record->route);
    if (record->volumes)
        add_volumes(compacting, series, record->volumes);
    if (record->event == IND_EVENT_ROTATED || record->event == IND_EVENT_COMPACTED) {
        series->messages += record->messages == UINT64_MAX ? 0 : record->messages;
        series->bytes += record->bytes;
        if (record->first != IND_TIME_NONE &&
            (series->first == IND_TIME_NONE || record->first < series->first))
            series->first = record->first;
        if (record->last != IND_TIME_NONE && (series->until == IND_TIME_NONE || record->last > series->until))
            series->until = record->last;
    }
    if (record->archive && record->number >= series->number) {
        series->number = record->number;
        replace(compacting, &series->last, record->archive);
    }
}

static void count_line(void *context, const struct ind_journal_record *record)
{
    struct compacting *compacting = context;
    struct series *series = series_for(compacting, record->series);
    if (!series || !is_left_out(compacting, series, record))
        return;
    compacting->dropped += compacting->length + 1;
    add_up(compacting, series, record);
}

/* Gives each line with its link to `take`. */
static void each_line(struct compacting *compacting,
                      void (*take)(void *context, const struct ind_journal_record *record), char *line,
                      size_t length)
{
    char *copy = malloc(length + 1);
    if (!copy) {
        compacting->failed = true;
        return;
    }
    memcpy(copy, line, length + 1);
    compacting->line = line;
    compacting->length = length;
    compacting->linked = ind_link_read((struct ind_slice){line, length}, &compacting->link);
    (void)ind_record_read(copy, length, take, compacting);
    free(copy);
}

static void count_each(void *context, char *line, size_t length)
{
    each_line(context, count_line, line, length);
}

/* ---- The new one ---- */

static const struct ind_policy *policy_of(const struct compacting *compacting, const struct series *series)
{
    for (size_t i = 0; series->policy && i < compacting->config->policy_count; i++)
        if (strcmp(compacting->config->policies[i].name, series->policy) == 0)
            return &compacting->config->policies[i];
    return NULL;
}

static void put(struct compacting *compacting, const char *text, size_t length)
{
    const struct ind_fs *fs = &compacting->disk->fs;
    if (!compacting->failed)
        compacting->failed = !ind_fs_write_all(fs, compacting->out, text, length) ||
                             !ind_fs_write_all(fs, compacting->out, "\n", 1);
}

static void put_summary(struct compacting *compacting, struct series *series)
{
    char hash[IND_HASH_TEXT + 1] = "", signature[2 * IND_SIGNATURE + 1] = "";
    size_t length = 0, volumes_length;
    char *volumes = series->volumes
                        ? ind_volumes_write(series->volumes, IND_VOLUMES_BY_DAY, NULL, NULL, &volumes_length)
                        : NULL;
    const struct ind_journal_record record = {
        .event = IND_EVENT_COMPACTED,
        .at = compacting->now,
        .series = series->name,
        .number = series->number,
        .archive = series->last,
        .route = series->route,
        .archives = series->archives,
        .bytes = series->bytes,
        .messages = series->messages,
        .first = series->first,
        .last = series->until,
        .volumes = volumes,
        .link_hash = series->link.number ? hash : NULL,
        .link_signature = series->link.number && series->link.is_signed ? signature : NULL};
    ind_link_write(&series->link, hash, signature);
    char *text = series->link.number ? ind_chain_compacted(compacting->disk, &record, &series->link,
                                                           policy_of(compacting, series), &length)
                                     : ind_record_write(&record, &length);
    compacting->failed |= !text || (series->volumes && !volumes);
    if (text)
        put(compacting, text, length);
    free(text);
    free(volumes);
    series->is_written = true;
}

static void copy_line(void *context, const struct ind_journal_record *record)
{
    struct compacting *compacting = context;
    struct series *series = series_for(compacting, record->series);
    if (!series)
        return;
    if (series->lines && !series->is_written)
        put_summary(compacting, series);
    if (!is_left_out(compacting, series, record))
        put(compacting, compacting->line, compacting->length);
}

static void copy_each(void *context, char *line, size_t length)
{
    each_line(context, copy_line, line, length);
}

/* 0, or the error. */
static int write_new(struct compacting *compacting)
{
    struct ind_disk *disk = compacting->disk;
    const struct ind_fs *fs = &disk->fs;
    for (struct series *series = compacting->series; series; series = series->hh.next)
        series->chained = series->stopped = false;
    compacting->out = fs->open(fs->context, disk->folder, IND_JOURNAL_PATH ".new",
                               O_RDWR | O_CREAT | O_TRUNC | O_APPEND, 0640);
    if (compacting->out < 0)
        return errno;
    (void)ind_journal_lines(disk->folder, 0, copy_each, compacting);
    int error = compacting->failed ? (errno ? errno : ENOMEM) : 0;
    if (!error && (fs->sync(fs->context, compacting->out) != 0 ||
                   fs->rename(fs->context, disk->folder, IND_JOURNAL_PATH ".new", IND_JOURNAL_PATH) != 0))
        error = errno;
    error = error ? error : ind_fs_sync_folders_of(fs, disk->folder, IND_JOURNAL_PATH);
    if (!error && dup2(compacting->out, disk->journal) >= 0)
        (void)fcntl(disk->journal, F_SETFD, FD_CLOEXEC);
    close(compacting->out);
    if (error)
        (void)fs->remove(fs->context, disk->folder, IND_JOURNAL_PATH ".new");
    return error;
}

/* ---- Together ---- */

static void free_all(struct compacting *compacting)
{
    struct archive *archive, *next;
    HASH_ITER(hh, compacting->archives, archive, next)
    {
        HASH_DEL(compacting->archives, archive);
        free(archive->path);
        free(archive);
    }
    struct series *series, *after;
    HASH_ITER(hh, compacting->series, series, after)
    {
        HASH_DEL(compacting->series, series);
        free(series->name);
        free(series->policy);
        free(series->route);
        free(series->last);
        ind_volumes_free(series->volumes);
        free(series);
    }
}

void ind_journal_compact(struct ind_disk *disk, const struct ind_config *config, ind_time now)
{
    struct compacting compacting = {.disk = disk, .config = config, .now = now, .out = -1};
    if (!disk->dry_run) /* of a stop in between */
        (void)disk->fs.remove(disk->fs.context, disk->folder, IND_JOURNAL_PATH ".new");
    if (disk->dry_run || ind_journal_size(disk->folder) < WORTH_IT)
        return;
    (void)ind_journal_lines(disk->folder, 0, look_at_line, &compacting);
    bool any = false;
    for (struct archive *archive = compacting.archives; archive; archive = archive->hh.next) {
        archive->gone = archive->removed && !archive->copied && !is_there(disk->folder, archive->path);
        any |= archive->gone;
    }
    if (any) /* else all of it stays */
        (void)ind_journal_lines(disk->folder, 0, count_each, &compacting);
    if (!compacting.failed && compacting.dropped > compacting.whole / 2) {
        const int error = write_new(&compacting);
        if (error)
            ind_disk_report(disk, IND_OWN_ARCHIVE_FAILED, IND_JOURNAL_PATH,
                            "cannot write the journal anew without what is gone: %s; it stays as it is",
                            strerror(error));
    }
    free_all(&compacting);
}
