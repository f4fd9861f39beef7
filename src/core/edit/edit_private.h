/* core/edit/edit_private.h: an edit at work on a message, for the files of edits only. */
#ifndef IND_CORE_EDIT_EDIT_PRIVATE_H
#define IND_CORE_EDIT_EDIT_PRIVATE_H

#include "core/edit/edit.h"
#include "core/message/framing.h"

/* For a text; for a message's bytes; for labels and fields together. */
enum {
    IND_EDIT_ROOM = IND_MESSAGE_LIMIT,
    IND_EDIT_ORIGINAL_ROOM = 2 * IND_MESSAGE_LIMIT,
    IND_EDIT_ADDED_ROOM = 2 * IND_MESSAGE_LIMIT
};

struct ind_editor {
    struct ind_masker masker;
    uint32_t *passed; /* edits whose conditions hold, from the router */
    uint32_t *changed;
    size_t changed_count;
    char *room;     /* two for each text */
    char *original; /* two */
    unsigned original_buffer;
    struct ind_additions additions;
    struct ind_buffer added; /* values of labels and fields */
    struct ind_path_clock clock;
    char device[256];
};

/* One message on its way through the edits. */
struct ind_edit_run {
    const struct ind_edits *edits;
    struct ind_editor *editor;
    struct ind_message *message;
    struct ind_answers *answers;
    const struct ind_edit_call *call;
    ind_time reference;
    uint32_t number; /* of the edit at hand */
    bool did;        /* it changed something */
};

/* ---- write.c ---- */

struct ind_slice *ind_edit_text_of(struct ind_message *message, enum ind_place_in_message in);
/* Room for a new text there, which is not where the present one lies. */
struct ind_buffer ind_edit_room(struct ind_edit_run *run, enum ind_place_in_message in);
/* Notes, and tells, that the edit at hand changed something. `marks`: of the masker's. */
void ind_edit_changed(struct ind_edit_run *run, enum ind_place_in_message in, struct ind_slice name,
                      struct ind_slice before, struct ind_slice after, size_t marks);
/* A text of the message becomes what is in `value`, which lies in its room. */
void ind_edit_replace(struct ind_edit_run *run, enum ind_place_in_message in, const struct ind_buffer *value,
                      bool is_mask);

#endif
