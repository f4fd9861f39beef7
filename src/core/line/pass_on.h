/* core/line/pass_on.h: a message as it is passed on to another collector (docs/relays.md).
 *
 * In the form of RFC 5424, with the first sender in the structured data `origin` (section 7.2), and how often
 * the message was passed on in an element of our own. Bytes of data and text are as they came: framing counts
 * octets. */
#ifndef IND_CORE_LINE_PASS_ON_H
#define IND_CORE_LINE_PASS_ON_H

#include "core/message/message.h"

enum ind_pass_on {
    IND_PASS_ON_RFC5424,
    IND_PASS_ON_AS_RECEIVED,
    IND_PASS_ON_JSON /* as a stored line of that layout: core/line/line.h writes it */
};

/* How often a message is passed on at most: then relays pass it round in a circle. */
enum { IND_PASS_ON_HOPS = 8 };

/* Adds the message without any end; nothing where it has been passed on too often. Where the buffer has no
 * room buffer->full is set, which cannot happen where IND_LINE_MOST bytes are free: of what edits have made
 * longer than that the beginning is passed on. True where it had to be cut. */
bool ind_pass_on_write(enum ind_pass_on form, const struct ind_message *message, struct ind_buffer *buffer);

#endif
