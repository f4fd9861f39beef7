/* tests/support/message.h: a message to ask, and the conditions that tests ask of it. */
#ifndef IND_TESTS_MESSAGE_H
#define IND_TESTS_MESSAGE_H

#include "support/support.h"

#include "core/message/message.h"

/* local4 warning, sent and received at one moment. */
static inline struct ind_message ind_example_message(void)
{
    struct ind_message message = {.facility = 20, .severity = 4, .time = INT64_C(1795409100) * IND_SECOND};
    message.received = message.sent = message.time;
    message.host = IND_SLICE("Pier1-RTR.skerry.example");
    message.device = IND_SLICE("pier1-rtr");
    message.sender = IND_SLICE("192.0.2.9");
    message.app = IND_SLICE("ospf");
    message.text = IND_SLICE("neighbour 192.0.2.131 is down");
    return message;
}

#endif
