/* core/message/event_name.h: what happened, by the text of a message that no pattern fits: the same for
 * messages that differ in numbers, addresses and interfaces only. */
#ifndef IND_CORE_MESSAGE_EVENT_NAME_H
#define IND_CORE_MESSAGE_EVENT_NAME_H

#include "core/base/slice.h"

/* Adds the event code that the text begins with (core/message/event_code.h), without its colon; or the text,
 * each word with a digit in it written "#", and several of these, with blanks between, as one. Words end at
 * blanks and at any of ( ) [ ] { } < > , ; = " '. What has no room is left out. Steps are bounded by the
 * text. */
void ind_event_name_write(struct ind_slice text, struct ind_buffer *out);

#endif
