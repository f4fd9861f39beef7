#include "store/search/search.h"

/* What edits gave to a message is in no line, or is not looked for there: labels come from the present
 * configuration, fields from the text. */
unsigned ind_search_lost_in_edits(const struct ind_config *config)
{
    unsigned fields = 0;
    for (size_t i = 0; i < config->edits.count; i++)
        for (size_t c = 0; c < config->edits.list[i].change_count; c++) {
            enum ind_place_in_message in = config->edits.list[i].changes[c].in;
            fields |= in == IND_IN_LABEL   ? 1u << IND_FIELD_LABEL
                      : in == IND_IN_FIELD ? 1u << IND_FIELD_FIELD
                                           : 0;
        }
    return fields;
}
