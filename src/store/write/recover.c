/* store/write/recover.c: what a start finds, and how it finishes what a stop left half done.
 *
 * Whatever step was the last: temporary files go; a plain archive beside its compressed one goes; an archive
 * without its "rotated" gets it; one that was journaled as removed is removed; the torn last line of a live
 * file, or of an archive that is not compressed, is cut off; a live file is taken up where it was. */
#include "store/write/write_private.h"

#include "store/disk/chain.h"
#include "store/disk/inventory.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

/* Removes what a stop left over; while another process writes to the store (a dry run) that is not left over.
 * 0, or the error. */
static int remove_left_over(struct ind_store *store, const char *path, uint64_t size)
{
    const struct ind_disk *disk = store->disk;
    if (disk->held_elsewhere)
        return 0;
    ind_disk_act(disk, IND_ACTION_REPAIR, path, size, "crash", NULL);
    return disk->fs.remove(disk->fs.context, disk->folder, path) == 0 || errno == ENOENT ? 0 : errno;
}

static void remove_leftovers(struct ind_store *store, const struct ind_inventory *inventory)
{
    for (size_t i = 0; i < inventory->leftover_count; i++) {
        int error = remove_left_over(store, inventory->leftovers[i], 0);
        if (error)
            ind_disk_report(store->disk, IND_OWN_ARCHIVE_FAILED, inventory->leftovers[i],
                            "cannot remove the unfinished %s: %s", inventory->leftovers[i], strerror(error));
    }
}

