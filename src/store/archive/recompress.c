/* Old archives, packed once more: into a temporary file, that is flushed and takes the archive's name if its
 * text is the same; then the journal. */
#include "store/archive/keeper_private.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

/* What the text must be; where nobody has hashed it, it must at least have been read to its end. */
struct approval {
    const struct ind_archive *archive;
    struct ind_digesting *digesting;
    bool changed;
};

static bool approve(void *context)
{
    struct approval *approval = context;
    struct ind_digest digest;
    if (!ind_digesting_end(approval->digesting, &digest))
        return false;
    approval->changed =
        approval->archive->hashed && memcmp(digest.hash, approval->archive->hash, sizeof digest.hash) != 0;
    return !approval->changed;
}

/* 0, or the error. */
static int pack_again(struct ind_keeper *keeper, struct ind_archive *archive, const struct ind_policy *policy,
                      const char *from, const char *to, const struct ind_interrupt *interrupt, uint64_t *size)
{
    struct approval approval = {.archive = archive, .digesting = ind_digesting_new()};
    struct ind_packing packing = {.from = from,
                                  .packed = archive->compression,
                                  .to = to,
                                  .compression = policy->recompress,
                                  .level = policy->recompress_level,
                                  .interrupt = interrupt,
                                  .digesting = approval.digesting,
                                  .approve = approve,
                                  .context = &approval};
    const int error = approval.digesting ? ind_keeper_pack(keeper, archive, &packing, size) : ENOMEM;
    if (approval.changed)
        ind_disk_report(
            keeper->disk, IND_OWN_ARCHIVE_CHANGED, archive->path,
            "the text of %s is not what it was when it was hashed: somebody has changed it, and it is "
            "left as it is; \"indagator archives verify\" tells more",
            from);
    ind_digesting_free(approval.digesting);
    return error;
}

static bool take_over(struct ind_keeper *keeper, struct ind_archive *archive, const struct ind_policy *policy,
                      const char *from, const char *to, uint64_t size, ind_time now)
{
    struct ind_disk *disk = keeper->disk;
    if (strcmp(from, to) != 0 && disk->fs.remove(disk->fs.context, disk->folder, from) != 0 &&
        errno != ENOENT)
        return false;
    const struct ind_journal_record record = {.event = IND_EVENT_COMPRESSED,
                                              .at = now,
                                              .series = archive->series,
                                              .number = archive->number,
                                              .archive = archive->path,
                                              .file = to,
                                              .bytes = size,
                                              .level = (uint64_t)policy->recompress_level};
    (void)ind_chain_journal(disk, &record, policy);
    keeper->counts.archive_bytes += size - archive->size;
    keeper->counts.compressed++;
    keeper->heads_moved = true;
    archive->size = size;
    archive->compression = policy->recompress;
    archive->level = policy->recompress_level;
    return true;
}

bool ind_keeper_recompress(struct ind_keeper *keeper, struct ind_archive *archive, ind_time now,
                           const struct ind_interrupt *interrupt)
{
    struct ind_disk *disk = keeper->disk;
    const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
    char from[IND_ARCHIVE_PATH], to[IND_ARCHIVE_PATH];
    uint64_t size = 0;
    ind_keeper_path(archive, from);
    snprintf(to, sizeof to, "%s%s", archive->path, ind_compression_suffix(policy->recompress).at);
    ind_disk_act(disk, IND_ACTION_COMPRESS, from, archive->size, "recompress", policy->name);
    if (disk->dry_run)
        return true;
    int error = pack_again(keeper, archive, policy, from, to, interrupt, &size);
    error = error ? error : ind_fs_sync_folders_of(&disk->fs, disk->folder, to);
    if (!error && !take_over(keeper, archive, policy, from, to, size, now))
        error = errno;
    if (error == ECANCELED || ind_disk_is_full(error))
        return false; /* later */
    if (error) {      /* not before the next start: it is good as it is */
        archive->stays_as_packed = true;
        keeper->counts.failed++;
        ind_disk_report(disk, IND_OWN_ARCHIVE_FAILED, archive->path, "cannot compress %s once more: %s", from,
                        error == EBADMSG ? "it cannot be unpacked, or is not what it was" : strerror(error));
    }
    return true;
}
