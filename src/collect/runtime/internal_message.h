/* collect/runtime/internal_message.h: messages of our own, as a sender would send them (RFC 5424 section 6).
 */
#ifndef IND_COLLECT_RUNTIME_INTERNAL_MESSAGE_H
#define IND_COLLECT_RUNTIME_INTERNAL_MESSAGE_H

#include "core/edit/edit_state.h"
#include "core/message/own.h"
#include "core/time/civil.h"

enum { IND_INTERNAL_MESSAGE = 2200 };

/* The name of this machine, terminated; "localhost" where it has none. */
void ind_this_machine(char *host, size_t room);

/* Facility syslog, this host, app indagator. */
void ind_internal_message_write(struct ind_buffer *buffer, enum ind_own own, ind_time time,
                                const struct ind_own_data *data, struct ind_slice text);

/* What an edit that remembers has dropped. */
void ind_internal_message_of_edit(struct ind_buffer *buffer, ind_time time,
                                  const struct ind_edit_report *news);

#endif
