/* core/message/structured_data.h: walking through structured data (RFC 5424 section 6.3) that header.c found
 * whole. Internal to core/. */
#ifndef IND_CORE_MESSAGE_STRUCTURED_DATA_H
#define IND_CORE_MESSAGE_STRUCTURED_DATA_H

#include "core/base/slice.h"

/* How many bytes at the start of `text` are structured data: one or more elements; 0 where they are none, or
 * broken. */
size_t ind_data_length(struct ind_slice text);

/* A parameter: its name, and its value between the quotes as written, escapes and all. */
struct ind_param {
    struct ind_slice name, value;
    size_t next; /* where to look for the one behind it */
};

/* The element at `at`: its SD-ID; *params is where its parameters begin. False at the end. */
bool ind_data_element(struct ind_slice data, size_t at, struct ind_slice *id, size_t *params);

/* One whole element. */
struct ind_element {
    struct ind_slice id;
    size_t params, after; /* where its parameters begin, and what stands behind it */
};

/* The element at `at`; false at the end. */
bool ind_data_next(struct ind_slice data, size_t at, struct ind_element *element);

/* The parameter at `at`; false at the end of the element, which *after then points behind. */
bool ind_data_param(struct ind_slice data, size_t at, struct ind_param *param, size_t *after);

/* Whether an escape stands at `at`: the byte behind it is meant. */
static inline bool ind_data_is_escape(struct ind_slice value, size_t at)
{
    if (value.at[at] != '\\' || at + 1 >= value.length)
        return false;
    char next = value.at[at + 1];
    return next == '"' || next == '\\' || next == ']';
}

/* Escapes undone (section 6.3.3): `\"`, `\\`, `\]`. Adds as many bytes as the value has, or fewer. */
void ind_data_unescape(struct ind_slice value, struct ind_buffer *buffer);

#endif
