#include "core/archive/rotation.h"

struct ind_slice ind_rotation_reason_name(enum ind_rotation_reason reason)
{
    static const char *const names[] = {"", "period", "size", "messages", "asked"};
    return ind_slice_of(names[reason]);
}

/* How long the period lasts that holds `local` (seconds on the local clock), and how much of it has gone by.
 */
static int64_t period_length(enum ind_period every, int64_t local, int64_t *within)
{
    const int64_t shift = every == IND_PERIOD_WEEK ? 3 * IND_DAY_SECONDS : 0; /* 1970 began on a Thursday */
    int64_t length = every == IND_PERIOD_HOUR  ? 3600
                     : every == IND_PERIOD_DAY ? IND_DAY_SECONDS
                                               : 7 * IND_DAY_SECONDS;
    if (every == IND_PERIOD_MONTH) {
        struct ind_civil civil;
        ind_civil_from_seconds(local, &civil);
        length = (int64_t)ind_days_in_month(civil.year, civil.month) * IND_DAY_SECONDS;
        *within = local - ind_days_from_civil(civil.year, civil.month, 1) * IND_DAY_SECONDS;
        return length;
    }
    *within = (local + shift) % length;
    *within += *within < 0 ? length : 0;
    return length;
}

ind_time ind_period_end(enum ind_period every, const struct ind_zone *zone, ind_time time)
{
    int64_t within;
    if (every == IND_PERIOD_NONE)
        return IND_TIME_NONE;
    const int64_t seconds = ind_time_seconds(time), local = seconds + ind_zone_offset(zone, seconds);
    const int64_t length = period_length(every, local, &within);
    const int64_t end = ind_zone_to_utc(zone, local - within + length);
    /* The end on the local clock may have come once already where the clock was put back within the period.
     */
    return (end > seconds ? end : seconds + length - within) * IND_SECOND;
}

enum ind_rotation_reason ind_rotation_before(const struct ind_rotation_rule *rule,
                                             const struct ind_live_facts *facts, ind_time time, size_t length)
{
    if (facts->messages == 0)
        return IND_ROTATION_NOT;
    if (facts->period_end != IND_TIME_NONE && time >= facts->period_end)
        return IND_ROTATION_PERIOD;
    if (rule->size && facts->size + length > rule->size)
        return IND_ROTATION_SIZE;
    if (rule->messages && facts->messages >= rule->messages)
        return IND_ROTATION_MESSAGES;
    return IND_ROTATION_NOT;
}

enum ind_rotation_reason ind_rotation_due(const struct ind_rotation_rule *rule,
                                          const struct ind_live_facts *facts, ind_time now)
{
    if (facts->messages == 0)
        return IND_ROTATION_NOT;
    if (facts->period_end != IND_TIME_NONE && now >= facts->period_end + IND_ROTATION_GRACE)
        return IND_ROTATION_PERIOD;
    if (rule->size && facts->size >= rule->size)
        return IND_ROTATION_SIZE;
    if (rule->messages && facts->messages >= rule->messages)
        return IND_ROTATION_MESSAGES;
    return IND_ROTATION_NOT;
}
