/* config/outline.h: a configuration as lines of text, so that two of them can be compared: what a reload
 * would change.
 *
 *     PART tab NAME tab KEY tab VALUE newline
 *
 * PART is "setting", "listen", "device", "pattern", "condition", "edit", "route", "relay" or "archive"; KEY
 * is empty where the thing has one value only. Rules stand in the order in which they act; the keys of a
 * thing, and of maps in a value, in the order of the alphabet. Comments, quotes and layout make no
 * difference. Control characters and backslashes in values are escaped. */
#ifndef IND_CONFIG_OUTLINE_H
#define IND_CONFIG_OUTLINE_H

#include "core/base/slice.h"

struct ind_outline_line {
    struct ind_slice part, name, key, value;
};

/* The next line of an outline, which *rest is moved behind; false where there is none, or it is no line of an
 * outline. */
bool ind_outline_next(struct ind_slice *rest, struct ind_outline_line *line);

/* Whether a setting is read at the start only, so that a reload that changes it is refused. */
bool ind_outline_needs_restart(const struct ind_outline_line *line);

#endif
