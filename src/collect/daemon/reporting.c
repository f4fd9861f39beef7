/* Reports that are made by themselves, as long as there are any. */
#include "collect/daemon/collector_private.h"

#include "collect/reporting/reporting.h"
#include "collect/runtime/internal_message.h"

void ind_reports_follow(struct ind_collector *collector)
{
    const struct ind_config *config = collector->rules->config;
    bool good = true;
    if (ind_is_from_files(collector))
        return;
    if (collector->reporting) {
        good = ind_reporting_adopt(collector->reporting, config);
    } else if (config->report_count) {
        ind_this_machine(collector->host, sizeof collector->host);
        const struct ind_reporting_settings settings = {.state = collector->settings->config->state,
                                                        .host = collector->host,
                                                        .config_path = collector->settings->config_path,
                                                        .reporter = &collector->reporter,
                                                        .clock = &ind_clock_system};
        collector->reporting = ind_reporting_new(&settings, config);
        good = collector->reporting != NULL;
    }
    if (!good)
        ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: reports go on by the rules of before, or not at all");
}
