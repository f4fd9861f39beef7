#include "core/ledger/ledger.h"

static const struct {
    const char *name, *key;
} ends[IND_ENDS] = {{"stored", "stored"},
                    {"handed on", "handed_on"},
                    {"dropped", "dropped"},
                    {"unrouted", "unrouted"},
                    {"refused: not allowed", "refused_sender"},
                    {"refused: empty", "refused_empty"},
                    {"refused: no trap to be accepted", "refused_trap"},
                    {"lost: buffer full", "lost_buffer"},
                    {"lost: disk", "lost_disk"},
                    {"lost: not taken", "lost_not_taken"}};

const char *ind_end_name(enum ind_end end)
{
    return ends[end].name;
}

const char *ind_end_key(enum ind_end end)
{
    return ends[end].key;
}

void ind_ledger_add(struct ind_ledger *sum, const struct ind_ledger *part)
{
    sum->received += part->received;
    sum->bytes += part->bytes;
    for (int i = 0; i < IND_ENDS; i++)
        sum->ended[i] += part->ended[i];
    sum->waiting += part->waiting;
    sum->malformed += part->malformed;
    sum->cut += part->cut;
    sum->gave_up += part->gave_up;
    for (int i = 0; i < IND_FORMS; i++)
        sum->forms[i] += part->forms[i];
    for (int i = 0; i < IND_SEVERITIES; i++)
        sum->severities[i] += part->severities[i];
}

uint64_t ind_ledger_accounted(const struct ind_ledger *ledger)
{
    uint64_t sum = ledger->waiting;
    for (int i = 0; i < IND_ENDS; i++)
        sum += ledger->ended[i];
    return sum;
}

uint64_t ind_ledger_lost(const struct ind_ledger *ledger)
{
    return ledger->ended[IND_END_LOST_BUFFER] + ledger->ended[IND_END_LOST_DISK] +
           ledger->ended[IND_END_LOST_SINK];
}
