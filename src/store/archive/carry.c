/* Carrying out what has been decided. Compression: the plain archive is flushed, packed into a temporary
 * file, that is flushed and named, its text hashed where it is chained, the plain one removed, and the
 * journal written. Removal: the journal is written and flushed first, so that a gap is never taken for a
 * loss. */
#include "store/archive/keeper_private.h"

#include "core/archive/retention.h"
#include "store/archive/indexing.h"
#include "store/disk/chain.h"
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

bool ind_keeper_sync_journal(const struct ind_keeper *keeper)
{
    const struct ind_disk *disk = keeper->disk;
    return disk->fs.sync(disk->fs.context, disk->journal) == 0;
}

void ind_keeper_forget(struct ind_archive *archive)
{
    free(archive->path);
    free(archive->series);
}

/* 0, or the error. */
static int flush_to_disk(const struct ind_disk *disk, const char *path)
{
    int file = openat(disk->folder, path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (file < 0)
        return errno;
    int error = disk->fs.sync(disk->fs.context, file) == 0 ? 0 : errno;
    close(file);
    return error ? error : ind_fs_sync_folders_of(&disk->fs, disk->folder, path);
}

bool ind_keeper_is_chained(const struct ind_keeper *keeper, const struct ind_archive *archive)
{
    return ind_chained(keeper->disk, archive->series, ind_keeper_policy(keeper, archive));
}

/* Once for each archive: what it is hashed with is what it has to be for ever. 0, or the error. */
static int note_digest(struct ind_keeper *keeper, struct ind_archive *archive,
                       const struct ind_digest *digest, ind_time now)
{
    struct ind_disk *disk = keeper->disk;
    char hash[IND_HASH_TEXT + 1];
    ind_hash_write(digest->hash, hash);
    if (archive->hashed) {
        if (memcmp(archive->hash, digest->hash, IND_HASH) != 0)
            ind_disk_report(disk, IND_OWN_ARCHIVE_CHANGED, archive->path,
                            "the text of %s is not what it was when it was hashed: somebody has changed it; "
                            "\"indagator archives verify\" tells more",
                            archive->path);
        return 0;
    }
    const struct ind_journal_record record = {.event = IND_EVENT_HASHED,
                                              .at = now,
                                              .series = archive->series,
                                              .number = archive->number,
                                              .archive = archive->path,
                                              .bytes = digest->bytes,
                                              .text_hash = hash};
    if (!ind_chain_journal(disk, &record, ind_keeper_policy(keeper, archive)))
        return errno;
    memcpy(archive->hash, digest->hash, IND_HASH);
    archive->hashed = true;
    keeper->heads_moved = true;
    return 0;
}

/* An archive that stays as it is. 0, or the error. */
static int digest_as_it_is(struct ind_keeper *keeper, struct ind_archive *archive, ind_time now,
                           const struct ind_interrupt *interrupt)
{
    struct ind_digest digest;
    char path[IND_ARCHIVE_PATH];
    ind_keeper_path(archive, path);
    const char *reason = "";
    const int error =
        ind_digest_file(keeper->disk->folder, path, archive->compression, interrupt, &digest, &reason);
    if (error == EBADMSG) { /* it will not get better */
        ind_disk_report(keeper->disk, IND_OWN_ARCHIVE_CHANGED, archive->path,
                        "%s cannot be unpacked (%s), and is not hashed", path, reason);
        return 0;
    }
    return error ? error : note_digest(keeper, archive, &digest, now);
}

/* With its index; fills in what is missing in *packing. 0, or the error. */
int ind_keeper_pack(struct ind_keeper *keeper, const struct ind_archive *archive, struct ind_packing *packing,
                    uint64_t *size)
{
    const bool indexed = packing->compression == IND_COMPRESS_ZSTD;
    struct ind_indexing *indexing =
        indexed ? ind_indexing_new(archive->stored, packing->level, archive->size) : NULL;
    struct ind_frame_calls calls;
    if (indexed && !indexing)
        return ENOMEM;
    if (indexing) {
        calls = ind_indexing_calls(indexing);
        packing->calls = &calls;
    }
    const int error = ind_compress_file(keeper->disk, packing, size);
    ind_indexing_free(indexing);
    return error;
}

static int pack_and_digest(struct ind_keeper *keeper, const struct ind_archive *archive,
                           struct ind_packing *packing, uint64_t *size, struct ind_digest *digest)
{
    packing->digesting = ind_digesting_new();
    int error = packing->digesting ? ind_keeper_pack(keeper, archive, packing, size) : ENOMEM;
    if (!error && !ind_digesting_end(packing->digesting, digest))
        error = EIO;
    ind_digesting_free(packing->digesting);
    return error;
}

/* 0, or the error. */
static int compress_archive(struct ind_keeper *keeper, struct ind_archive *archive,
                            enum ind_compression compress, int level, ind_time now,
                            const struct ind_interrupt *interrupt)
{
    struct ind_disk *disk = keeper->disk;
    char to[IND_ARCHIVE_PATH];
    uint64_t size;
    struct ind_digest digest;
    const bool chained = ind_keeper_is_chained(keeper, archive);
    struct ind_packing packing = {
        .from = archive->path, .to = to, .compression = compress, .level = level, .interrupt = interrupt};
    snprintf(to, sizeof to, "%s%s", archive->path, ind_compression_suffix(compress).at);
    int error = chained ? pack_and_digest(keeper, archive, &packing, &size, &digest)
                        : ind_keeper_pack(keeper, archive, &packing, &size);
    error = error ? error : ind_fs_sync_folders_of(&disk->fs, disk->folder, archive->path);
    if (!error && chained)
        error = note_digest(keeper, archive, &digest, now);
    if (error)
        return error;
    if (disk->fs.remove(disk->fs.context, disk->folder, archive->path) != 0 && errno != ENOENT)
        return errno;
    struct ind_journal_record record = {.event = IND_EVENT_COMPRESSED,
                                        .at = now,
                                        .series = archive->series,
                                        .number = archive->number,
                                        .archive = archive->path,
                                        .file = to,
                                        .bytes = size,
                                        .level = (uint64_t)level};
    (void)ind_chain_journal(disk, &record, ind_keeper_policy(keeper, archive));
    keeper->counts.archive_bytes += size - archive->size;
    keeper->counts.compressed++;
    archive->size = size;
    archive->compression = compress;
    archive->level = level;
    return 0;
}

/* The policy is looked at before anything else: it may go while the archive is compressed. */
bool ind_keeper_finish(struct ind_keeper *keeper, struct ind_archive *archive, ind_time now,
                       const struct ind_interrupt *interrupt)
{
    struct ind_disk *disk = keeper->disk;
    const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
    const bool packed = archive->compression != IND_COMPRESS_NONE,
               old = ind_keeper_is_old(policy, archive, now);
    const enum ind_compression compress = !policy || packed ? IND_COMPRESS_NONE
                                          : old             ? policy->recompress
                                                            : policy->compress;
    const int level = !policy ? 0 : old ? policy->recompress_level : policy->level;
    if (compress != IND_COMPRESS_NONE)
        ind_disk_act(disk, IND_ACTION_COMPRESS, archive->path, archive->size,
                     compress == IND_COMPRESS_ZSTD ? "zstd" : "gzip", policy->name);
    if (disk->dry_run)
        return true;
    int error = packed ? 0 : flush_to_disk(disk, archive->path);
    if (!error && compress != IND_COMPRESS_NONE)
        error = compress_archive(keeper, archive, compress, level, now, interrupt);
    else if (!error && !archive->hashed && ind_keeper_is_chained(keeper, archive))
        error = digest_as_it_is(keeper, archive, now, interrupt);
    if (error == ECANCELED)
        return false;
    if (error == ENOENT) {
        ind_disk_report(disk, IND_OWN_FILE_REMOVED, archive->path,
                        "%s was removed by somebody before it could be compressed", archive->path);
    } else if (error) {
        keeper->counts.failed++;
        ind_disk_report(disk, IND_OWN_ARCHIVE_FAILED, archive->path,
                        "cannot %s %s: %s; it is tried again later",
                        compress != IND_COMPRESS_NONE ? "compress" : "read", archive->path, strerror(error));
    }
    archive->to_do = error && error != ENOENT;
    return !archive->to_do;
}

/* On a full disk the journal may refuse: room comes first, and it is asked again afterwards. */
static void journal_removal(struct ind_keeper *keeper, struct ind_archive *archive, const char *reason,
                            ind_time now)
{
    if (archive->removed)
        return;
    const bool in_a_hurry = strcmp(reason, ind_retention_reason_name(IND_GONE_BY_RESERVE).at) == 0;
    char *volumes = ind_keeper_closing(keeper, archive, in_a_hurry);
    const struct ind_journal_record record = {.event = IND_EVENT_REMOVED,
                                              .at = now,
                                              .series = archive->series,
                                              .number = archive->number,
                                              .archive = archive->path,
                                              .reason = reason,
                                              .volumes = volumes};
    archive->removed = ind_chain_journal(keeper->disk, &record, ind_keeper_policy(keeper, archive));
    free(volumes);
}

static bool remove_archive(struct ind_keeper *keeper, struct ind_archive *archive, const char *reason,
                           ind_time now)
{
    struct ind_disk *disk = keeper->disk;
    const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
    char path[IND_ARCHIVE_PATH];
    ind_keeper_path(archive, path);
    ind_disk_act(disk, IND_ACTION_REMOVE, path, archive->size, reason, policy ? policy->name : NULL);
    if (disk->fs.remove(disk->fs.context, disk->folder, path) != 0 && errno != ENOENT) {
        ind_disk_report(disk, IND_OWN_ARCHIVE_FAILED, path, "cannot remove %s: %s", path, strerror(errno));
        return false;
    }
    journal_removal(keeper, archive, reason, now);
    keeper->counts.removed++;
    keeper->counts.archives--;
    keeper->counts.archive_bytes -= archive->size;
    return true;
}

/* Without those that are gone; what cannot be removed stays, and is tried again at the next run. */
void ind_keeper_remove(struct ind_keeper *keeper, const struct ind_steps *steps, ind_time now)
{
    for (size_t i = 0; i < steps->count; i++)
        journal_removal(keeper, &keeper->archives[steps->list[i].archive], steps->list[i].rule, now);
    if (steps->count)
        (void)ind_keeper_sync_journal(keeper);
    for (size_t i = 0; i < steps->count; i++) {
        struct ind_archive *archive = &keeper->archives[steps->list[i].archive];
        if (remove_archive(keeper, archive, steps->list[i].rule, now)) {
            ind_keeper_forget(archive);
            archive->path = NULL;
        }
    }
    size_t kept = 0;
    for (size_t i = 0; i < keeper->archive_count; i++)
        if (keeper->archives[i].path)
            keeper->archives[kept++] = keeper->archives[i];
    keeper->archive_count = kept;
}
