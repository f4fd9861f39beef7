/* core/base/slice.h: views of bytes that somebody else owns, and a bounded buffer to write into.
 *
 * A slice never owns what it points to and is not terminated. An absent value is a slice of length 0. A
 * buffer refuses what does not fit whole and remembers that it did, so that a writer tests once, at the end.
 */
#ifndef IND_CORE_BASE_SLICE_H
#define IND_CORE_BASE_SLICE_H

#include <stdbool.h>
#include <stddef.h>
#include <string.h>

struct ind_slice {
    const char *at;
    size_t length;
};

/* What is rarely called stays out of the way of what always is, and what always is needs no call. */
#if defined(__GNUC__) || defined(__clang__)
#define IND_COLD __attribute__((noinline))
#define IND_INLINE inline __attribute__((always_inline))
#else
#define IND_COLD
#define IND_INLINE inline
#endif

#define IND_SLICE(literal) ((struct ind_slice){(literal), sizeof(literal) - 1})
/* The same as an initializer, for tables. */
#define IND_LITERAL(literal)                                                                                 \
    {                                                                                                        \
        (literal), sizeof(literal) - 1                                                                       \
    }
#define IND_NOTHING ((struct ind_slice){NULL, 0})

/* For printf's "%.*s"; what is printed must be known to fit an int. */
#define IND_ARG(slice) (int)(slice).length, ((slice).at ? (slice).at : "")

static inline struct ind_slice ind_slice_of(const char *text)
{
    return (struct ind_slice){text, text ? strlen(text) : 0};
}

static inline struct ind_slice ind_slice_from(struct ind_slice slice, size_t start)
{
    return (struct ind_slice){slice.at + start, slice.length - start};
}

static inline bool ind_slice_equal(struct ind_slice a, struct ind_slice b)
{
    return a.length == b.length && (a.length == 0 || memcmp(a.at, b.at, a.length) == 0);
}

/* Takes the next line from `rest`, without its end; the last one may have none. False where there is none
 * left.
 */
static inline bool ind_slice_line(struct ind_slice *rest, struct ind_slice *line)
{
    const char *newline = rest->length ? memchr(rest->at, '\n', rest->length) : NULL;
    *line = (struct ind_slice){rest->at, newline ? (size_t)(newline - rest->at) : rest->length};
    bool any = rest->length > 0;
    *rest = ind_slice_from(*rest, line->length + (newline != NULL));
    return any;
}

/* As memcmp orders them; of two of which one begins the other, the shorter comes first. */
static inline int ind_slice_compare(struct ind_slice a, struct ind_slice b)
{
    size_t shorter = a.length < b.length ? a.length : b.length;
    int order = shorter ? memcmp(a.at, b.at, shorter) : 0;
    return order ? order : (a.length > b.length) - (a.length < b.length);
}

/* Its beginning, of `most` bytes at most, that ends with a whole character of UTF-8. */
static inline struct ind_slice ind_slice_begin(struct ind_slice text, size_t most)
{
    size_t length = text.length < most ? text.length : most;
    while (length > 0 && length < text.length && ((unsigned char)text.at[length] & 0xC0u) == 0x80u)
        length--;
    return (struct ind_slice){text.at, length};
}

static inline bool ind_slice_starts(struct ind_slice whole, struct ind_slice start)
{
    return whole.length >= start.length &&
           (start.length == 0 || memcmp(whole.at, start.at, start.length) == 0);
}

/* ASCII only: names of hosts and of facilities do not depend on a locale. */
static inline char ind_lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c + 32) : c;
}

static inline void ind_lower_all(char *to, struct ind_slice text)
{
    for (size_t i = 0; i < text.length; i++)
        to[i] = ind_lower(text.at[i]);
}

static inline bool ind_is_digit(char c)
{
    return c >= '0' && c <= '9';
}

/* A hexadecimal digit (RFC 5234 appendix B.1, in either case). */
static inline bool ind_is_hex(char c)
{
    return ind_is_digit(c) || (ind_lower(c) >= 'a' && ind_lower(c) <= 'f');
}

static inline bool ind_is_alpha(char c)
{
    return ind_lower(c) >= 'a' && ind_lower(c) <= 'z';
}

static inline bool ind_slice_starts_nocase(struct ind_slice whole, struct ind_slice start)
{
    if (whole.length < start.length)
        return false;
    for (size_t i = 0; i < start.length; i++)
        if (ind_lower(whole.at[i]) != ind_lower(start.at[i]))
            return false;
    return true;
}

static inline bool ind_slice_equal_nocase(struct ind_slice a, struct ind_slice b)
{
    return a.length == b.length && ind_slice_starts_nocase(a, b);
}

struct ind_buffer {
    char *at;
    size_t length;
    size_t capacity;
    bool full; /* something did not fit; what is in the buffer is then a beginning only */
};

static inline struct ind_buffer ind_buffer_on(char *at, size_t capacity)
{
    return (struct ind_buffer){at, 0, capacity, false};
}

static inline bool ind_buffer_room(struct ind_buffer *buffer, size_t length)
{
    if (!buffer->full && buffer->capacity - buffer->length >= length)
        return true;
    buffer->full = true;
    return false;
}

/* Lines are put together from short pieces: for these two overlapping moves are quicker than a call. */
static inline void ind_copy_short(char *to, const char *from, size_t length)
{
    if (length >= 16) {
        char head[16], tail[16];
        memcpy(head, from, 16);
        memcpy(tail, from + (length - 16), 16);
        memcpy(to, head, 16);
        memcpy(to + (length - 16), tail, 16);
    } else if (length >= 8) {
        char head[8], tail[8];
        memcpy(head, from, 8);
        memcpy(tail, from + (length - 8), 8);
        memcpy(to, head, 8);
        memcpy(to + (length - 8), tail, 8);
    } else {
        for (size_t i = 0; i < length; i++)
            to[i] = from[i];
    }
}

static inline void ind_buffer_add(struct ind_buffer *buffer, const char *at, size_t length)
{
    if (length == 0 || !ind_buffer_room(buffer, length))
        return;
    if (length <= 32)
        ind_copy_short(buffer->at + buffer->length, at, length);
    else
        memcpy(buffer->at + buffer->length, at, length);
    buffer->length += length;
}

static inline void ind_buffer_slice(struct ind_buffer *buffer, struct ind_slice slice)
{
    ind_buffer_add(buffer, slice.at, slice.length);
}

/* As much as there is room for. */
static inline void ind_buffer_cut(struct ind_buffer *buffer, struct ind_slice slice)
{
    size_t room = buffer->capacity - buffer->length;
    ind_buffer_add(buffer, slice.at, slice.length < room ? slice.length : room);
    buffer->full |= slice.length > room;
}

static inline void ind_buffer_text(struct ind_buffer *buffer, const char *text)
{
    ind_buffer_add(buffer, text, strlen(text));
}

static inline void ind_buffer_byte(struct ind_buffer *buffer, char c)
{
    if (ind_buffer_room(buffer, 1))
        buffer->at[buffer->length++] = c;
}

/* Decimal, without sign or padding. */
static inline void ind_buffer_number(struct ind_buffer *buffer, unsigned long long number)
{
    char digits[20];
    size_t n = sizeof digits;
    do
        digits[--n] = (char)('0' + number % 10);
    while ((number /= 10) != 0);
    ind_buffer_add(buffer, digits + n, sizeof digits - n);
}

static inline struct ind_slice ind_buffer_view(const struct ind_buffer *buffer)
{
    return (struct ind_slice){buffer->at, buffer->length};
}

#endif
