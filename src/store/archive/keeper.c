/* What is looked after, and when. */
#include "store/archive/keeper_private.h"

#include "core/archive/retention.h"
#include "core/line/template.h"
#include "store/disk/chain.h"
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

enum { RETAIN_EVERY = 60, RETRY_AFTER = 30, REPORT_AGAIN = 60, KEEP_LAST_RUN_EVERY = 3600 };

static ind_time read_last_run(const struct ind_disk *disk)
{
    char text[64];
    ind_time time;
    enum ind_time_style style;
    int file = disk->state < 0 ? -1
                               : openat(disk->state, "retention-last-run",
                                        O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    ssize_t length = file >= 0 ? read(file, text, sizeof text) : 0;
    if (file >= 0)
        close(file);
    return length > 0 && ind_time_read((struct ind_slice){text, (size_t)length}, &time, &style)
               ? time
               : IND_TIME_NONE;
}

struct ind_keeper *ind_keeper_new(struct ind_disk *disk, struct ind_plan *plan)
{
    struct ind_keeper *keeper = calloc(1, sizeof *keeper);
    if (!keeper)
        return NULL;
    keeper->disk = disk;
    ind_mutex_begin(&keeper->asking);
    keeper->copies = ind_copies_new(disk);
    keeper->cataloguing = ind_cataloguing_new();
    if (!keeper->copies || !keeper->cataloguing) {
        ind_keeper_free(keeper);
        return NULL;
    }
    keeper->last_run = read_last_run(disk);
    ind_keeper_adopt(keeper, plan);
    return keeper;
}

IND_NOT_SHARED void ind_keeper_free(struct ind_keeper *keeper)
{
    if (!keeper)
        return;
    for (size_t i = 0; i < keeper->archive_count; i++)
        ind_keeper_forget(&keeper->archives[i]);
    free(keeper->archives);
    ind_protection_free(keeper->asked);
    ind_copies_free(keeper->copies);
    ind_cataloguing_free(keeper->cataloguing);
    ind_mutex_end(&keeper->asking);
    free(keeper);
}

void ind_keeper_adopt(struct ind_keeper *keeper, struct ind_plan *plan)
{
    ind_plan_policies(plan, keeper->policies);
    keeper->reserve = plan->config->reserve;
    for (size_t i = 0; i < keeper->archive_count; i++) { /* those of before, where a chain begins now */
        struct ind_archive *archive = &keeper->archives[i];
        const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
        archive->to_do |= policy && policy->chain && !archive->hashed;
    }
    /* What could not be packed under the old rules may be under the new ones. */
    atomic_store(&keeper->disk->wanted, true);
}

/* Takes over the archive's texts, unless it returns false. */
static bool add_dequeued(struct ind_keeper *keeper, const struct ind_archive *archive)
{
    if (keeper->archive_count == keeper->archive_room) {
        size_t room = keeper->archive_room ? keeper->archive_room * 2 : 64;
        struct ind_archive *grown = realloc(keeper->archives, room * sizeof *grown);
        if (!grown)
            return false;
        keeper->archives = grown;
        keeper->archive_room = room;
    }
    keeper->archives[keeper->archive_count++] = *archive;
    keeper->counts.archives++;
    keeper->counts.archive_bytes += archive->size;
    keeper->counts.protected_archives += archive->is_protected;
    return true;
}

bool ind_keeper_add(struct ind_keeper *keeper, const struct ind_archive *archive)
{
    struct ind_archive copy = *archive;
    copy.path = strdup(archive->path);
    copy.series = strdup(archive->series);
    if (copy.path && copy.series && add_dequeued(keeper, &copy))
        return true;
    ind_keeper_forget(&copy);
    return false;
}

static void add_handed(struct ind_keeper *keeper)
{
    for (struct ind_handed *handed = ind_disk_dequeue_archives(keeper->disk), *next; handed; handed = next) {
        next = handed->next;
        if (!add_dequeued(keeper, &handed->archive))
            ind_keeper_forget(&handed->archive);
        free(handed);
    }
}

static void keep_last_run(struct ind_keeper *keeper, struct ind_clocks now)
{
    const struct ind_disk *disk = keeper->disk;
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    keeper->last_run = now.wall;
    if (ind_steady_lately(keeper->kept_last_run, now.steady, KEEP_LAST_RUN_EVERY * IND_SECOND))
        return;
    ind_time_write(&buffer, now.wall);
    ind_buffer_byte(&buffer, '\n');
    int file = disk->fs.open(disk->fs.context, disk->state, "retention-last-run.new",
                             O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0640);
    if (file < 0)
        return;
    if (ind_fs_write_all(&disk->fs, file, text, buffer.length) &&
        disk->fs.rename(disk->fs.context, disk->state, "retention-last-run.new", "retention-last-run") == 0)
        keeper->kept_last_run = now.steady;
    close(file);
}

static void check_clock(struct ind_keeper *keeper, ind_time now, bool clock_is_right)
{
    ind_time newest = IND_TIME_NONE;
    for (size_t i = 0; i < keeper->archive_count; i++)
        newest = keeper->archives[i].rotated > newest ? keeper->archives[i].rotated : newest;
    if (clock_is_right && keeper->clock_distrusted) {
        keeper->clock_distrusted = false;
        ind_keeper_link_clock(keeper, IND_EVENT_CLOCK_TRUSTED, now);
    } else if (!clock_is_right && !keeper->clock_distrusted &&
               !ind_clock_trusted(now, newest, keeper->last_run)) {
        keeper->clock_distrusted = true;
        ind_keeper_link_clock(keeper, IND_EVENT_CLOCK_DOUBTED, now);
        ind_disk_report(
            keeper->disk, IND_OWN_CLOCK_DOUBTED, NULL,
            "the clock is more than a day past the last work on archives: nothing is removed for its age "
            "until \"indagator rotate --clock-is-right\" says that the clock is right");
    }
}

/* Once a minute: what went early, or that nothing may. */
static void tell_reserve(struct ind_keeper *keeper, const struct ind_steps *steps,
                         const struct ind_shortage *shortage, struct ind_steady now)
{
    const char *rule = ind_retention_reason_name(IND_GONE_BY_RESERVE).at;
    const char *folder = ind_mounts_folder(&keeper->disk->mounts, shortage->file_system);
    size_t early = 0;
    for (size_t i = 0; i < steps->count; i++)
        early += strcmp(steps->list[i].rule, rule) == 0;
    if ((early == 0 && shortage->bytes == 0) ||
        ind_steady_reported_lately(&keeper->reserve_told, now, REPORT_AGAIN * IND_SECOND))
        return;
    if (shortage->bytes)
        ind_disk_report(
            keeper->disk, IND_OWN_RESERVE_REACHED, NULL,
            "%s%s is %llu MiB short of the %llu MiB that \"reserve\" keeps free, and no archive may "
            "be removed any more: make room, or shorten \"never less than\"",
            folder[0] ? "the file system at " : "the disk", folder,
            (unsigned long long)(shortage->bytes >> 20) + 1, (unsigned long long)(keeper->reserve >> 20));
    else
        ind_disk_report(keeper->disk, IND_OWN_RESERVE_REACHED, NULL,
                        "%s has less than the %llu MiB that \"reserve\" keeps free: %zu archives, the "
                        "oldest, are removed "
                        "early",
                        keeper->disk->mounts.file_systems > 1 ? "a file system of the store" : "the disk",
                        (unsigned long long)(keeper->reserve >> 20), early);
}

/* The disk may fill for other reasons than archives. Where nothing more may go it is not tried at every look.
 */
static bool reserve_is_reached(struct ind_keeper *keeper, struct ind_steady now)
{
    if (!keeper->reserve || ind_steady_lately(keeper->reserve_tried, now, RETRY_AFTER * IND_SECOND))
        return false;
    for (unsigned i = 0; i < keeper->disk->mounts.file_systems; i++) {
        uint64_t size, room;
        ind_disk_space(keeper->disk, i, &size, &room);
        if (size && room < ind_keeper_room_wanted(keeper, i))
            return true;
    }
    return false;
}

void ind_keeper_retain(struct ind_keeper *keeper, struct ind_clocks now, bool clock_is_right)
{
    struct ind_steps steps = {0};
    struct ind_shortage shortage;
    add_handed(keeper);
    check_clock(keeper, now.wall, clock_is_right);
    ind_keeper_decide_removals(keeper, now.wall, &steps, &shortage);
    tell_reserve(keeper, &steps, &shortage, now.steady);
    keeper->reserve_tried = shortage.bytes ? now.steady : IND_STEADY_NEVER;
    ind_keeper_remove(keeper, &steps, now.wall);
    const size_t steps_count = steps.count;
    free(steps.list);
    keeper->retained = now.steady;
    keeper->heads_moved |= steps_count > 0;
    if (!keeper->clock_distrusted)
        keep_last_run(keeper, now);
}

bool ind_keeper_wanted(const struct ind_keeper *keeper)
{
    return atomic_load(&keeper->disk->wanted);
}

/* Packing hard takes minutes: what comes meanwhile waits for some tens of MiB of text, and no longer. */
enum { PARTS_TO_WAIT = 30 };

struct patience {
    struct ind_keeper *keeper;
    const struct ind_interrupt *interrupt;
    unsigned parts; /* since something else is to be done */
};

static bool is_out_of_patience(void *context)
{
    struct patience *patience = context;
    patience->parts = ind_keeper_wanted(patience->keeper) ? patience->parts + 1 : 0;
    return ind_interrupted(patience->interrupt) || patience->parts > PARTS_TO_WAIT;
}

/* What is old enough to be packed better, once there is nothing else to do. */
static bool recompress(struct ind_keeper *keeper, struct ind_clocks now,
                       const struct ind_interrupt *interrupt)
{
    struct ind_steps steps = {0};
    bool all = true;
    struct patience patience = {keeper, interrupt, 0};
    const struct ind_interrupt patient = {is_out_of_patience, &patience};
    ind_keeper_decide_recompressions(keeper, now.wall, &steps);
    for (size_t i = 0; i < steps.count && all && !ind_interrupted(interrupt); i++) {
        struct ind_archive *archive = &keeper->archives[steps.list[i].archive];
        if (ind_keeper_wanted(keeper) && !keeper->disk->dry_run)
            break; /* what has come meanwhile is first */
        if (ind_keeper_knows_rules(keeper, archive))
            all = ind_keeper_recompress(keeper, archive, now.wall, &patient);
    }
    free(steps.list);
    return all;
}

bool ind_keeper_run(struct ind_keeper *keeper, struct ind_clocks now, const struct ind_interrupt *interrupt)
{
    struct ind_steps steps = {0};
    bool asked = atomic_exchange(&keeper->disk->wanted, false), all = true;
    add_handed(keeper);
    ind_keeper_protect(keeper, now.wall);
    if (asked || reserve_is_reached(keeper, now.steady) ||
        !ind_steady_lately(keeper->retained, now.steady, RETAIN_EVERY * IND_SECOND))
        ind_keeper_retain(keeper, now, false);
    ind_keeper_catalog(keeper, now, interrupt); /* archives are read best before they are packed */
    if (ind_steady_lately(keeper->failed_at, now.steady, RETRY_AFTER * IND_SECOND))
        return false;
    keeper->failed_at = IND_STEADY_NEVER;
    ind_keeper_decide_compressions(keeper, &steps);
    if (steps.count) /* what is written down of them is on disk before they are */
        (void)ind_keeper_sync_journal(keeper);
    for (size_t i = 0; i < steps.count && !ind_interrupted(interrupt); i++) {
        struct ind_archive *archive = &keeper->archives[steps.list[i].archive];
        if (ind_keeper_knows_rules(keeper, archive)) /* an interrupt may have adopted others */
            all &= ind_keeper_finish(keeper, archive, now.wall, interrupt);
    }
    ind_keeper_copy(keeper, now);
    all &= recompress(keeper, now, interrupt);
    free(steps.list);
    ind_keeper_keep_heads(keeper);
    ind_keeper_catalog(keeper, now, interrupt); /* what this run has done */
    if (!all)
        keeper->failed_at = now.steady;
    return all;
}

bool ind_keeper_run_last(struct ind_keeper *keeper, struct ind_clocks now,
                         const struct ind_interrupt *interrupt)
{
    keeper->at_the_end = true;
    return ind_keeper_run(keeper, now, interrupt);
}

struct ind_keeper_counts ind_keeper_counts(const struct ind_keeper *keeper)
{
    return keeper->counts;
}
