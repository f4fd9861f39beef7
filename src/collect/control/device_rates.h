/* collect/control/device_rates.h: what each account had received, every half minute of the last quarter of an
 * hour: for the rates of a device. Of the control thread. */
#ifndef IND_COLLECT_CONTROL_DEVICE_RATES_H
#define IND_COLLECT_CONTROL_DEVICE_RATES_H

#include "collect/account/book.h"
#include "core/time/steady.h"

struct ind_device_rates;
/* New; NULL where memory is out. Begins with nothing at that moment. */
struct ind_device_rates *ind_device_rates_new(unsigned intakes, struct ind_steady now);
void ind_device_rates_free(struct ind_device_rates *rates);

/* Not more often than every half minute: what comes earlier is passed over. */
void ind_device_rates_add(struct ind_device_rates *rates, const struct ind_ledger_snapshot *snapshots,
                          struct ind_steady now);

/* A moment about so many seconds ago, or the start: how many seconds ago it was, and what an account had
 * received by then. */
struct ind_device_rates_then {
    double seconds; /* 0: nothing is known yet */
    size_t sample;
};
struct ind_device_rates_then ind_device_rates_since(const struct ind_device_rates *rates, unsigned span,
                                                    struct ind_steady now);
uint64_t ind_device_rates_received(const struct ind_device_rates *rates, struct ind_device_rates_then then,
                                   unsigned intake, uint32_t account);

#endif
