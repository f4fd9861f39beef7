/* collect/intake/viewer.h: messages as somebody may see them: read as an intake reads them, and as the edits
 * leave them, past a drop; nothing that a mask hides. Nothing is counted, remembered or filed.
 *
 * For followers, explain and rehearse. Belongs to one thread. */
#ifndef IND_COLLECT_INTAKE_VIEWER_H
#define IND_COLLECT_INTAKE_VIEWER_H

#include "collect/intake/origin.h"
#include "config/config.h"
#include "core/base/address.h"

struct ind_viewer;

/* New; borrows the configuration. NULL where memory is out. */
struct ind_viewer *ind_viewer_new(const struct ind_config *config);
void ind_viewer_free(struct ind_viewer *viewer);

/* What is known of an address (0 bits: this machine's local sockets, and ourselves). Borrowed until the next
 * call. */
struct ind_sender *ind_viewer_sender(struct ind_viewer *viewer, const struct ind_address *address);

/* Reads a message, as it came; the answers are for it from now on. Borrowed until the next call; `bytes` must
 * live as long. */
struct ind_message *ind_viewer_read(struct ind_viewer *viewer, enum ind_line_form form,
                                    struct ind_slice bytes, const struct ind_origin *origin);
/* Applies the edits to the message that was read. `call`: see ind_edits_apply. */
void ind_viewer_edit(struct ind_viewer *viewer, const struct ind_origin *origin,
                     const struct ind_edit_call *call);

/* For the message at hand; of the configuration's own conditions, and prepared for its router. */
struct ind_answers *ind_viewer_answers(struct ind_viewer *viewer);

#endif
