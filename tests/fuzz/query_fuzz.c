/* Any bytes as the query of what is asked over HTTP: what was understood is within its bounds. */
#include "collect/control/query.h"

#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    struct ind_pause_query query;
    const char *reason;
    char *text = malloc(size + 1);
    if (!text)
        abort();
    memcpy(text, bytes, size);
    text[size] = '\0';
    if (ind_pause_query_read(text, &query, &reason)) {
        if (query.count > IND_QUERY_LISTENERS || query.after < 0 || query.after > INT64_C(3600000000000))
            abort();
        for (size_t i = 0; i < query.count; i++)
            if (strlen(query.listeners[i]) > size)
                abort();
        ind_pause_query_clear(&query);
    } else if (!*reason) {
        abort();
    }
    struct ind_protect_query protect;
    if (ind_protect_query_read(text, &protect)) {
        if (protect.count == 0 || protect.count > IND_QUERY_LISTENERS ||
            (protect.why && strlen(protect.why) > size))
            abort();
        for (size_t i = 0; i < protect.count; i++)
            if (strlen(protect.archives[i]) > size)
                abort();
        ind_protect_query_clear(&protect);
    }
    struct ind_alert_query alert;
    if (ind_alert_query_read(text, &alert)) {
        const char *const texts[] = {alert.alert, alert.key, alert.who, alert.note};
        for (size_t i = 0; i < 4; i++)
            if (texts[i] && strlen(texts[i]) > size)
                abort();
        if (!alert.alert || alert.span < 0)
            abort();
        ind_alert_query_clear(&alert);
    }
    char *name = ind_query_value(text, "name");
    if (name && strlen(name) > size)
        abort();
    if (ind_query_wants(text, "due") && !strstr(text, "1") && !strstr(text, "%31"))
        abort();
    free(name);
    free(text);
    return 0;
}
