#include "collect/control/history.h"

void ind_history_begin(struct ind_history *history, struct ind_steady now)
{
    *history = (struct ind_history){.count = 1, .next = 1};
    history->samples[0].at = now;
}

static const struct ind_history_sample *newest(const struct ind_history *history)
{
    return &history->samples[(history->next + IND_HISTORY_SAMPLES - 1) % IND_HISTORY_SAMPLES];
}

void ind_history_add(struct ind_history *history, const struct ind_history_sample *sample)
{
    /* A timer comes a little early now and then. */
    const int64_t least = IND_HISTORY_SECONDS * IND_SECOND - IND_SECOND / 2;
    if (ind_steady_from(newest(history)->at, sample->at) < least)
        return;
    history->samples[history->next] = *sample;
    history->next = (history->next + 1) % IND_HISTORY_SAMPLES;
    history->count += history->count < IND_HISTORY_SAMPLES;
}

struct ind_history_sample ind_history_since(const struct ind_history *history,
                                            const struct ind_history_sample *now, unsigned span,
                                            double *seconds)
{
    const struct ind_history_sample *from = now;
    for (size_t back = 1; back <= history->count; back++) {
        const struct ind_history_sample *sample =
            &history->samples[(history->next + IND_HISTORY_SAMPLES - back) % IND_HISTORY_SAMPLES];
        if (back > 1 && ind_steady_from(sample->at, now->at) > (int64_t)span * IND_SECOND)
            break;
        from = sample;
    }
    *seconds = (double)ind_steady_from(from->at, now->at) / (double)IND_SECOND;
    return (struct ind_history_sample){now->at, now->received - from->received, now->bytes - from->bytes,
                                       now->lost - from->lost, now->dropped - from->dropped};
}
