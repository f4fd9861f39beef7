#include "collect/relay/relay_tls.h"

#include "core/base/fingerprint.h"
#include "net/broker.h"
#include <stdio.h>

struct ind_tls *ind_relay_tls_new(const struct ind_relay_rule *rule, char *reason, size_t room)
{
    struct ind_fingerprint fingerprint;
    struct ind_tls_fault fault;
    const bool pinned = rule->trust && ind_fingerprint_read(ind_slice_of(rule->trust), &fingerprint);
    const struct ind_tls_settings settings = {.certificate = rule->certificate,
                                              .key = rule->key,
                                              .authorities = pinned ? NULL : rule->trust,
                                              .fingerprints = pinned ? &fingerprint : NULL,
                                              .fingerprint_count = pinned};
    const char *const files[IND_TLS_PARTS + 1] = {rule->certificate, rule->key, rule->trust};
    struct ind_tls *tls = ind_tls_client_new(&settings, &fault);
    if (!tls)
        snprintf(reason, room, "%s: %s", files[fault.part] ? files[fault.part] : "TLS", fault.text);
    return tls;
}

static void warn_of_end(const struct ind_relay_rule *rule, const struct ind_tls *tls, ind_time now,
                        struct ind_diagnostics *diagnostics)
{
    const struct ind_tls_expiries *expiries = ind_tls_expiries(tls);
    for (int i = 0; i < IND_TLS_PARTS; i++) {
        char day[IND_TIME_WIDTH];
        struct ind_buffer time = ind_buffer_on(day, sizeof day);
        if (!ind_tls_expires_soon(expiries->ends[i], now))
            continue;
        ind_time_write(&time, expiries->ends[i]);
        ind_diagnostic_add(
            diagnostics, true, NULL, 0, 0,
            "the relay %s: the certificate of \"%s\" ends on %.10s; put a new one in its place", rule->name,
            expiries->names[i], day);
    }
}

void ind_relay_tls_check(const struct ind_config *config, ind_time now, struct ind_diagnostics *diagnostics)
{
    for (size_t i = 0; i < config->relay_count; i++) {
        const struct ind_relay_rule *rule = &config->relays[i];
        char reason[600];
        if (rule->form == IND_PASS_ON_JSON && !ind_broker_is_built_in())
            ind_diagnostic_add(
                diagnostics, true, NULL, 0, 0,
                "the relay %s: this program is built without NATS (libnats): nothing goes there", rule->name);
        if (!rule->trust && !rule->certificate)
            continue;
        struct ind_tls *tls = ind_relay_tls_new(rule, reason, sizeof reason);
        if (tls)
            warn_of_end(rule, tls, now, diagnostics);
        else
            ind_diagnostic_add(diagnostics, true, NULL, 0, 0, "the relay %s: %s", rule->name, reason);
        ind_tls_release(tls);
    }
}
