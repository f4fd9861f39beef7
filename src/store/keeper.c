/* store/keeper.c: what is done to archives, on the housekeeping thread.
 *
 * Compression: the plain archive is flushed, packed into a temporary file, that is flushed and named, the
 * plain one removed, and the journal told. Removal: the journal is told first, so that a gap is never taken
 * for a loss. */
#include "store/inside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/statvfs.h>
#include <unistd.h>

enum { RETAIN_EVERY = 60, RETRY_AFTER = 30, KEEP_LAST_RUN_EVERY = 3600 };

void ind_hand_over(struct ind_store *store, const struct ind_archive *archive)
{
    struct ind_handed *handed = calloc(1, sizeof *handed);
    if (handed) {
        handed->archive = *archive;
        handed->archive.path = strdup(archive->path);
        handed->archive.series = strdup(archive->series);
    }
    if (!handed || !handed->archive.path || !handed->archive.series) {
        ind_store_tell(store, "out of memory: %s is compressed at the next start only", archive->path);
        if (handed) {
            free(handed->archive.path);
            free(handed->archive.series);
        }
        free(handed);
        return;
    }
    pthread_mutex_lock(&store->handing);
    handed->next = store->handed;
    store->handed = handed;
    pthread_mutex_unlock(&store->handing);
    atomic_store(&store->wanted, true);
}

static bool add_taken(struct ind_store *store, const struct ind_archive *archive)
{
    if (store->archive_count == store->archive_room) {
        size_t room = store->archive_room ? store->archive_room * 2 : 64;
        struct ind_archive *grown = realloc(store->archives, room * sizeof *grown);
        if (!grown)
            return false;
        store->archives = grown;
        store->archive_room = room;
    }
    store->archives[store->archive_count++] = *archive;
    store->keeper.archives++;
    store->keeper.archive_bytes += archive->size;
    return true;
}

bool ind_archive_add(struct ind_store *store, const struct ind_archive *archive)
{
    struct ind_archive copy = *archive;
    copy.path = strdup(archive->path);
    copy.series = strdup(archive->series);
    if (copy.path && copy.series && add_taken(store, &copy))
        return true;
    free(copy.path);
    free(copy.series);
    return false;
}

static void take_handed(struct ind_store *store)
{
    pthread_mutex_lock(&store->handing);
    struct ind_handed *handed = store->handed, *in_order = NULL;
    store->handed = NULL;
    pthread_mutex_unlock(&store->handing);
    while (handed) { /* they were put in front of each other */
        struct ind_handed *next = handed->next;
        handed->next = in_order;
        in_order = handed;
        handed = next;
    }
    while (in_order) {
        struct ind_handed *next = in_order->next;
        if (!add_taken(store, &in_order->archive)) {
            free(in_order->archive.path);
            free(in_order->archive.series);
        }
        free(in_order);
        in_order = next;
    }
}

