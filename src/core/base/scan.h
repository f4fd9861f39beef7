/* core/base/scan.h: finding the end of a short field without a branch a byte. Internal to core/.
 *
 * Header fields are short, and their lengths vary: a loop over their bytes mispredicts its end every time.
 * Where the machine has 16-byte compares they are used; otherwise, and near the end of the bytes, a plain
 * loop does the same. */
#ifndef IND_CORE_BASE_SCAN_H
#define IND_CORE_BASE_SCAN_H

#include "core/base/vectors.h"

#include <stdbool.h>
#include <stddef.h>

/* The first space at or after `at`, or `end`. */
static inline const char *ind_scan_blank(const char *at, const char *end)
{
#ifdef IND_SSE2
    const __m128i blank = _mm_set1_epi8(' ');
    while (end - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
        unsigned hits = (unsigned)_mm_movemask_epi8(_mm_cmpeq_epi8(bytes, blank));
        if (hits)
            return at + __builtin_ctz(hits);
        at += 16;
    }
#endif
    while (at < end && *at != ' ')
        at++;
    return at;
}

/* The first of three bytes at or after `at`, or `end`. */
static inline const char *ind_scan_three(const char *at, const char *end, char a, char b, char c)
{
#ifdef IND_SSE2
    const __m128i first = _mm_set1_epi8(a), second = _mm_set1_epi8(b), third = _mm_set1_epi8(c);
    while (end - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
        __m128i hit = _mm_or_si128(_mm_cmpeq_epi8(bytes, first), _mm_cmpeq_epi8(bytes, second));
        unsigned hits = (unsigned)_mm_movemask_epi8(_mm_or_si128(hit, _mm_cmpeq_epi8(bytes, third)));
        if (hits)
            return at + __builtin_ctz(hits);
        at += 16;
    }
#endif
    while (at < end && *at != a && *at != b && *at != c)
        at++;
    return at;
}

/* The first of two bytes at or after `at`, or `end`. */
static inline const char *ind_scan_either(const char *at, const char *end, char a, char b)
{
#ifdef IND_SSE2
    const __m128i first = _mm_set1_epi8(a), second = _mm_set1_epi8(b);
    while (end - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
        unsigned hits = (unsigned)_mm_movemask_epi8(
            _mm_or_si128(_mm_cmpeq_epi8(bytes, first), _mm_cmpeq_epi8(bytes, second)));
        if (hits)
            return at + __builtin_ctz(hits);
        at += 16;
    }
#endif
    while (at < end && *at != a && *at != b)
        at++;
    return at;
}

/* What bytes may be part of: a tag (RFC 3164 section 4.1.3 says letters and digits; paths and names of units
 * are common), a letter, an SD-NAME (RFC 5424 section 6.3: printable ASCII but `=`, `]`, `"` and space); of
 * key=value: a key, what may stand before one, what a key begins with; the parts of an event code. */
enum {
    IND_IN_TAG = 1,
    IND_IS_LETTER = 2,
    IND_IN_DATA_NAME = 4,
    IND_IN_KEY = 8,
    IND_BEFORE_KEY = 16,
    IND_BEGINS_KEY = 32,
    IND_IN_CODE = 64
};
extern const unsigned char ind_byte_kinds[256];

/* How many bytes at `at` may be part of a tag: letters, digits and +-./@_ . *letters: some are letters. */
static inline size_t ind_scan_tag(const char *at, const char *end, bool *letters)
{
    const char *start = at;
    *letters = false;
#ifdef IND_SSE2
#define IND_WITHIN(low, high)                                                                                \
    _mm_and_si128(_mm_cmpgt_epi8(bytes, _mm_set1_epi8((low)-1)),                                             \
                  _mm_cmpgt_epi8(_mm_set1_epi8((high) + 1), bytes))
    if (end - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
        __m128i letter = _mm_or_si128(IND_WITHIN('A', 'Z'), IND_WITHIN('a', 'z'));
        __m128i sign = _mm_andnot_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8(',')), IND_WITHIN('+', '9'));
        sign = _mm_or_si128(sign, _mm_or_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8('@')),
                                               _mm_cmpeq_epi8(bytes, _mm_set1_epi8('_'))));
        unsigned others = 0xffffu ^ (unsigned)_mm_movemask_epi8(_mm_or_si128(letter, sign));
        unsigned run = (unsigned)__builtin_ctz(others | 0x10000u);
        *letters = ((unsigned)_mm_movemask_epi8(letter) & ((1u << run) - 1)) != 0;
        if (run < 16)
            return run;
        at += 16;
    }
#undef IND_WITHIN
#endif
    for (; at < end && ind_byte_kinds[(unsigned char)*at] & IND_IN_TAG; at++)
        *letters |= (ind_byte_kinds[(unsigned char)*at] & IND_IS_LETTER) != 0;
    return (size_t)(at - start);
}

/* Behind the bytes at `at` that may be part of an SD-NAME. */
static inline const char *ind_scan_data_name(const char *at, const char *end)
{
#ifdef IND_SSE2
    while (end - at >= 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
        __m128i odd = _mm_or_si128(_mm_cmplt_epi8(bytes, _mm_set1_epi8('!')),
                                   _mm_cmpeq_epi8(bytes, _mm_set1_epi8(0x7F)));
        odd = _mm_or_si128(odd, _mm_cmpeq_epi8(bytes, _mm_set1_epi8('=')));
        odd = _mm_or_si128(odd, _mm_cmpeq_epi8(bytes, _mm_set1_epi8(']')));
        odd = _mm_or_si128(odd, _mm_cmpeq_epi8(bytes, _mm_set1_epi8('"')));
        unsigned stops = (unsigned)_mm_movemask_epi8(odd);
        if (stops)
            return at + __builtin_ctz(stops);
        at += 16;
    }
#endif
    while (at < end && ind_byte_kinds[(unsigned char)*at] & IND_IN_DATA_NAME)
        at++;
    return at;
}

#endif
