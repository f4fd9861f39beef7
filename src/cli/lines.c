#include "cli/lines.h"

static bool read_form(const char *text, enum ind_line_form *form)
{
    static const char *const names[] = {"raw", "plain", "json", "rfc5424"};
    for (int i = 0; i < 4; i++)
        if (!text || strcmp(text, names[i]) == 0) {
            *form = (enum ind_line_form)i;
            return true;
        }
    ind_complain("--as: unknown layout \"%s\"; expected raw, plain, json or rfc5424", text);
    return false;
}

bool ind_line_options_read(const struct ind_line_options *given, const struct ind_config *config,
                           enum ind_line_form *form, struct ind_slice *sender, ind_time *received)
{
    struct ind_address address;
    if (given->sender && !ind_address_read(ind_slice_of(given->sender), &address)) {
        ind_complain("--sender: \"%s\" is not an address; write one such as 192.0.2.9", given->sender);
        return false;
    }
    *sender = ind_slice_of(given->sender);
    return ind_moment_option("received", given->received, config->zone, false, received) &&
           read_form(given->as, form);
}