/* The size of the file up to the end of its last whole line. */
static uint64_t whole_lines(int file, uint64_t size)
{
    char block[65536];
    if (size > 0 && pread(file, block, 1, (off_t)(size - 1)) == 1 && block[0] == '\n')
        return size; /* nearly always: of each archive that is not compressed, a start reads no more */
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

/* Of a live file, or of an archive that was not flushed to disk when the power failed. */
static void cut_torn_line(struct ind_store *store, const char *path, uint64_t *size)
{
    const struct ind_disk *disk = store->disk;
    if (disk->held_elsewhere)
        return;
    int file = disk->fs.open(disk->fs.context, disk->folder, path, O_RDWR | O_NOFOLLOW, 0);
    if (file < 0)
        return;
    uint64_t whole = whole_lines(file, *size);
    if (whole < *size) {
        ind_disk_act(disk, IND_ACTION_REPAIR, path, *size, "crash", NULL);
        if (disk->fs.truncate(disk->fs.context, file, whole) == 0) {
            if (!disk->dry_run)
                ind_disk_report(disk, IND_OWN_FILE_REPAIRED, path,
                                "%s: cut off an unfinished line of %llu bytes, left by a crash", path,
                                (unsigned long long)(*size - whole));
            *size = whole;
        }
    }
    close(file);
}

/* Counted only where the policy asks for a number of messages: it means reading the whole file. */
static uint64_t count_lines(const struct ind_store *store, const char *path)
{
    char block[65536];
    uint64_t lines = 0;
    int file = openat(store->disk->folder, path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    ssize_t got;
    while (file >= 0 && (got = read(file, block, sizeof block)) > 0)
        for (ssize_t i = 0; i < got; i++)
            lines += block[i] == '\n';
    if (file >= 0)
        close(file);
    return lines;
}

/* The part of the store that writes what is at a path. */
static struct ind_store *part_for(struct ind_store *store, const char *path)
{
    unsigned number = ind_mounts_of(&store->disk->mounts, ind_slice_of(path));
    return number < store->part_count ? store->parts[number] : store;
}

static bool recover_live(struct ind_store *store, struct ind_live_path *path)
{
    const struct ind_archive_entry *entry = path->entry;
    const struct ind_config *config = store->config;
    cut_torn_line(store, path->path, &path->size);
    struct ind_live *live =
        ind_live_new(store, ind_slice_of(path->path), ind_path_hash(ind_slice_of(path->path)),
                     ind_slice_of(entry->series));
    if (!live || !(live->archive = strdup(entry->archive)))
        return false;
    live->route = entry->route;
    live->policy = entry->policy;
    live->made_up = entry->made_up;
    live->begun = live->journaled = true;
    live->number = entry->number;
    live->first = entry->first;
    live->last = path->modified > entry->first ? path->modified : entry->first;
    live->on_disk = live->facts.size = path->size;
    live->facts.messages = path->size ? 1 : 0; /* enough to know that it is not empty */
    live->messages_known = path->size == 0;
    if (live->policy == IND_NO_POLICY) {
        ind_disk_report(store->disk, IND_OWN_ARCHIVE_WITHOUT_POLICY, path->path,
                        "no route writes %s any more, and its archive policy is gone: it is left as it is",
                        path->path);
        return true;
    }
    const struct ind_policy *policy = &config->policies[live->policy];
    ind_live_count_bytes(store, live, live->on_disk, 0);
    live->stored = entry->stored;
    ind_live_settle_period(store, live);
    if (policy->rotate.messages) {
        live->facts.messages = count_lines(store, path->path);
        live->messages_known = true;
    }
    return true;
}

/* Of files that are archives already, as the journal has it. */
static void finish_rotations(struct ind_store *store, struct ind_inventory *inventory)
{
    const struct ind_disk *disk = store->disk;
    struct ind_live_path *live, *next;
    if (disk->held_elsewhere)
        return;
    HASH_ITER(hh, inventory->lives, live, next)
    {
        struct ind_archive_entry *entry = live->to_rename;
        if (!entry)
            continue;
        ind_disk_act(disk, IND_ACTION_REPAIR, live->path, live->size, "crash", NULL);
        if (disk->fs.rename(disk->fs.context, disk->folder, live->path, entry->archive) != 0)
            continue;
        entry->has_plain = true;
        entry->plain_size = live->size;
        entry->inode = live->inode;
        entry->modified = live->modified;
        HASH_DEL(inventory->lives, live);
        free(live->path);
        free(live);
    }
}

static const struct ind_policy *policy_of(const struct ind_store *store,
                                          const struct ind_archive_entry *entry)
{
    return entry->policy == IND_NO_POLICY ? NULL : &store->config->policies[entry->policy];
}

static void journal_missing_rotation(struct ind_store *store, const struct ind_archive_entry *entry,
                                     ind_time rotated)
{
    struct ind_journal_record record = {.event = IND_EVENT_ROTATED,
                                        .at = rotated,
                                        .series = entry->series,
                                        .number = entry->number,
                                        .archive = entry->archive,
                                        .reason = "crash",
                                        .bytes = entry->plain_size,
                                        .messages = UINT64_MAX,
                                        .inode = entry->inode,
                                        .first = entry->first,
                                        .last = IND_TIME_NONE};
    (void)ind_chain_journal(store->disk, &record, policy_of(store, entry));
}

/* Journaled as removed, but still there: the stop came in between. */
static void finish_removal(struct ind_store *store, const struct ind_archive_entry *entry)
{
    char path[IND_PATH + 64];
    ind_archive_entry_path(entry, path, sizeof path);
    if (entry->has_plain)
        (void)remove_left_over(store, entry->archive, entry->plain_size);
    if (entry->compression)
        (void)remove_left_over(store, path, entry->compressed_size);
}

static void finish_compression(struct ind_store *store, const struct ind_archive_entry *entry, ind_time now)
{
    char path[IND_PATH + 64];
    ind_archive_entry_path(entry, path, sizeof path);
    if (remove_left_over(store, entry->archive, entry->plain_size) != 0)
        return;
    struct ind_journal_record record = {.event = IND_EVENT_COMPRESSED,
                                        .at = now,
                                        .series = entry->series,
                                        .number = entry->number,
                                        .archive = entry->archive,
                                        .file = path,
                                        .bytes = entry->compressed_size};
    (void)ind_chain_journal(store->disk, &record, policy_of(store, entry));
}

/* An archive of a chained series whose name, or text, was not on the disk when the power failed. One that was
 * hashed was: its loss stays a finding of "archives verify". */
static void journal_loss(struct ind_store *store, const struct ind_archive_entry *entry, ind_time now)
{
    const struct ind_policy *policy = policy_of(store, entry);
    if (!entry->known_rotated || entry->known_removed || entry->hashed ||
        !ind_chained(store->disk, entry->series, policy) || store->disk->held_elsewhere)
        return;
    ind_disk_report(store->disk, IND_OWN_FILE_LOST, entry->archive,
                    "%s was rotated, but is not there: the power failed before it was on the disk, or "
                    "somebody has removed it",
                    entry->archive);
    const struct ind_journal_record record = {.event = IND_EVENT_REMOVED,
                                              .at = now,
                                              .series = entry->series,
                                              .number = entry->number,
                                              .archive = entry->archive,
                                              .reason = "lost"};
    (void)ind_chain_journal(store->disk, &record, policy);
}

static bool recover_archive(struct ind_store *store, struct ind_archive_entry *entry, ind_time now,
                            size_t *unknown)
{
    if (!entry->has_plain && !entry->compression) {
        journal_loss(store, entry, now);
        return true;
    }
    if (entry->known_removed) {
        finish_removal(store, entry);
        return true;
    }
    ind_time rotated = entry->known_rotated ? entry->rotated : entry->modified;
    if (entry->known_opened && !entry->known_rotated)
        journal_missing_rotation(store, entry, rotated);
    if (entry->has_plain && entry->compression)
        finish_compression(store, entry, now);
    else if (entry->has_plain)
        cut_torn_line(store, entry->archive, &entry->plain_size);
    *unknown += entry->policy == IND_NO_POLICY;
    const struct ind_policy *policy = policy_of(store, entry);
    const bool packs = policy && policy->compress != IND_COMPRESS_NONE && !entry->compression;
    const bool digests = !entry->hashed && ind_chained(store->disk, entry->series, policy);
    struct ind_archive archive = {.path = entry->archive,
                                  .series = entry->series,
                                  .number = entry->number,
                                  .size = entry->compression ? entry->compressed_size : entry->plain_size,
                                  .policy = entry->policy,
                                  .rotated = rotated,
                                  .stored = entry->stored,
                                  .compression = entry->compression,
                                  .level = entry->level,
                                  .to_do = packs || digests,
                                  .copied_to = entry->copied_to,
                                  .is_protected = entry->is_protected,
                                  .hashed = entry->hashed};
    memcpy(archive.hash, entry->hash, sizeof archive.hash);
    return ind_keeper_add(store->keeper, &archive);
}

/* Numbers go on after the greatest that was ever given; one whose file never came to be is given again. */
static bool recover_number(struct ind_store *store, const struct ind_archive_entry *entry)
{
    struct ind_series *series = ind_series_for(store, ind_slice_of(entry->series));
    bool came_to_be = entry->is_live || entry->has_plain || entry->compression || entry->known_rotated;
    if (series && came_to_be)
        ind_series_note(store, series, entry->number);
    return series != NULL;
}

static void count_made_today(struct ind_store *store, const struct ind_archive_entry *entry, ind_time now)
{
    int64_t seconds = ind_time_seconds(now);
    int64_t day = (seconds + ind_zone_offset(store->config->zone, seconds)) / IND_DAY_SECONDS;
    int64_t opened = entry->opened == IND_TIME_NONE ? INT64_MIN : ind_time_seconds(entry->opened);
    store->today = day;
    if (entry->made_up && entry->live && entry->route != IND_NO_POLICY && opened != INT64_MIN &&
        (opened + ind_zone_offset(store->config->zone, opened)) / IND_DAY_SECONDS == day)
        (void)ind_made_count(store, ind_path_hash(ind_slice_of(entry->live)), (uint32_t)entry->route);
}

static int by_archive(const struct ind_archive_entry *a, const struct ind_archive_entry *b)
{
    return strcmp(a->archive, b->archive);
}

static int by_path(const struct ind_live_path *a, const struct ind_live_path *b)
{
    return strcmp(a->path, b->path);
}

static bool recover_all(struct ind_store *store, struct ind_inventory *inventory, ind_time now)
{
    size_t unknown = 0;
    bool good = true;
    struct ind_archive_entry *entry, *next;
    remove_leftovers(store, inventory);
    finish_rotations(store, inventory);
    HASH_SORT(inventory->entries, by_archive); /* what is done later is done in this order, too */
    HASH_SORT(inventory->lives, by_path);
    HASH_ITER(hh, inventory->entries, entry, next)
    {
        good &= recover_number(store, entry) && recover_archive(store, entry, now, &unknown);
        count_made_today(entry->live ? part_for(store, entry->live) : store, entry, now);
    }
    struct ind_live_path *path, *after;
    HASH_ITER(hh, inventory->lives, path, after)
    if (path->entry)
        good &= recover_live(part_for(store, path->path), path);
    else
        cut_torn_line(store, path->path, &path->size);
    if (unknown)
        ind_disk_report(
            store->disk, IND_OWN_ARCHIVE_WITHOUT_POLICY, NULL,
            "%zu archives are of no route and no archive policy that is configured: they are kept forever",
            unknown);
    atomic_store(&store->disk->wanted, true);
    return good;
}

bool ind_store_recover(struct ind_store *store, ind_time now, char *reason, size_t room)
{
    struct ind_inventory inventory;
    bool good = ind_inventory(store->config, store->disk->folder, &inventory);
    if (good && inventory.link) {
        snprintf(
            reason, room,
            "%s/%s is a symbolic link: what is written through it would not be found again; put the folder "
            "or file itself there (a bind mount can do that), or move the link out of the store",
            store->config->store, inventory.link);
        ind_inventory_free(&inventory);
        return false;
    }
    good = good && recover_all(store, &inventory, now);
    ind_inventory_free(&inventory);
    if (!good)
        snprintf(reason, room, "out of memory while looking through %s", store->config->store);
    return good;
}
