/* core/base/escape.h: text from the network made harmless, and given back as it was.
 *
 * Control characters (C0, DEL, C1, and U+202A to U+202E and U+2066 to U+2069, which turn the order of what is
 * shown) and bytes that are not UTF-8 (RFC 3629) are written `\n`, `\t`, `\r`, `\xNN`. So a message can
 * neither forge a line nor drive a terminal.
 *
 * In stored lines that can be undone: a backslash is doubled exactly where what is written next is one of
 * `n t r x \`, the beginning of an escape included. What is only shown has its backslashes as they are. */
#ifndef IND_CORE_BASE_ESCAPE_H
#define IND_CORE_BASE_ESCAPE_H

#include "core/base/scan.h"
#include "core/base/slice.h"
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
/* The same of sixteen: all bits of each. With one added, as signed numbers, DEL and what is above it are
 * below `low` too. */
static inline __m128i ind_odd_sixteen(__m128i bytes, unsigned low, char also)
{
    const __m128i next = _mm_add_epi8(bytes, _mm_set1_epi8(1));
    return _mm_or_si128(_mm_cmplt_epi8(next, _mm_set1_epi8((char)(low + 1))),
                        _mm_cmpeq_epi8(bytes, _mm_set1_epi8(also)));
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

/* Copies `length` bytes and says whether all were clean, and none was `other` either, in one pass; `to` has
 * room for them. What was copied is of no use where some were not. */
static inline bool ind_copy_clean_but(char *to, const char *from, size_t length, unsigned low, char also,
                                      char other)
{
#ifdef IND_SSE2
    if (length >= 16) {
        const __m128i last = _mm_set1_epi8(other);
        __m128i found = _mm_setzero_si128();
        size_t i = 0;
        do { /* the last sixteen overlap what was copied already */
            i = i < length - 16 ? i : length - 16;
            __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)(from + i));
            _mm_storeu_si128((__m128i *)(void *)(to + i), bytes);
            found = _mm_or_si128(found, ind_odd_sixteen(bytes, low, also));
            if (other != also) /* known where this is put in */
                found = _mm_or_si128(found, _mm_cmpeq_epi8(bytes, last));
            i += 16;
        } while (i < length);
        return _mm_movemask_epi8(found) == 0;
    }
#endif
    if (length <= 32)
        ind_copy_short(to, from, length);
    else
        memcpy(to, from, length);
    return ind_is_clean(from, length, low, also) &&
           (other == also || length == 0 || ind_is_clean(from, length, 0, other));
}

static inline bool ind_copy_clean(char *to, const char *from, size_t length, unsigned low, char also)
{
    return ind_copy_clean_but(to, from, length, low, also, also);
}

/* For people: what is shown need not be read back. At most four times as long as what went in, as are all
 * below but JSON's. */
void ind_escape_shown(struct ind_buffer *buffer, struct ind_slice text);

/* The text at the end of a line: spaces stay. Nothing at all is `-`, and a `-` alone `\x2d`. */
void ind_escape_text(struct ind_buffer *buffer, struct ind_slice text);

/* One column: spaces become `\x20`, and so does each of the bytes of `also`; otherwise as above. */
void ind_escape_odd_column(struct ind_buffer *buffer, struct ind_slice text, const char *also);
static inline void ind_escape_column(struct ind_buffer *buffer, struct ind_slice text)
{
    if (text.length > 1 && ind_is_clean(text.at, text.length, ' ' + 1, '\\'))
        ind_buffer_add(buffer, text.at, text.length);
    else
        ind_escape_odd_column(buffer, text, "");
}

/* As the layout `raw` has it: only what would end a line (LF, CR, NUL) is written otherwise. */
void ind_escape_raw(struct ind_buffer *buffer, struct ind_slice bytes);

/* Structured data within a line of RFC 5424: stays structured data (section 6.3.3). A backslash that is no
 * escape there becomes `\x5c` where it would begin one of ours. */
void ind_escape_data(struct ind_buffer *buffer, struct ind_slice data);

/* Undoes all of these but the last, respectively that one. Writes at most `written.length` bytes to `to`,
 * which may be where `written` is; returns how many. */
size_t ind_unescape(char *to, struct ind_slice written);
size_t ind_unescape_data(char *to, struct ind_slice written);

/* The inside of a JSON string (RFC 8259 section 7). Without `reversible` bytes that are not UTF-8 become the
 * text `\xNN`, and false is returned where there were any: then nobody can tell whether it stood there. With
 * it a backslash is doubled where what is written next is `x` or `\`; ind_unescape_json undoes that. `key`:
 * a NUL counts as no UTF-8, since readers end a name there. At most six times as long. */
bool ind_escape_json(struct ind_buffer *buffer, struct ind_slice text, bool reversible, bool key);
size_t ind_unescape_json(char *to, struct ind_slice written);

/* The value of a hexadecimal digit; -1 where it is none. */
int ind_hex_digit(char c);

/* Of the four at `at`, as JSON's `\uNNNN` has them; -1 where one is no such digit. */
int ind_hex_four(const char *at);

/* A code point as UTF-8 (RFC 3629 section 3): one to four bytes; up to U+FFFF at most three. Half a surrogate
 * pair is written as if it were a character. */
void ind_utf8_put(struct ind_buffer *buffer, unsigned code);

/* How many leading bytes are printable ASCII. */
size_t ind_printable_run(const char *at, size_t length);

/* The length of the UTF-8 character at `at`, 0 where there is none; *is_control tells what must not reach a
 * terminal: C0, DEL, C1 (U+0080 to U+009F), and what turns the order of what is shown. */
size_t ind_utf8_character(const char *at, size_t length, bool *is_control);

#endif
