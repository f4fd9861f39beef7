/* What of the archives is to be compressed and removed: decided here, carried out by keeper.c. */
#include "store/archive/keeper_private.h"

#include "core/archive/retention.h"
#include <stdlib.h>

/* False where memory is out: what is not decided now is decided at the next run. */
static bool add_step(struct ind_steps *steps, size_t archive, enum ind_action_kind kind, const char *rule)
{
    if (steps->count == steps->room) {
        size_t room = steps->room ? steps->room * 2 : 32;
        struct ind_step *grown = realloc(steps->list, room * sizeof *grown);
        if (!grown)
            return false;
        steps->list = grown;
        steps->room = room;
    }
    steps->list[steps->count++] = (struct ind_step){archive, kind, rule};
    return true;
}

/* The archives under `policy`; NULL: those of which no rules are known, which only take space. */
static size_t gather(const struct ind_keeper *keeper, const struct ind_policy *policy,
                     struct ind_archive_facts *facts)
{
    size_t count = 0;
    for (size_t i = 0; i < keeper->archive_count; i++) {
        const struct ind_archive *archive = &keeper->archives[i];
        if (ind_keeper_policy(keeper, archive) == policy)
            facts[count++] = (struct ind_archive_facts){
                .series = ind_path_hash(ind_slice_of(archive->series)),
                .number = archive->number,
                .rotated = archive->rotated,
                .size = archive->size,
                .percent = policy ? policy->keep.percent : 0,
                .is_protected = archive->is_protected || ind_keeper_waits_for_copy(keeper, archive),
                .spared = !policy,
                .index = i};
    }
    return count;
}

static unsigned file_system_of(const struct ind_keeper *keeper, const struct ind_archive *archive)
{
    return ind_mounts_of(&keeper->disk->mounts, ind_slice_of(archive->path));
}

uint64_t ind_keeper_room_wanted(const struct ind_keeper *keeper, unsigned file_system)
{
    uint64_t largest = 0;
    for (size_t i = 0; keeper->reserve && i < keeper->archive_count; i++)
        if (keeper->archives[i].to_do && keeper->archives[i].size > largest &&
            file_system_of(keeper, &keeper->archives[i]) == file_system)
            largest = keeper->archives[i].size;
    return keeper->reserve ? keeper->reserve + largest : 0;
}

/* What goes early for the reserve of a file system. Returns the bytes that are missing all the same. */
static uint64_t decide_reserve(const struct ind_keeper *keeper, unsigned file_system, uint64_t room,
                               struct ind_archive_facts *facts, size_t count)
{
    uint64_t wanted = ind_keeper_room_wanted(keeper, file_system);
    for (size_t i = 0; i < count; i++)
        room += facts[i].verdict != IND_KEPT ? facts[i].size : 0;
    return wanted > room ? ind_retention_reserve(wanted - room, facts, count) : 0;
}

/* Moves those of a file system to the front; returns how many they are. */
static size_t bring_forward(const struct ind_keeper *keeper, unsigned file_system,
                            struct ind_archive_facts *facts, size_t count)
{
    size_t front = 0;
    for (size_t i = 0; i < count; i++) {
        if (file_system_of(keeper, &keeper->archives[facts[i].index]) != file_system)
            continue;
        const struct ind_archive_facts moved = facts[i];
        facts[i] = facts[front];
        facts[front++] = moved;
    }
    return front;
}

/* What all policies together may take of each file system, then its reserve. */
static void decide_by_file_system(const struct ind_keeper *keeper, struct ind_archive_facts *facts,
                                  size_t count, struct ind_shortage *shortage)
{
    const struct ind_disk *disk = keeper->disk;
    size_t from = 0;
    for (unsigned i = 0; i < disk->mounts.file_systems; i++) {
        uint64_t size, room, missing = 0;
        size_t own = bring_forward(keeper, i, facts + from, count - from);
        ind_disk_space(disk, i, &size, &room);
        (void)ind_retention_share(size, atomic_load(&disk->live_bytes_on[i]), facts + from, own);
        if (size)
            missing = decide_reserve(keeper, i, room, facts + from, own);
        if (missing > shortage->bytes)
            *shortage = (struct ind_shortage){i, missing};
        from += own;
    }
}

/* Each policy's own limits first, then those of the file systems. */
void ind_keeper_decide_removals(const struct ind_keeper *keeper, ind_time now, struct ind_steps *steps,
                                struct ind_shortage *shortage)
{
    struct ind_archive_facts *facts = calloc(keeper->archive_count + 1, sizeof *facts);
    *shortage = (struct ind_shortage){0, 0};
    if (!facts)
        return;
    size_t count = gather(keeper, NULL, facts);
    for (size_t place = 0; place < IND_POLICY_PLACES; place++) {
        const struct ind_policy *policy = keeper->policies[place];
        struct ind_retention_facts given = {.now = now,
                                            .clock_trusted = !keeper->clock_distrusted,
                                            .live_size = atomic_load(&keeper->disk->live_bytes[place])};
        if (!policy)
            continue;
        size_t own = gather(keeper, policy, facts + count);
        (void)ind_retention_decide(&policy->keep, &given, facts + count, own);
        count += own;
    }
    decide_by_file_system(keeper, facts, count, shortage);
    for (size_t i = 0; i < count; i++)
        if (facts[i].verdict != IND_KEPT)
            (void)add_step(steps, facts[i].index, IND_ACTION_REMOVE,
                           ind_retention_reason_name(facts[i].verdict).at);
    free(facts);
}

bool ind_keeper_knows_rules(const struct ind_keeper *keeper, const struct ind_archive *archive)
{
    return archive->policy == IND_NO_POLICY || ind_keeper_policy(keeper, archive);
}

static bool is_to_be_packed_again(const struct ind_keeper *keeper, const struct ind_archive *archive,
                                  ind_time now)
{
    const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
    if (!ind_keeper_is_old(policy, archive, now) || archive->to_do || archive->removed ||
        archive->stays_as_packed)
        return false;
    return archive->compression == IND_COMPRESS_NONE ||
           (archive->compression == policy->recompress && archive->level < policy->recompress_level);
}

void ind_keeper_decide_recompressions(const struct ind_keeper *keeper, ind_time now, struct ind_steps *steps)
{
    for (size_t i = 0; i < keeper->archive_count; i++)
        if (is_to_be_packed_again(keeper, &keeper->archives[i], now))
            (void)add_step(steps, i, IND_ACTION_COMPRESS, "recompress");
}

void ind_keeper_decide_compressions(const struct ind_keeper *keeper, struct ind_steps *steps)
{
    for (size_t i = 0; i < keeper->archive_count; i++)
        if (keeper->archives[i].to_do && ind_keeper_knows_rules(keeper, &keeper->archives[i]))
            (void)add_step(steps, i, IND_ACTION_COMPRESS, NULL);
}
