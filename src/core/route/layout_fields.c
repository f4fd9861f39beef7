#include "core/route/layout_fields.h"

#define BIT(field) (1u << IND_FIELD_##field)

unsigned ind_layout_lacks(enum ind_layout layout)
{
    const unsigned receipt = BIT(SENDER) | BIT(LISTENER) | BIT(TRANSPORT) | BIT(CERTIFICATE);
    switch (layout) {
    case IND_LAYOUT_JSON:
        return BIT(ORIGINAL);
    case IND_LAYOUT_PLAIN:
        return receipt | BIT(ORIGINAL);
    case IND_LAYOUT_RFC5424: /* its HOSTNAME is the host, or else the device: nobody can tell which */
        return receipt | BIT(ORIGINAL) | BIT(LAG) | BIT(HOST) | BIT(DEVICE) | BIT(LABEL);
    default: /* by whom it was sent, and when it came, is not in the bytes */
        return receipt | BIT(LAG) | BIT(DEVICE) | BIT(LABEL) | BIT(TIME) | BIT(DAY);
    }
}

unsigned ind_cut_line_lacks(void)
{
    return BIT(HOST) | BIT(DEVICE) | BIT(APP) | BIT(PROCID) | BIT(MSGID) | BIT(TEXT) | BIT(ORIGINAL) |
           BIT(PATTERN) | BIT(DATA) | BIT(FIELD);
}

unsigned ind_foreign_line_lacks(void)
{
    return BIT(SENDER) | BIT(LISTENER) | BIT(TRANSPORT) | BIT(CERTIFICATE) | BIT(LAG);
}

unsigned ind_template_line_lacks(void)
{
    return ~0u;
}
