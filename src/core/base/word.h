/* core/base/word.h: eight bytes of text at once, as a number. Internal to core/.
 *
 * What is short and of a fixed form (a PRI, "04:45:00") is looked at and worked out in one number without a
 * branch a byte. The first byte is the lowest on every machine. */
#ifndef IND_CORE_BASE_WORD_H
#define IND_CORE_BASE_WORD_H

#include <stdint.h>
#include <string.h>

static inline uint32_t ind_word4(const char *at)
{
#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    uint32_t word;
    memcpy(&word, at, sizeof word);
    return word;
#else
    unsigned char bytes[4];
    memcpy(bytes, at, sizeof bytes);
    return bytes[0] | (uint32_t)bytes[1] << 8 | (uint32_t)bytes[2] << 16 | (uint32_t)bytes[3] << 24;
#endif
}

static inline uint64_t ind_word8(const char *at)
{
#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    uint64_t word;
    memcpy(&word, at, sizeof word);
    return word;
#else
    return ind_word4(at) | (uint64_t)ind_word4(at + 4) << 32;
#endif
}

/* Four characters as ind_word4 reads them, for constants. */
#define IND_WORD4(a, b, c, d)                                                                                \
    ((uint32_t)(unsigned char)(a) | (uint32_t)(unsigned char)(b) << 8 | (uint32_t)(unsigned char)(c) << 16 | \
     (uint32_t)(unsigned char)(d) << 24)

/* The number of the lowest bit that is set; some bit is. */
static inline unsigned ind_lowest_bit(uint64_t bits)
{
#if defined(__GNUC__) || defined(__clang__)
    return (unsigned)__builtin_ctzll(bits);
#else
    unsigned bit = 0;
    while (!(bits >> bit & 1))
        bit++;
    return bit;
#endif
}

/* The number of the highest. */
static inline unsigned ind_highest_bit(uint64_t bits)
{
#if defined(__GNUC__) || defined(__clang__)
    return 63 - (unsigned)__builtin_clzll(bits);
#else
    unsigned bit = 63;
    while (!(bits >> bit & 1))
        bit--;
    return bit;
#endif
}

/* The top bit of each byte that is above 9. Above one that is, others may be told so too. */
static inline uint64_t ind_above_nine(uint64_t word)
{
    return (word | (word + UINT64_C(0x7676767676767676))) & UINT64_C(0x8080808080808080);
}

#endif
