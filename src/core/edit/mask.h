/* core/edit/mask.h: where in a text something stands that is not to be kept.
 *
 * Built-in kinds are found in one pass, whatever their number; docs/edits.md tells what each takes for one.
 * Nothing is changed here and nothing is allocated; steps are linear in the length of the text. */
#ifndef IND_CORE_EDIT_MASK_H
#define IND_CORE_EDIT_MASK_H

#include "core/base/slice.h"
#include <stdint.h>

/* Bits: a mask may have several. */
enum ind_mask_kind {
    IND_MASK_PHONE = 1,   /* international, or national with separators */
    IND_MASK_EMAIL = 2,   /* NAME@HOST.DOMAIN */
    IND_MASK_IPV4 = 4,    /* four numbers up to 255 */
    IND_MASK_IPV6 = 8,    /* RFC 4291 section 2.2 */
    IND_MASK_MAC = 16,    /* six bytes by : or -, or three groups of four digits by . */
    IND_MASK_CARD = 32,   /* 13 to 19 digits with a right check digit (ISO/IEC 7812-1) */
    IND_MASK_SECRET = 64, /* the value behind password, key and the like */
    IND_MASK_KINDS = 7
};

/* "phone" and so on, by the number of the bit; the bit of that name, or 0. */
const char *ind_mask_kind_name(unsigned number);
unsigned ind_mask_kind_read(struct ind_slice name);

/* Bytes from `from` on, before `to`. */
struct ind_span {
    uint32_t from, to;
};

/* Places in their order, without any that touch or overlap. */
struct ind_spans {
    struct ind_span *list; /* whoever begins it owns it */
    size_t count, room;
    bool full; /* there were more: whoever hides them hides all of the text */
};

/* Adds a place; those that it touches become one with it. `from` may be before the last ones. */
void ind_spans_add(struct ind_spans *spans, size_t from, size_t to);

/* Adds all places of the kinds (bits) in the text, whose length fits 32 bits. */
void ind_mask_find(unsigned kinds, struct ind_slice text, struct ind_spans *spans);

#endif
