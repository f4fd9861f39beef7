/* core/route/layout_fields.h: what conditions cannot be asked of a stored line, because its layout does not
 * hold it. */
#ifndef IND_CORE_ROUTE_LAYOUT_FIELDS_H
#define IND_CORE_ROUTE_LAYOUT_FIELDS_H

#include "core/condition/condition.h"
#include "core/line/line.h"

/* Fields that a layout does not hold: a bit 1 << enum ind_field each. */
unsigned ind_layout_lacks(enum ind_layout layout);
/* The same of a line that was cut (message->line_cut), of one that was written by a template, and of a
 * message that somebody else wrote into a file. */
unsigned ind_cut_line_lacks(void);
unsigned ind_template_line_lacks(void);
unsigned ind_foreign_line_lacks(void);

#endif
