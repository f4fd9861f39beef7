/* core/base/mask.h: where bytes of a kind stand in a block of 64, a bit each, the first byte the lowest.
 * Internal to core/.
 *
 * The ends of several fields are read from one mask: no look at the bytes between them, and no branch on how
 * long each is. The plain way of ind_mask_of says the same without vectors; who asks for pairs has a
 * plain way of its own, which is quicker there. */
#ifndef IND_CORE_BASE_MASK_H
#define IND_CORE_BASE_MASK_H

#include "core/base/scan.h"
#include "core/base/word.h"

enum { IND_BLOCK = 64 };

/* The bits of the bytes that are `c` among eight, without vectors. */
static inline uint64_t ind_mask_eight(const char *at, char c)
{
    const uint64_t low = UINT64_C(0x7F7F7F7F7F7F7F7F);
    uint64_t word = ind_word8(at) ^ UINT64_C(0x0101010101010101) * (unsigned char)c;
    uint64_t zeros = ~(((word & low) + low) | word | low); /* the top bit of each byte that is zero */
    return (zeros >> 7) * UINT64_C(0x0102040810204080) >> 56;
}

/* Of the 64 bytes at `at`, which are there. */
static inline uint64_t ind_mask_of(const char *at, char c)
{
    uint64_t mask = 0;
#ifdef IND_SSE2
    const __m128i wanted = _mm_set1_epi8(c);
    for (unsigned i = 0; i < IND_BLOCK; i += 16) {
        __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)(at + i));
        mask |= (uint64_t)(unsigned)_mm_movemask_epi8(_mm_cmpeq_epi8(bytes, wanted)) << i;
    }
#else
    for (unsigned i = 0; i < IND_BLOCK; i += 8)
        mask |= ind_mask_eight(at + i, c) << i;
#endif
    return mask;
}

#ifdef IND_SSE2
/* Of the 64 bytes at `at`, which are there, what key=value is taken apart by. */
struct ind_pair_masks {
    uint64_t equals;
    uint64_t ends;   /* blank, tab, comma, semicolon: a bare value may end there */
    uint64_t in_key; /* letters, digits and _ . - */
};

static inline void ind_mask_pairs(const char *at, struct ind_pair_masks *masks)
{
    *masks = (struct ind_pair_masks){0, 0, 0};
    for (unsigned i = 0; i < IND_BLOCK; i += 16) {
        const __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)(at + i));
        const __m128i small = _mm_or_si128(bytes, _mm_set1_epi8(0x20));
        __m128i in = _mm_and_si128(_mm_cmpgt_epi8(small, _mm_set1_epi8('a' - 1)),
                                   _mm_cmpgt_epi8(_mm_set1_epi8('z' + 1), small));
        const __m128i from_dash = _mm_and_si128(_mm_cmpgt_epi8(bytes, _mm_set1_epi8('-' - 1)),
                                                _mm_cmpgt_epi8(_mm_set1_epi8('9' + 1), bytes));
        in = _mm_or_si128(in, _mm_andnot_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8('/')), from_dash));
        in = _mm_or_si128(in, _mm_cmpeq_epi8(bytes, _mm_set1_epi8('_')));
        const __m128i ends = _mm_or_si128(_mm_or_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8(' ')),
                                                       _mm_cmpeq_epi8(bytes, _mm_set1_epi8('\t'))),
                                          _mm_or_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8(',')),
                                                       _mm_cmpeq_epi8(bytes, _mm_set1_epi8(';'))));
        const __m128i equals = _mm_cmpeq_epi8(bytes, _mm_set1_epi8('='));
        masks->in_key |= (uint64_t)(unsigned)_mm_movemask_epi8(in) << i;
        masks->ends |= (uint64_t)(unsigned)_mm_movemask_epi8(ends) << i;
        masks->equals |= (uint64_t)(unsigned)_mm_movemask_epi8(equals) << i;
    }
}
#endif

#endif
