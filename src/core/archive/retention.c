#include "core/archive/retention.h"

#include <stdlib.h>

struct ind_slice ind_retention_reason_name(enum ind_retention_reason reason)
{
    static const char *const names[] = {"kept", "age", "number", "space", "reserve"};
    return ind_slice_of(names[reason]);
}

bool ind_clock_trusted(ind_time now, ind_time newest_archive, ind_time last_run)
{
    ind_time last = newest_archive > last_run ? newest_archive : last_run;
    return last == IND_TIME_NONE || now <= last + IND_DAY_SECONDS * IND_SECOND;
}

static int oldest_first(const void *left, const void *right)
{
    const struct ind_archive_facts *a = left, *b = right;
    if (a->rotated != b->rotated)
        return a->rotated < b->rotated ? -1 : 1;
    if (a->series != b->series)
        return a->series < b->series ? -1 : 1;
    return (a->number > b->number) - (a->number < b->number);
}

static int by_series_newest_first(const void *left, const void *right)
{
    const struct ind_archive_facts *a = left, *b = right;
    if (a->series != b->series)
        return a->series < b->series ? -1 : 1;
    return (a->number < b->number) - (a->number > b->number);
}

static void limit_number(const struct ind_retention_rule *rule, struct ind_archive_facts *archives,
                         size_t count)
{
    qsort(archives, count, sizeof *archives, by_series_newest_first);
    uint64_t kept = 0;
    for (size_t i = 0; i < count; i++) {
        if (i == 0 || archives[i].series != archives[i - 1].series)
            kept = 0;
        if (archives[i].verdict == IND_KEPT && !archives[i].is_protected && ++kept > rule->number &&
            !archives[i].spared)
            archives[i].verdict = IND_GONE_BY_NUMBER;
    }
}

size_t ind_retention_decide(const struct ind_retention_rule *rule, const struct ind_retention_facts *facts,
                            struct ind_archive_facts *archives, size_t count)
{
    uint64_t total = facts->live_size, limit = rule->space ? rule->space : UINT64_MAX;
    size_t gone = 0;
    for (size_t i = 0; i < count; i++) {
        bool old =
            rule->age && facts->clock_trusted && archives[i].rotated <= facts->now - rule->age * IND_SECOND;
        /* By a clock that has jumped all of them may look old. */
        archives[i].spared |= rule->least && (!facts->clock_trusted ||
                                              archives[i].rotated > facts->now - rule->least * IND_SECOND);
        archives[i].spared |= archives[i].is_protected;
        archives[i].verdict = old && !archives[i].is_protected ? IND_GONE_BY_AGE : IND_KEPT;
    }
    if (count == 0)
        return 0;
    if (rule->number)
        limit_number(rule, archives, count);
    qsort(archives, count, sizeof *archives, oldest_first);
    for (size_t i = 0; i < count; i++)
        total += archives[i].verdict == IND_KEPT ? archives[i].size : 0;
    for (size_t i = 0; i < count; i++) {
        if (total > limit && archives[i].verdict == IND_KEPT && !archives[i].spared) {
            archives[i].verdict = IND_GONE_BY_SPACE;
            total -= archives[i].size;
        }
        gone += archives[i].verdict != IND_KEPT;
    }
    return gone;
}

size_t ind_retention_share(uint64_t file_system, uint64_t live_size, struct ind_archive_facts *archives,
                           size_t count)
{
    uint64_t total = live_size;
    size_t gone = 0;
    if (file_system == 0 || count == 0)
        return 0;
    qsort(archives, count, sizeof *archives, oldest_first);
    for (size_t i = 0; i < count; i++)
        total += archives[i].verdict == IND_KEPT ? archives[i].size : 0;
    for (size_t i = 0; i < count; i++) {
        struct ind_archive_facts *archive = &archives[i];
        if (archive->verdict != IND_KEPT || archive->spared || archive->percent == 0 ||
            total <= file_system / 100 * archive->percent)
            continue;
        archive->verdict = IND_GONE_BY_SPACE;
        total -= archive->size;
        gone++;
    }
    return gone;
}

uint64_t ind_retention_reserve(uint64_t missing, struct ind_archive_facts *archives, size_t count)
{
    if (count > 0)
        qsort(archives, count, sizeof *archives, oldest_first);
    for (size_t i = 0; i < count && missing > 0; i++) {
        if (archives[i].verdict != IND_KEPT || archives[i].spared)
            continue;
        archives[i].verdict = IND_GONE_BY_RESERVE;
        missing -= archives[i].size < missing ? archives[i].size : missing;
    }
    return missing;
}
