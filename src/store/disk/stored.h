/* store/disk/stored.h: which layout the lines of a stored file are in, as the journal tells it
 * (docs/formats.md).
 *
 * A code: an enum ind_layout, or one of those below; IND_STORED_OLD is added for files of text that were
 * written before escapes could be undone. A file holds lines of one code only. */
#ifndef IND_STORE_DISK_STORED_H
#define IND_STORE_DISK_STORED_H

#include "config/config.h"
#include "core/line/line.h"

enum {
    IND_STORED_UNKNOWN = -1,           /* the journal does not know the file */
    IND_STORED_TEMPLATE = IND_LAYOUTS, /* lines for other programs: nobody can read them back */
    IND_STORED_OLD = 16,
    IND_STORED_VERSION = 2 /* in the journal; files without one are old */
};

static inline int ind_stored_by(const struct ind_route *route)
{
    return route->line ? IND_STORED_TEMPLATE : (int)route->layout;
}

/* "plain", "template", …: as the journal has it. */
static inline const char *ind_stored_name(int stored)
{
    return stored == IND_STORED_TEMPLATE ? "template" : ind_layout_name((enum ind_layout)stored).at;
}

static inline int ind_stored_read(struct ind_slice name, uint64_t version)
{
    int layout = ind_slice_equal(name, IND_SLICE("template")) ? IND_STORED_TEMPLATE : ind_layout_read(name);
    /* Objects tell themselves how their strings are written. */
    bool old = version < IND_STORED_VERSION && layout != IND_LAYOUT_JSON;
    return layout < 0 ? IND_STORED_UNKNOWN : old ? layout + IND_STORED_OLD : layout;
}

#endif
