/* config/edit_private.h: one edit while it is read. Internal to config/. */
#ifndef IND_CONFIG_EDIT_PRIVATE_H
#define IND_CONFIG_EDIT_PRIVATE_H

#include "config/load.h"

struct ind_edit_text {
    struct ind_edit *edit;
    struct ind_route *rule;
    const struct ind_node *node, *name, *when, *what[IND_EDIT_KINDS], *with, *in;
};

/* "mask", "label", …, as keys. */
extern const char *const ind_edit_kind_names[IND_EDIT_KINDS];

/* Reads what an edit of the kind that text->edit has does. */
void ind_load_edit_kind(struct ind_loader *loader, struct ind_edit_text *text, const struct ind_node *value);
/* Where a mask looks: `in`. */
void ind_load_edit_places(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit);

#endif
