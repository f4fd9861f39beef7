/* core/line/line_private.h: what the writers and readers of lines share. Internal to core/. */
#ifndef IND_CORE_LINE_LINE_PRIVATE_H
#define IND_CORE_LINE_LINE_PRIVATE_H

#include "core/base/escape.h"
#include "core/line/line.h"

#include <stdint.h>

/* The end of a line of text that was cut. No message can write it: its own `\x` would have its backslash
 * doubled. */
#define IND_CUT_MARK " \\x[cut]"

/* Whether 16 bytes may be read at `at`: they belong to the message as received. */
static inline bool ind_line_is_within(struct ind_slice original, const char *at)
{
    const uintptr_t first = (uintptr_t)original.at, place = (uintptr_t)at;
    return place >= first && original.length >= 16 && place - first <= original.length - 16;
}

/* Copies a text of `original`, or any, and says whether all its bytes are clean (core/base/escape.h) and none
 * is `other`; `brackets`: nor a parenthesis. `to` has room for it and for 16 bytes more, which may be
 * written. */
static IND_INLINE bool ind_line_copy_clean(char *to, struct ind_slice text, struct ind_slice original,
                                           unsigned low, char also, char other, bool brackets)
{
#ifdef IND_SSE2
    if (text.length <= 16 && ind_line_is_within(original, text.at)) {
        const __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)text.at);
        __m128i odd = ind_odd_sixteen(bytes, low, also);
        if (other != also)
            odd = _mm_or_si128(odd, _mm_cmpeq_epi8(bytes, _mm_set1_epi8(other)));
        if (brackets) /* they differ in the lowest bit */
            odd =
                _mm_or_si128(odd, _mm_cmpeq_epi8(_mm_or_si128(bytes, _mm_set1_epi8(1)), _mm_set1_epi8(')')));
        _mm_storeu_si128((__m128i *)(void *)to, bytes);
        return ((unsigned)_mm_movemask_epi8(odd) & ((1u << text.length) - 1)) == 0;
    }
#endif
    (void)original;
    return ind_copy_clean_but(to, text.at, text.length, low, also, other) &&
           !(brackets && text.length &&
             (memchr(text.at, '(', text.length) || memchr(text.at, ')', text.length)));
}

/* Writes a time to `at`, where IND_TIME_WIDTH_MOST bytes are free; returns where it ends. */
char *ind_line_put_time(char *at, struct ind_line_clock *clock, ind_time time);

/* The layout `plain`, in plain.c: a whole line with its end at one go; false, and nothing is added, where
 * something in it is to be escaped, or there is little room. */
bool ind_line_write_plain(const struct ind_message *message, struct ind_line_clock *clock,
                          struct ind_buffer *buffer);

/* Any message in that layout, column by column, without its end. */
void ind_line_write_columns(const struct ind_message *message, struct ind_line_clock *clock,
                            struct ind_buffer *buffer);

/* The layout `json`, in json.c. `cut`: the message has been shortened. */
void ind_line_write_json(const struct ind_message *message, struct ind_line_clock *clock, bool cut,
                         struct ind_buffer *buffer);

#endif
