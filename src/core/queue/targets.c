#include "core/queue/targets.h"

int ind_targets_to_try(const struct ind_targets *targets, struct ind_steady now, int64_t *wait)
{
    *wait = INT64_MAX;
    for (unsigned i = 0; i < targets->count; i++) {
        const struct ind_target *target = &targets->list[i];
        if (target->up && !targets->share)
            return -1;
        if (target->up)
            continue;
        const int64_t left = ind_steady_is_set(target->again) ? ind_steady_from(now, target->again) : 0;
        if (left <= 0)
            return (int)i;
        *wait = left < *wait ? left : *wait;
    }
    return -1;
}

int ind_targets_first_up(const struct ind_targets *targets)
{
    for (unsigned i = 0; i < targets->count; i++)
        if (targets->list[i].up)
            return (int)i;
    return -1;
}

void ind_target_is_up(struct ind_target *target, struct ind_steady now)
{
    target->up = true;
    target->changed = now;
}

void ind_target_is_down(struct ind_target *target, bool took, struct ind_steady now)
{
    const bool lived = took || (target->up && ind_steady_from(target->changed, now) > IND_TARGET_LONGEST);
    const int64_t twice = target->pause * 2;
    target->pause = lived || target->pause == 0  ? IND_TARGET_SHORTEST
                    : twice < IND_TARGET_LONGEST ? twice
                                                 : IND_TARGET_LONGEST;
    target->again = ind_steady_after(now, target->pause);
    if (target->up || !ind_steady_is_set(target->changed))
        target->changed = now;
    target->up = false;
}
