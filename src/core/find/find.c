/* Two bytes of the literal are compared at 16 or 32 places at once; only where both fit is the whole
 * compared. The two are those that logs hold least, so that almost every block is passed with two loads.
 * Where the machine has no such instructions, memchr looks for the rarest byte. */
#include "core/find/find.h"

#include "core/base/vectors.h"

#include <stdint.h>

/* How common a byte is in logs, roughly: 0 rare, 255 common. Digits and small letters by their frequency in
 * such text; only the order matters. */
unsigned ind_byte_commonness(unsigned char c)
{
    static const char by_frequency[] = " 0123e.-ti4ano5r:67s8d9l=cpufmhTbgkyvwZx_/,[]()jzq";
    const char *found = c ? strchr(by_frequency, c) : NULL;
    if (found)
        return 255u - (unsigned)(found - by_frequency) * 2u;
    return c >= 'A' && c <= 'Z' ? 120u : c < 128 ? 60u : 20u;
}

struct ind_finder ind_finder_for(struct ind_slice literal)
{
    struct ind_finder finder = {literal, 0, literal.length - 1};
    for (size_t i = 0; i < literal.length; i++)
        if (ind_byte_commonness((unsigned char)literal.at[i]) <
            ind_byte_commonness((unsigned char)literal.at[finder.first]))
            finder.first = i;
    bool chosen = false;
    for (size_t i = 0; i < literal.length; i++) {
        if (i == finder.first || literal.at[i] == literal.at[finder.first])
            continue;
        if (!chosen || ind_byte_commonness((unsigned char)literal.at[i]) <
                           ind_byte_commonness((unsigned char)literal.at[finder.second]))
            finder.second = i;
        chosen = true;
    }
    return finder;
}

static const char *find_plain(const struct ind_finder *finder, const char *at, size_t length)
{
    const struct ind_slice literal = finder->literal;
    const char *end = at + length - literal.length + 1;
    while (at < end) {
        const char *rare = memchr(at + finder->first, literal.at[finder->first], (size_t)(end - at));
        if (!rare)
            return NULL;
        at = rare - finder->first;
        if (memcmp(at, literal.at, literal.length) == 0)
            return at;
        at++;
    }
    return NULL;
}

#ifdef IND_AVX2
__attribute__((target("avx2"))) static const char *find_avx2(const struct ind_finder *finder, const char *at,
                                                             size_t length)
{
    const struct ind_slice literal = finder->literal;
    const __m256i first = _mm256_set1_epi8(literal.at[finder->first]);
    const __m256i second = _mm256_set1_epi8(literal.at[finder->second]);
    size_t places = length - literal.length + 1, place = 0;
    for (; place + 64 <= places; place += 64) {
        const char *a = at + place + finder->first, *b = at + place + finder->second;
        __m256i low =
            _mm256_and_si256(_mm256_cmpeq_epi8(first, _mm256_loadu_si256((const __m256i *)(const void *)a)),
                             _mm256_cmpeq_epi8(second, _mm256_loadu_si256((const __m256i *)(const void *)b)));
        __m256i high = _mm256_and_si256(
            _mm256_cmpeq_epi8(first, _mm256_loadu_si256((const __m256i *)(const void *)(a + 32))),
            _mm256_cmpeq_epi8(second, _mm256_loadu_si256((const __m256i *)(const void *)(b + 32))));
        if (_mm256_testz_si256(_mm256_or_si256(low, high), _mm256_or_si256(low, high)))
            continue;
        uint64_t hits =
            (uint64_t)(uint32_t)_mm256_movemask_epi8(high) << 32 | (uint32_t)_mm256_movemask_epi8(low);
        for (; hits; hits &= hits - 1) {
            const char *candidate = at + place + (unsigned)__builtin_ctzll(hits);
            if (memcmp(candidate, literal.at, literal.length) == 0)
                return candidate;
        }
    }
    return place < places ? find_plain(finder, at + place, length - place) : NULL;
}
#endif

const char *ind_find(const struct ind_finder *finder, const char *at, size_t length)
{
    if (length < finder->literal.length)
        return NULL;
#ifdef IND_AVX2
    if (length >= 64 + finder->literal.length && __builtin_cpu_supports("avx2"))
        return find_avx2(finder, at, length);
#endif
    return find_plain(finder, at, length);
}
