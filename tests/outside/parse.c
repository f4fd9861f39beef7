/* A program outside the tree: built with nothing but what is installed (tests/outside/test.sh). */
#include "core/message/header.h"
#include "core/message/names.h"
#include "core/payload/payload.h"

#include <stdio.h>
#include <string.h>

int main(void)
{
    static const char bytes[] = "<164>Nov 23 04:45:00 harbour-fw kernel: DENY SRC=203.0.113.7 DPT=23";
    static struct ind_payload payload;
    static char scratch[IND_PAYLOAD_SCRATCH];
    struct ind_zone *utc = ind_zone_fixed(0);
    struct ind_message message;
    struct ind_slice source;
    size_t from = 0;
    ind_header_read(bytes, sizeof bytes - 1, INT64_C(1795409100) * IND_SECOND, utc, &message);
    ind_payload_read(&message, scratch, sizeof scratch, &payload);
    if (!ind_payload_find(&payload, IND_SLICE("SRC"), &from, &source))
        return 1;
    printf("%.*s %.*s %.*s %.*s\n", IND_ARG(ind_severity_name(message.severity)), IND_ARG(message.host),
           IND_ARG(message.app), IND_ARG(source));
    ind_zone_free(utc);
    return 0;
}