static bool flush_to_disk(struct ind_store *store, const char *path)
{
    int file = openat(store->folder, path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (file < 0)
        return false;
    bool good = store->fs.sync(store->fs.context, file) == 0;
    close(file);
    ind_fs_sync_folder_of(&store->fs, store->folder, path);
    return good;
}

static bool compress_archive(struct ind_store *store, struct ind_archive *archive,
                             enum ind_compression compress, int level, ind_time now,
                             const struct ind_interrupt *interrupt)
{
    char to[IND_PATH + 64];
    uint64_t size;
    snprintf(to, sizeof to, "%s%s", archive->path, ind_compression_suffix(compress).at);
    if (!ind_compress_file(store, archive->path, to, compress, level, interrupt, &size))
        return false;
    ind_fs_sync_folder_of(&store->fs, store->folder, archive->path);
    if (store->fs.remove(store->fs.context, store->folder, archive->path) != 0 && errno != ENOENT)
        return false;
    struct ind_record record = {.event = IND_EVENT_COMPRESSED,
                                .at = now,
                                .series = archive->series,
                                .number = archive->number,
                                .archive = archive->path,
                                .file = to,
                                .bytes = size};
    (void)ind_journal_add(&store->fs, store->journal, &record);
    store->keeper.archive_bytes += size - archive->size;
    store->keeper.compressed++;
    archive->size = size;
    archive->compression = compress;
    return true;
}

/* The policy is looked at before anything else: it may go while the archive is compressed. */
static bool finish_archive(struct ind_store *store, struct ind_archive *archive, ind_time now,
                           const struct ind_interrupt *interrupt)
{
    const struct ind_policy *policy =
        archive->policy == IND_NO_POLICY ? NULL : store->kept_policies[archive->policy];
    const enum ind_compression compress = policy ? policy->compress : IND_COMPRESS_NONE;
    const int level = policy ? policy->level : 0;
    bool good = flush_to_disk(store, archive->path);
    if (good && compress != IND_COMPRESS_NONE)
        good = compress_archive(store, archive, compress, level, now, interrupt);
    if (!good && errno == ECANCELED)
        return false;
    if (!good && errno == ENOENT) {
        ind_store_tell(store, "%s was removed by somebody before it could be compressed", archive->path);
        good = true;
    }
    if (!good) {
        store->keeper.failed++;
        ind_store_tell(store, "cannot compress %s: %s; tried again later", archive->path, strerror(errno));
    }
    archive->to_do = !good;
    return good;
}

static bool remove_archive(struct ind_store *store, struct ind_archive *archive, const char *reason,
                           ind_time now)
{
    char path[IND_PATH + 64];
    snprintf(path, sizeof path, "%s%s", archive->path, ind_compression_suffix(archive->compression).at);
    struct ind_record record = {.event = IND_EVENT_REMOVED,
                                .at = now,
                                .series = archive->series,
                                .number = archive->number,
                                .archive = archive->path,
                                .reason = reason};
    /* On a full disk the journal may refuse: room comes first. */
    if (!archive->removed)
        archive->removed = ind_journal_add(&store->fs, store->journal, &record);
    if (store->fs.remove(store->fs.context, store->folder, path) != 0 && errno != ENOENT) {
        ind_store_tell(store, "cannot remove %s: %s", path, strerror(errno));
        return false;
    }
    if (!archive->removed)
        (void)ind_journal_add(&store->fs, store->journal, &record);
    store->keeper.removed++;
    store->keeper.archives--;
    store->keeper.archive_bytes -= archive->size;
    return true;
}

void ind_store_space(const struct ind_store *store, uint64_t *size, uint64_t *room)
{
    struct statvfs facts;
    bool good = fstatvfs(store->folder, &facts) == 0;
    *size = good ? (uint64_t)facts.f_blocks * facts.f_frsize : 0;
    *room = good ? (uint64_t)facts.f_bavail * facts.f_frsize : 0;
}

static uint64_t series_number(const struct ind_archive *archive)
{
    return ind_path_hash(ind_slice_of(archive->series));
}

static size_t gather(const struct ind_store *store, size_t policy, struct ind_archive_facts *facts)
{
    size_t count = 0;
    for (size_t i = 0; i < store->archive_count; i++) {
        const struct ind_archive *archive = &store->archives[i];
        if (archive->policy == policy)
            facts[count++] = (struct ind_archive_facts){.series = series_number(archive),
                                                        .number = archive->number,
                                                        .rotated = archive->rotated,
                                                        .size = archive->size,
                                                        .index = i};
    }
    return count;
}

static void retain_policy(struct ind_store *store, size_t policy, struct ind_archive_facts *facts,
                          ind_time now, bool *gone)
{
    struct ind_retention_facts given = {.now = now,
                                        .clock_trusted = !store->clock_distrusted,
                                        .live_size = atomic_load(&store->live_bytes[policy])};
    uint64_t room;
    ind_store_space(store, &given.file_system, &room);
    size_t count = gather(store, policy, facts);
    if (ind_retention_decide(&store->kept_policies[policy]->keep, &given, facts, count) == 0)
        return;
    for (size_t i = 0; i < count; i++)
        if (facts[i].verdict != IND_KEPT)
            gone[facts[i].index] = remove_archive(store, &store->archives[facts[i].index],
                                                  ind_retention_reason_name(facts[i].verdict).at, now);
}

static void forget_gone(struct ind_store *store, const bool *gone)
{
    size_t kept = 0;
    for (size_t i = 0; i < store->archive_count; i++) {
        if (gone[i]) {
            free(store->archives[i].path);
            free(store->archives[i].series);
        } else {
            store->archives[kept++] = store->archives[i];
        }
    }
    store->archive_count = kept;
}

static void keep_last_run(struct ind_store *store, struct ind_clocks now)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    store->last_run = now.wall;
    if (ind_steady_lately(store->kept_last_run, now.steady, KEEP_LAST_RUN_EVERY * IND_SECOND))
        return;
    ind_time_write(&buffer, now.wall);
    ind_buffer_byte(&buffer, '\n');
    int file = store->fs.open(store->fs.context, store->state, "retention-last-run.new",
                              O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0640);
    if (file < 0)
        return;
    if (ind_fs_write_all(&store->fs, file, text, buffer.length) &&
        store->fs.rename(store->fs.context, store->state, "retention-last-run.new", "retention-last-run") ==
            0)
        store->kept_last_run = now.steady;
    close(file);
}

