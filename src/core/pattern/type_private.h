/* core/pattern/type_private.h: what the scanners of types share. Internal to core/. */
#ifndef IND_CORE_PATTERN_TYPE_PRIVATE_H
#define IND_CORE_PATTERN_TYPE_PRIVATE_H

#include "core/base/scan.h"
#include "core/pattern/type.h"

enum { IND_LONGEST_NUMBER = 64, IND_LONGEST_PREFIX = 64 }; /* bound what is looked at in vain */

#ifdef IND_SSE2
/* Fields are short, and their lengths vary: a loop over their bytes mispredicts its end every time. So, where
 * 16 bytes are there, they are looked at together: a bit for each byte that is of a kind. */
static inline __m128i ind_sse_within(__m128i bytes, char low, char high)
{
    return _mm_and_si128(_mm_cmpgt_epi8(bytes, _mm_set1_epi8((char)(low - 1))),
                         _mm_cmpgt_epi8(_mm_set1_epi8((char)(high + 1)), bytes));
}

static inline __m128i ind_sse_sixteen(const char *at)
{
    return _mm_loadu_si128((const __m128i *)(const void *)at);
}

static inline __m128i ind_sse_letters(__m128i bytes)
{
    return ind_sse_within(_mm_or_si128(bytes, _mm_set1_epi8(0x20)), 'a', 'z');
}

static inline unsigned ind_sse_bits(__m128i hits)
{
    return (unsigned)_mm_movemask_epi8(hits);
}

/* How many of the first bits are set, 16 at most. */
static inline unsigned ind_sse_first_run(unsigned set)
{
    return (unsigned)__builtin_ctz(~set | 1u << 16);
}
#endif

static inline const char *ind_scan_run(const char *at, const char *end, unsigned kinds)
{
    while (at < end && ind_type_byte(*at, kinds))
        at++;
    return at;
}

/* At least `least` and at most `most` digits; NULL where there are fewer, or more. */
static inline const char *ind_scan_digits(const char *at, const char *end, int least, int most)
{
#ifdef IND_SSE2
    if (end - at >= 16) {
        unsigned length = ind_sse_first_run(ind_sse_bits(ind_sse_within(ind_sse_sixteen(at), '0', '9')));
        if (length < 16)
            return (int)length < least || (int)length > most ? NULL : at + length;
    }
#endif
    const char *stop = ind_scan_run(at, end - at > most ? at + most + 1 : end, IND_TYPE_DIGIT);
    return stop - at < least || stop - at > most ? NULL : stop;
}

static inline bool ind_scan_next_is(const char *at, const char *end, char c)
{
    return at < end && *at == c;
}

/* type_time.c */
const char *ind_scan_time(const char *at, const char *end);
const char *ind_scan_duration(const char *at, const char *end);
#endif
