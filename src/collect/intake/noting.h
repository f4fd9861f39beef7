/* collect/intake/noting.h: what is remembered of a message that an intake has decided. */
#ifndef IND_COLLECT_INTAKE_NOTING_H
#define IND_COLLECT_INTAKE_NOTING_H

#include "collect/account/notes.h"
#include "core/edit/edit.h"
#include "core/message/message.h"

/* Adds a message, as the edits left it, to the notes of its account. Of one that was dropped (`dropped`: by
 * which edit, or NULL) only the header and the edit are remembered: edits below might have hidden something.
 */
void ind_note_message(struct ind_notes *notes, uint32_t account, const struct ind_message *message,
                      const struct ind_edit *dropped);

#endif
