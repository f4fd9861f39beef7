#include "collect/control/device_rates.h"

#include <stdlib.h>
#include <string.h>

enum { APART = 30, SAMPLES = 15 * 60 / APART + 2 };

struct account_counts {
    uint64_t *received; /* by account; NULL: none, or no memory */
    uint32_t count;
};

struct ind_device_rates {
    unsigned intakes;
    struct ind_steady at[SAMPLES]; /* around */
    struct account_counts counts[SAMPLES][IND_MOST_INTAKES];
    size_t count, next;
};

struct ind_device_rates *ind_device_rates_new(unsigned intakes, struct ind_steady now)
{
    struct ind_device_rates *rates = calloc(1, sizeof *rates);
    if (!rates)
        return NULL;
    rates->intakes = intakes;
    rates->at[0] = now;
    rates->count = rates->next = 1;
    return rates;
}

static void forget(struct ind_device_rates *rates, size_t sample)
{
    for (unsigned i = 0; i < rates->intakes; i++) {
        free(rates->counts[sample][i].received);
        rates->counts[sample][i] = (struct account_counts){0};
    }
}

void ind_device_rates_free(struct ind_device_rates *rates)
{
    for (size_t i = 0; rates && i < SAMPLES; i++)
        forget(rates, i);
    free(rates);
}

void ind_device_rates_add(struct ind_device_rates *rates, const struct ind_ledger_snapshot *snapshots,
                          struct ind_steady now)
{
    const size_t last = (rates->next + SAMPLES - 1) % SAMPLES, sample = rates->next;
    if (ind_steady_lately(rates->at[last], now, APART * IND_SECOND))
        return;
    forget(rates, sample);
    for (unsigned i = 0; i < rates->intakes; i++) {
        struct account_counts *counts = &rates->counts[sample][i];
        const uint32_t count = snapshots[i].ledgers ? snapshots[i].account_count : 0;
        counts->received = count ? malloc(count * sizeof *counts->received) : NULL;
        counts->count = counts->received ? count : 0;
        for (uint32_t n = 0; n < counts->count; n++)
            counts->received[n] = snapshots[i].ledgers[n].received;
    }
    rates->at[sample] = now;
    rates->next = (sample + 1) % SAMPLES;
    rates->count += rates->count < SAMPLES;
}

struct ind_device_rates_then ind_device_rates_since(const struct ind_device_rates *rates, unsigned span,
                                                    struct ind_steady now)
{
    size_t sample = 0;
    for (size_t i = 1; i <= rates->count; i++) {
        sample = (rates->next + SAMPLES - i) % SAMPLES;
        if (ind_steady_from(rates->at[sample], now) >= (int64_t)span * IND_SECOND)
            break;
    }
    return (struct ind_device_rates_then){(double)ind_steady_from(rates->at[sample], now) / 1e9, sample};
}

uint64_t ind_device_rates_received(const struct ind_device_rates *rates, struct ind_device_rates_then then,
                                   unsigned intake, uint32_t account)
{
    const struct account_counts *counts = &rates->counts[then.sample][intake];
    return account < counts->count ? counts->received[account] : 0;
}