static void check_clock(struct ind_store *store, ind_time now, bool clock_is_right)
{
    ind_time newest = IND_TIME_NONE;
    for (size_t i = 0; i < store->archive_count; i++)
        newest = store->archives[i].rotated > newest ? store->archives[i].rotated : newest;
    if (clock_is_right)
        store->clock_distrusted = false;
    else if (!store->clock_distrusted && !ind_clock_trusted(now, newest, store->last_run)) {
        store->clock_distrusted = true;
        ind_store_tell(
            store,
            "the clock is more than a day past the last work on archives: nothing is removed for its age "
            "until \"indagator rotate --clock-is-right\" says that the clock is right");
    }
}

void ind_keeper_retain(struct ind_store *store, struct ind_clocks now, bool clock_is_right)
{
    take_handed(store);
    check_clock(store, now.wall, clock_is_right);
    size_t count = store->archive_count;
    struct ind_archive_facts *facts = calloc(count ? count : 1, sizeof *facts);
    bool *gone = calloc(count ? count : 1, sizeof *gone);
    for (size_t policy = 0; facts && gone && policy < IND_POLICY_PLACES; policy++)
        if (store->kept_policies[policy])
            retain_policy(store, policy, facts, now.wall, gone);
    if (facts && gone)
        forget_gone(store, gone);
    free(facts);
    free(gone);
    store->retained = now.steady;
    if (!store->clock_distrusted)
        keep_last_run(store, now);
}

bool ind_keeper_wanted(struct ind_store *store)
{
    return atomic_load(&store->wanted);
}

/* Of rules that are gone, or that this half has not adopted yet, nothing is known: such an archive waits. */
static bool rules_known(const struct ind_store *store, const struct ind_archive *archive)
{
    return archive->policy == IND_NO_POLICY || store->kept_policies[archive->policy];
}

bool ind_keeper_run(struct ind_store *store, struct ind_clocks now, const struct ind_interrupt *interrupt)
{
    bool asked = atomic_exchange(&store->wanted, false), all = true;
    take_handed(store);
    if (asked || !ind_steady_lately(store->retained, now.steady, RETAIN_EVERY * IND_SECOND))
        ind_keeper_retain(store, now, false);
    if (ind_steady_lately(store->failed_at, now.steady, RETRY_AFTER * IND_SECOND))
        return false;
    store->failed_at = IND_STEADY_NEVER;
    for (size_t i = 0; i < store->archive_count && !ind_interrupted(interrupt); i++)
        if (store->archives[i].to_do && rules_known(store, &store->archives[i]))
            all &= finish_archive(store, &store->archives[i], now.wall, interrupt);
    if (!all)
        store->failed_at = now.steady;
    return all;
}

struct ind_keeper_counts ind_keeper_counts(const struct ind_store *store)
{
    return store->keeper;
}
