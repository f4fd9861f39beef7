/* A live file becomes an archive. The order of steps: what waits is written, the file gets its archive's
 * name, "rotated" into the journal, and the keeping half hears of it. After a stop between any two of them
 * recover.c finishes the rest. */
#include "store/write/write_private.h"

#include "store/disk/chain.h"
#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>

static void journal_rotated(struct ind_store *store, const struct ind_live *live, uint64_t inode,
                            struct ind_clocks now, enum ind_rotation_reason reason)
{
    struct ind_journal_record record = {
        .event = IND_EVENT_ROTATED,
        .at = now.wall,
        .series = live->series->name,
        .number = live->number,
        .archive = live->archive,
        .reason = ind_rotation_reason_name(reason).at,
        .bytes = live->on_disk,
        .messages = live->messages_known ? live->facts.messages : UINT64_MAX,
        .inode = inode,
        .first = live->first,
        .last = live->last,
    };
    if (!ind_chain_journal(store->disk, &record, ind_live_policy(store, live)))
        ind_disk_report(store->disk, IND_OWN_ROTATION_FAILED, NULL, "cannot write the journal: %s",
                        strerror(errno));
}

/* Forgets the file that was; the next line begins another. */
static void end_file(struct ind_store *store, struct ind_live *live)
{
    ind_live_close(store, live);
    ind_live_count_bytes(store, live, 0, live->on_disk);
    live->on_disk = 0;
    live->begun = live->journaled = false;
    live->facts = (struct ind_live_facts){.period_end = IND_TIME_NONE};
}

/* 0, or the error: the file goes on as it is. */
static int rename_it(struct ind_store *store, struct ind_live *live, enum ind_rotation_reason reason,
                     struct ind_clocks now)
{
    struct stat facts;
    struct ind_disk *disk = store->disk;
    if (fstatat(disk->folder, live->path, &facts, AT_SYMLINK_NOFOLLOW) != 0 ||
        disk->fs.rename(disk->fs.context, disk->folder, live->path, live->archive) != 0)
        return errno;
    journal_rotated(store, live, (uint64_t)facts.st_ino, now, reason);
    return 0;
}

int ind_live_rotate(struct ind_store *store, struct ind_live *live, enum ind_rotation_reason reason,
                    struct ind_clocks now)
{
    const struct ind_policy *policy = ind_live_policy(store, live);
    int error = ind_live_flush(store, live, now);
    if (error)
        return error;
    if (live->on_disk == 0) { /* all of it was lost: there is no file to rotate */
        end_file(store, live);
        return 0;
    }
    ind_disk_act(store->disk, IND_ACTION_ROTATE, live->path, live->on_disk,
                 ind_rotation_reason_name(reason).at, policy ? policy->name : NULL);
    error = rename_it(store, live, reason, now);
    if (error == ENOENT) {
        ind_disk_report(store->disk, IND_OWN_FILE_REMOVED, live->path,
                        "%s was removed by somebody before it could be rotated", live->path);
        end_file(store, live);
        return 0;
    }
    if (error) {
        if (!ind_steady_reported_lately(&live->reported, now.steady, IND_REPORT_AGAIN * IND_SECOND))
            ind_disk_report(store->disk, IND_OWN_ROTATION_FAILED, live->path,
                            "cannot rotate %s: %s; it goes on as it is, and is tried again", live->path,
                            strerror(error));
        return error;
    }
    struct ind_archive archive = {.path = live->archive,
                                  .series = live->series->name,
                                  .number = live->number,
                                  .size = live->on_disk,
                                  .policy = live->policy,
                                  .rotated = now.wall,
                                  .stored = live->stored,
                                  .to_do = true};
    ind_disk_hand_over(store->disk, &archive);
    store->counts.rotated++;
    end_file(store, live);
    return 0;
}

static enum ind_rotation_reason due(const struct ind_store *store, const struct ind_live *live,
                                    struct ind_clocks now)
{
    const struct ind_policy *policy = ind_live_policy(store, live);
    return policy ? ind_rotation_due(&policy->rotate, &live->facts, now.wall) : IND_ROTATION_NOT;
}

size_t ind_store_rotate(struct ind_store *store, bool only_due, struct ind_clocks now, size_t *failed)
{
    struct ind_live *live, *next;
    size_t count = 0;
    HASH_ITER(hh, store->lives, live, next)
    {
        enum ind_rotation_reason reason = due(store, live, now);
        if (reason == IND_ROTATION_NOT && (only_due || !live->begun))
            continue;
        if (ind_live_rotate(store, live, reason ? reason : IND_ROTATION_ASKED, now) == 0) {
            count++;
            ind_live_free(store, live);
        } else {
            ++*failed;
        }
    }
    return count;
}
