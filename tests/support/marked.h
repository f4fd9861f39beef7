/* tests/support/marked.h: what a mask finds in a text, made visible. */
#ifndef IND_TESTS_MARKED_H
#define IND_TESTS_MARKED_H

#include "core/edit/mask.h"

/* The text with what is found between ~: good until the next call. */
static inline const char *ind_marked(unsigned kinds, const char *text)
{
    static struct ind_span room[4096];
    static char out[8192];
    struct ind_spans spans = {room, 0, sizeof room / sizeof *room, false};
    size_t at = 0;
    struct ind_buffer buffer = ind_buffer_on(out, sizeof out - 1);
    ind_mask_find(kinds, ind_slice_of(text), &spans);
    for (size_t i = 0; i < spans.count; i++) {
        ind_buffer_add(&buffer, text + at, room[i].from - at);
        ind_buffer_byte(&buffer, '~');
        ind_buffer_add(&buffer, text + room[i].from, room[i].to - room[i].from);
        ind_buffer_byte(&buffer, '~');
        at = room[i].to;
    }
    ind_buffer_text(&buffer, text + at);
    out[buffer.length] = '\0';
    return out;
}

#endif
