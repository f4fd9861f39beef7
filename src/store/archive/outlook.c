#include "store/archive/outlook.h"

#include "store/disk/disk.h"
#include <stdlib.h>
#include <string.h>

static bool is_archive(const struct ind_archive_entry *entry, enum ind_archive_state *state)
{
    *state = entry->compression ? IND_ARCHIVE_COMPRESSED
             : entry->has_plain ? IND_ARCHIVE_PLAIN
                                : IND_ARCHIVE_MISSING;
    return *state != IND_ARCHIVE_MISSING ||
           (entry->known_rotated && !entry->known_removed && !entry->is_live);
}

static int in_order(const void *one, const void *other)
{
    const struct ind_archive_entry *a = ((const struct ind_outlook_archive *)one)->entry,
                                   *b = ((const struct ind_outlook_archive *)other)->entry;
    const int order = strcmp(a->series, b->series);
    return order ? order : (a->number > b->number) - (a->number < b->number);
}

/* As the keeper knows it: when nobody wrote down that it was rotated, it was when it was last written to. */
static ind_time rotated(const struct ind_archive_entry *entry)
{
    return entry->rotated != IND_TIME_NONE ? entry->rotated : entry->modified;
}

static bool waits_for_copy(const struct ind_config *config, const struct ind_archive_entry *entry)
{
    const char *place = entry->policy == IND_NO_POLICY ? NULL : config->policies[entry->policy].second_place;
    return place && entry->copied_to != ind_path_hash(ind_slice_of(place));
}

static bool gather(const struct ind_config *config, const struct ind_inventory *inventory,
                   struct ind_outlook *outlook)
{
    outlook->list = calloc(HASH_COUNT(inventory->entries) + 1, sizeof *outlook->list);
    for (const struct ind_archive_entry *entry = inventory->entries; outlook->list && entry;
         entry = entry->hh.next) {
        enum ind_archive_state state;
        if (!is_archive(entry, &state))
            continue;
        outlook->list[outlook->count++] = (struct ind_outlook_archive){
            .entry = entry,
            .policy = entry->policy == IND_NO_POLICY ? NULL : &config->policies[entry->policy],
            .state = state,
            .waits_for_copy = waits_for_copy(config, entry),
            .size = state == IND_ARCHIVE_COMPRESSED ? entry->compressed_size : entry->plain_size,
            .goes = IND_TIME_NONE,
            .after = UINT64_MAX};
    }
    return outlook->list != NULL;
}

/* From the newest of a series to the oldest. */
static void foresee(struct ind_outlook *outlook)
{
    uint64_t newer = 0;
    for (size_t i = outlook->count; i-- > 0;) {
        struct ind_outlook_archive *archive = &outlook->list[i];
        const struct ind_archive_entry *entry = archive->entry;
        if (i + 1 == outlook->count || strcmp(entry->series, outlook->list[i + 1].entry->series) != 0)
            newer = 0;
        if (archive->state == IND_ARCHIVE_MISSING || entry->is_protected)
            continue;
        const struct ind_retention_rule *keep = archive->policy ? &archive->policy->keep : NULL;
        if (keep && keep->age && rotated(entry) != IND_TIME_NONE)
            archive->goes = rotated(entry) + keep->age * IND_SECOND;
        if (keep && keep->number)
            archive->after = keep->number > newer ? keep->number - newer : 0;
        newer++;
    }
}

/* Live files count towards the space of their policy. */
static uint64_t live_size(const struct ind_inventory *inventory, size_t policy)
{
    uint64_t size = 0;
    for (const struct ind_live_path *live = inventory->lives; live; live = live->hh.next)
        size += live->entry && live->entry->policy == policy ? live->size : 0;
    return size;
}

static void decide(const struct ind_config *config, const struct ind_inventory *inventory, ind_time at,
                   struct ind_outlook *outlook, struct ind_archive_facts *facts)
{
    for (size_t p = 0; p < config->policy_count; p++) {
        const struct ind_retention_facts given = {
            .now = at, .clock_trusted = true, .live_size = live_size(inventory, p)};
        size_t count = 0;
        for (size_t i = 0; i < outlook->count; i++) {
            const struct ind_outlook_archive *archive = &outlook->list[i];
            if (archive->policy == &config->policies[p] && archive->state != IND_ARCHIVE_MISSING)
                facts[count++] = (struct ind_archive_facts){
                    .series = ind_path_hash(ind_slice_of(archive->entry->series)),
                    .number = archive->entry->number,
                    .rotated = rotated(archive->entry),
                    .size = archive->size,
                    .is_protected = archive->entry->is_protected || archive->waits_for_copy,
                    .index = i};
        }
        (void)ind_retention_decide(&config->policies[p].keep, &given, facts, count);
        for (size_t i = 0; i < count; i++)
            outlook->list[facts[i].index].due = facts[i].verdict;
    }
}

bool ind_outlook_make(const struct ind_config *config, const struct ind_inventory *inventory, ind_time at,
                      struct ind_outlook *outlook)
{
    *outlook = (struct ind_outlook){0};
    if (!gather(config, inventory, outlook))
        return false;
    qsort(outlook->list, outlook->count, sizeof *outlook->list, in_order);
    struct ind_archive_facts *facts = calloc(outlook->count + 1, sizeof *facts);
    if (facts) {
        foresee(outlook);
        decide(config, inventory, at, outlook, facts);
    }
    free(facts);
    return facts != NULL;
}

void ind_outlook_free(struct ind_outlook *outlook)
{
    free(outlook->list);
    *outlook = (struct ind_outlook){0};
}
