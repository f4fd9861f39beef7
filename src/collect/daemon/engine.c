/* Our own engine of SNMP version 3, to which informs are addressed. */
#include "collect/daemon/collector_private.h"

#include "net/usm_keys.h"
#include "store/disk/engine_file.h"

/* RFC 3411 section 5: an enterprise's number with its first bit set, which says that a format follows; 5:
 * octets of its own. The number is that of documentation (RFC 5612), as this program has none. */
static const char head[] = "\x80\x00\x7e\xd9\x05";
enum { HEAD = sizeof head - 1, OWN = 12 };

static bool has_users(const struct ind_config *config)
{
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].traps && config->listeners[i].traps->user_count)
            return true;
    return false;
}

/* Its starts are counted before it says anything: where that cannot be kept, or was lost, it is another. No
 * receiver asks for it before it has rules with users. */
void ind_engine_begin(struct ind_collector *collector, const struct ind_config *config)
{
    if (!has_users(config) || ind_trap_engines_own(collector->receivers.engines)->id_length)
        return;
    const char *state = collector->settings->config->state;
    struct ind_own_engine own = {.id_length = HEAD + OWN, .began = ind_steady_now()};
    const bool known = ind_engine_file_read(state, own.id, own.id_length, &own.boots);
    own.boots++;
    if (!known || !ind_engine_file_write(state, own.id, own.id_length, own.boots)) {
        memcpy(own.id, head, HEAD);
        (void)ind_usm_random(own.id + HEAD, OWN);
        own.boots = 1;
        (void)ind_engine_file_write(state, own.id, own.id_length, own.boots);
    }
    ind_trap_engines_begin(collector->receivers.engines, &own);
}
