/* collect/intake/noting.h: what is remembered of a message that an intake has decided. */
#ifndef IND_COLLECT_INTAKE_NOTING_H
#define IND_COLLECT_INTAKE_NOTING_H

#include "collect/account/notes.h"
#include "core/edit/edit.h"
#include "core/message/message.h"

enum { IND_NOTE_ROOM = 8192 };

/* A message as a line of the layout `plain`, without its end, in `room` (IND_NOTE_ROOM bytes): what is long
 * of it is cut, and *cut then set. */
struct ind_slice ind_note_line(const struct ind_message *message, char *room, bool *cut);

/* Adds a message, as the edits left it, to the notes of its account. Of one that was dropped (`dropped`: by
 * which edit, or NULL) only the header and the edit are remembered: edits below might have hidden something.
 */
enum ind_note_fit { IND_NOTE_NOT_ASKED, IND_NOTE_FITS, IND_NOTE_FITS_NOT }; /* a pattern */
void ind_note_message(struct ind_notes *notes, uint32_t account, const struct ind_message *message,
                      const struct ind_edit *dropped, enum ind_note_fit fit);

#endif
