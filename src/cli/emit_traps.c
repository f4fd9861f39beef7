#include "cli/emit_traps.h"

#include "cli/cli.h"
#include "collect/runtime/clock.h"
#include "core/trap/trap.h"

#include <stdlib.h>

enum { DATAGRAM = 65507 };

struct ind_emit_traps {
    struct ind_trap_names *names;
    const char *community;
    struct ind_steady began;
    int64_t sent;
    char datagram[DATAGRAM];
};

struct ind_emit_traps *ind_emit_traps_new(const char *community)
{
    struct ind_emit_traps *traps = calloc(1, sizeof *traps);
    if (!traps)
        return NULL;
    traps->community = community;
    traps->began = ind_steady_now();
    traps->names = ind_trap_names_new(NULL, 0);
    if (traps->names)
        return traps;
    ind_emit_traps_free(traps);
    return NULL;
}

void ind_emit_traps_free(struct ind_emit_traps *traps)
{
    if (!traps)
        return;
    ind_trap_names_free(traps->names);
    free(traps);
}

struct ind_slice ind_emit_trap(struct ind_emit_traps *traps, struct ind_slice text)
{
    struct ind_slice where;
    struct ind_ber_out out = {traps->datagram, DATAGRAM, DATAGRAM, false};
    const int64_t hundredths = ind_steady_from(traps->began, ind_steady_now()) / (IND_SECOND / 100);
    if (!ind_trap_bindings(text, traps->names, (uint64_t)hundredths, &out, &where)) {
        ind_complain(out.full
                         ? "the trap \"%.*s\" is too long for a datagram"
                         : "nobody knows \"%.*s\": write the name of a standard trap or variable, such as "
                           "\"linkDown ifIndex=3 ifDescr=ge0/3\", or an identifier such as "
                           "1.3.6.1.4.1.32473.0.7",
                     IND_ARG(where));
        return IND_NOTHING;
    }
    ind_trap_put_pdu(&out, IND_PDU_TRAP, ++traps->sent, DATAGRAM);
    ind_trap_put_v2c(&out, ind_slice_of(traps->community), DATAGRAM);
    return ind_ber_written(&out);
}
