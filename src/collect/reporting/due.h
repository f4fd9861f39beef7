/* collect/reporting/due.h: of what span a report is due. */
#ifndef IND_COLLECT_REPORTING_DUE_H
#define IND_COLLECT_REPORTING_DUE_H

#include "config/config.h"
#include "report/span.h"

/* The last day, week or month that was over, by the clock of `zone`, when it was last `rule->at`. */
bool ind_report_due(const struct ind_report_rule *rule, ind_time now, const struct ind_zone *zone,
                    struct ind_report_span *span);
/* As `report --for` takes it: "2026-11-23", "2026-W48", "2026-11"; of `zone`. */
void ind_report_due_name(const struct ind_report_rule *rule, const struct ind_report_span *span,
                         const struct ind_zone *zone, char text[16]);

#endif
