#include "collect/account/tally.h"

void ind_tally_add(struct ind_ledger *ledger, const struct ind_tally *tally)
{
    ledger->received += tally->received;
    ledger->bytes += tally->bytes;
    ledger->malformed += tally->malformed;
    ledger->cut += tally->cut;
    ledger->gave_up += tally->gave_up;
    for (int i = 0; i < IND_FORMS; i++)
        ledger->forms[i] += tally->forms[i];
    for (int i = 0; i < IND_SEVERITIES; i++)
        ledger->severities[i] += tally->severities[i];
    for (int i = 0; i < IND_ENDS; i++)
        ledger->ended[i] += tally->ended[i];
}
