#include "core/ledger/clock_offset.h"

#include <stdlib.h>

enum {
    RIGHT = 2, /* seconds: the way here, and the second to which many devices round */
    MINUTE = 60,
    QUARTER = 900, /* zones differ by whole quarters of an hour */
    WIDEST_ZONE = 14 * 3600,
    UNSET = 300 * 86400, /* nobody's clock is that far off by itself */
    DRIFT_TIME = 3600,   /* a drift is reported after an hour … */
    STEP = 600           /* … and beyond so many seconds a day somebody has set the clock */
};

static int by_size(const void *a, const void *b)
{
    ind_time x = *(const ind_time *)a, y = *(const ind_time *)b;
    return (x > y) - (x < y);
}

/* The middle one, and the distance between the quarters. */
static ind_time median_of(const struct ind_clock_offset *lag, ind_time *spread)
{
    ind_time sorted[IND_LAG_SAMPLES];
    size_t count = lag->count < IND_LAG_SAMPLES ? lag->count : IND_LAG_SAMPLES;
    memcpy(sorted, lag->samples, count * sizeof *sorted);
    qsort(sorted, count, sizeof *sorted, by_size);
    *spread = sorted[count * 3 / 4 < count ? count * 3 / 4 : count - 1] - sorted[count / 4];
    return sorted[count / 2];
}

static double seconds_of(ind_time time)
{
    return (double)time / (double)IND_SECOND;
}

static double drift_of(const struct ind_clock_offset *lag, ind_time median)
{
    double days = seconds_of(lag->last_at - lag->first_at) / (double)IND_DAY_SECONDS;
    return seconds_of(median - lag->first) / days;
}

void ind_clock_offset_add(struct ind_clock_offset *lag, ind_time at, ind_time sample, bool unset)
{
    lag->unset = lag->unset << 1 | unset;
    lag->messages += lag->messages < IND_LAG_SAMPLES;
    if (sample == IND_TIME_NONE)
        return;
    lag->samples[lag->count % IND_LAG_SAMPLES] = sample;
    lag->count++;
    lag->count -= lag->count == UINT32_MAX ? IND_LAG_SAMPLES : 0;
    lag->last_at = at;
    if (lag->count % IND_LAG_SAMPLES)
        return;
    ind_time spread, median = median_of(lag, &spread);
    double moved = seconds_of(median - lag->first), drift = at > lag->first_at ? drift_of(lag, median) : 0;
    bool stepped =
        (moved > (double)RIGHT || moved < -(double)RIGHT) && (drift > (double)STEP || drift < -(double)STEP);
    if (lag->first_at == 0 || stepped) {
        lag->first_at = at;
        lag->first = median;
    }
}

static unsigned bits_of(uint32_t bits)
{
    unsigned count = 0;
    for (; bits; bits &= bits - 1)
        count++;
    return count;
}

void ind_clock_offset_sum_up(const struct ind_clock_offset *lag, struct ind_clock_offset_summary *summary)
{
    *summary = (struct ind_clock_offset_summary){0};
    summary->never_set = bits_of(lag->unset) * 2 > lag->messages;
    summary->known = lag->count > 0;
    if (!summary->known)
        return;
    summary->median = median_of(lag, &summary->spread);
    summary->never_set |= seconds_of(summary->median) > (double)UNSET;
    if (!lag->first_at || seconds_of(lag->last_at - lag->first_at) < (double)DRIFT_TIME || summary->never_set)
        return;
    double moved = seconds_of(summary->median - lag->first);
    summary->drift = drift_of(lag, summary->median);
    moved = moved < 0 ? -moved : moved;
    summary->drifts =
        moved > 0.25 && moved > seconds_of(summary->spread) && (summary->drift >= 1 || summary->drift <= -1);
}

static void put_part(struct ind_buffer *buffer, uint64_t number, const char *unit, bool padded)
{
    if (padded && number < 10)
        ind_buffer_byte(buffer, '0');
    ind_buffer_number(buffer, number);
    ind_buffer_text(buffer, unit);
}

void ind_span_write(struct ind_buffer *buffer, uint64_t seconds)
{
    static const struct {
        uint64_t size;
        const char *unit;
    } units[] = {{86400, " d"}, {3600, " h"}, {60, " min"}, {1, " s"}};
    size_t i = 0;
    while (i < 3 && seconds < units[i].size)
        i++;
    put_part(buffer, seconds / units[i].size, units[i].unit, false);
    if (i == 3 || (i == 0 && seconds >= 100 * 86400))
        return;
    ind_buffer_byte(buffer, ' ');
    put_part(buffer, seconds % units[i].size / units[i + 1].size, units[i + 1].unit, true);
}

/* Whole quarters of an hour, as zones differ. */
static bool looks_like_a_zone(uint64_t seconds, uint64_t spread)
{
    uint64_t past = seconds % QUARTER, off = past < QUARTER - past ? past : QUARTER - past;
    return seconds > QUARTER && seconds < WIDEST_ZONE + QUARTER && off <= MINUTE && spread <= MINUTE;
}

static uint64_t size_of(double seconds)
{
    return (uint64_t)((seconds < 0 ? -seconds : seconds) + 0.5);
}

void ind_clock_offset_write(struct ind_buffer *buffer, const struct ind_clock_offset_summary *summary)
{
    double median = seconds_of(summary->median);
    uint64_t size = size_of(median), spread = size_of(seconds_of(summary->spread));
    if (summary->never_set) {
        ind_buffer_text(buffer, "never set");
        return;
    }
    if (!summary->known) {
        ind_buffer_byte(buffer, '-');
        return;
    }
    if (median < (double)RIGHT && median > -(double)RIGHT) {
        ind_buffer_text(buffer, "right");
    } else {
        if (looks_like_a_zone(size, spread))
            size = (size + MINUTE / 2) / MINUTE * MINUTE;
        ind_span_write(buffer, size);
        ind_buffer_text(buffer, median > 0 ? " behind" : " ahead");
        if (looks_like_a_zone(size, spread))
            ind_buffer_text(buffer, ": is its zone set?");
    }
    if (spread >= 5) {
        ind_buffer_text(buffer, ", give or take ");
        ind_span_write(buffer, (spread + 1) / 2);
    }
    if (summary->drifts) {
        ind_buffer_text(buffer, ", drifts ");
        ind_span_write(buffer, size_of(summary->drift));
        ind_buffer_text(buffer, " a day");
    }
}
