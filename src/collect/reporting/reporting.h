/* collect/reporting/reporting.h: reports that are made by themselves: a thread looks which are due, has each
 * made by a process of its own in the idle class, and delivered. What was delivered last is in
 * STATE/reports.json: one that was missed while no collector ran is made at the next start. */
#ifndef IND_COLLECT_REPORTING_REPORTING_H
#define IND_COLLECT_REPORTING_REPORTING_H

#include "collect/alert/courier.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/reporter.h"
#include "config/config.h"

/* Everything is borrowed for as long as the reporting. */
struct ind_reporting_settings {
    const char *state, *host;
    const char *program;     /* the path of our own; NULL: that of this process */
    const char *config_path; /* which it is called with */
    struct ind_reporter *reporter;
    const struct ind_clock *clock;
};

struct ind_reporting;

/* New, with its thread, which copies the rules; NULL where memory or threads are out. */
struct ind_reporting *ind_reporting_new(const struct ind_reporting_settings *settings,
                                        const struct ind_config *config);
/* Other rules from now on. False where memory is out: the rules are as before. */
bool ind_reporting_adopt(struct ind_reporting *reporting, const struct ind_config *config);
/* Breaks off what is under way: it is made again at the next start. Accepts NULL. */
void ind_reporting_free(struct ind_reporting *reporting);

#endif
