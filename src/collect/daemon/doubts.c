/* What `check` would warn of is told where the configuration comes into force, too. */
#include "collect/daemon/collector_private.h"

void ind_tell_doubts(struct ind_reporter *reporter, const struct ind_diagnostics *diagnostics)
{
    enum { MOST = 5 };
    size_t count = 0;
    for (size_t i = 0; diagnostics && i < diagnostics->count; i++) {
        const struct ind_diagnostic *doubt = &diagnostics->list[i];
        if (!doubt->warning || count++ >= MOST)
            continue;
        if (doubt->source)
            ind_file_own(reporter, IND_OWN_CONFIGURATION_DOUBTFUL,
                         IND_WITH({"file", ind_slice_of(doubt->source->path)}), "%s:%zu:%zu: %s",
                         doubt->source->path, doubt->line, doubt->column, doubt->text);
        else
            ind_file_own(reporter, IND_OWN_CONFIGURATION_DOUBTFUL, NULL, "%s", doubt->text);
    }
    if (count > MOST)
        ind_file_own(reporter, IND_OWN_CONFIGURATION_DOUBTFUL, NULL,
                     "the configuration has %zu more warnings: \"indagator check\" tells them", count - MOST);
}
