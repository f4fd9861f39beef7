/* core/escape.h: text from the network made harmless.
 *
 * Control characters (C0, DEL, C1) and bytes that are not UTF-8 (RFC 3629) are written `\n`, `\t`, `\xNN`; a
 * backslash stays. So a message can neither forge a line nor drive a terminal. What is read back is the
 * written form. */
#ifndef IND_CORE_ESCAPE_H
#define IND_CORE_ESCAPE_H

#include "core/scan.h"
#include "core/slice.h"
#include <stdint.h>

#define IND_ONES UINT64_C(0x0101010101010101)

/* Whether any of eight bytes is below `low`, 0x7f or above, or `also`: in the top bit of each. */
static inline uint64_t ind_odd_bytes(uint64_t eight, unsigned low, char also)
{
    uint64_t below = (eight - IND_ONES * low) & ~eight;
    uint64_t del = eight ^ IND_ONES * 0x7f, other = eight ^ IND_ONES * (unsigned char)also;
    uint64_t is_del = (del - IND_ONES) & ~del, is_other = (other - IND_ONES) & ~other;
    return (below | is_del | is_other | eight) & IND_ONES * 0x80;
}

#ifdef IND_SSE2
/* The same of sixteen: all bits of each. As signed numbers, bytes from 0x80 on are below `low` too. */
static inline __m128i ind_odd_sixteen(__m128i bytes, unsigned low, char also)
{
    __m128i del = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(0x7f)),
            other = _mm_cmpeq_epi8(bytes, _mm_set1_epi8(also));
    return _mm_or_si128(_mm_cmplt_epi8(bytes, _mm_set1_epi8((char)low)), _mm_or_si128(del, other));
}
#endif

/* Whether all bytes are from `low` to 0x7e and none is `also`. That is the rule in syslog: it is asked eight
 * bytes at a time, the end overlapping what was looked at already, so that no step goes to a single byte. */
static inline bool ind_is_clean(const char *at, size_t length, unsigned low, char also)
{
    uint64_t eight, odd = 0;
#ifdef IND_SSE2
    if (length >= 16) {
        __m128i found = _mm_setzero_si128();
        for (size_t i = 0;; i = i + 16 < length - 16 ? i + 16 : length - 16) {
            __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)(at + i));
            found = _mm_or_si128(found, ind_odd_sixteen(bytes, low, also));
            if (i == length - 16)
                return _mm_movemask_epi8(found) == 0;
        }
    }
#endif
    if (length >= 8) {
        for (size_t i = 0; i + 8 < length; i += 8) {
            memcpy(&eight, at + i, 8);
            odd |= ind_odd_bytes(eight, low, also);
        }
        memcpy(&eight, at + length - 8, 8);
        return (odd | ind_odd_bytes(eight, low, also)) == 0;
    }
    if (length >= 4) {
        uint32_t head, tail;
        memcpy(&head, at, 4);
        memcpy(&tail, at + length - 4, 4);
        return ind_odd_bytes((uint64_t)tail << 32 | head, low, also) == 0;
    }
    for (size_t i = 0; i < length; i++)
        odd |= (unsigned char)at[i] < low || (unsigned char)at[i] > 126 || at[i] == also;
    return odd == 0;
}

/* Copies `length` bytes and says whether all were clean, in one pass; `to` has room for them. What was copied
 * is of no use where some were not. */
static inline bool ind_copy_clean(char *to, const char *from, size_t length, unsigned low, char also)
{
#ifdef IND_SSE2
    if (length >= 16) {
        __m128i found = _mm_setzero_si128();
        for (size_t i = 0;; i = i + 16 < length - 16 ? i + 16 : length - 16) {
            __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)(from + i));
            _mm_storeu_si128((__m128i *)(void *)(to + i), bytes);
            found = _mm_or_si128(found, ind_odd_sixteen(bytes, low, also));
            if (i == length - 16)
                return _mm_movemask_epi8(found) == 0;
        }
    }
#endif
    if (length <= 32)
        ind_copy_short(to, from, length);
    else
        memcpy(to, from, length);
    return ind_is_clean(from, length, low, also);
}

/* The text of a line: blanks stay. At most four times as long as what went in. */
void ind_escape_text(struct ind_buffer *buffer, struct ind_slice text);

/* One column: blanks become `\x20`, the byte `also` (NUL: none) becomes `\xNN`, nothing at all becomes `-`.
 */
void ind_escape_odd_column(struct ind_buffer *buffer, struct ind_slice text, char also);
static inline void ind_escape_column(struct ind_buffer *buffer, struct ind_slice text, char also)
{
    if (text.length == 0)
        ind_buffer_byte(buffer, '-');
    else if (ind_is_clean(text.at, text.length, ' ' + 1, also))
        ind_buffer_add(buffer, text.at, text.length);
    else
        ind_escape_odd_column(buffer, text, also);
}

/* As the layout `raw` has it: only what would end a line (LF, CR, NUL) is written otherwise. */
void ind_escape_raw(struct ind_buffer *buffer, struct ind_slice bytes);

/* The inside of a JSON string (RFC 8259 section 7); bytes that are not UTF-8 as the text `\xNN`. */
void ind_escape_json(struct ind_buffer *buffer, struct ind_slice text);

/* How many leading bytes are printable ASCII. */
size_t ind_printable_run(const char *at, size_t length);

/* The length of the UTF-8 character at `at`, 0 where there is none; *is_control tells C1 (U+0080 to U+009F).
 */
size_t ind_utf8_character(const char *at, size_t length, bool *is_control);

#endif
