#include "core/message/event_code.h"

#include "core/base/scan.h"
#include "core/base/word.h"

enum { LONGEST = 160 };

static size_t skip_part(struct ind_slice text, size_t at)
{
    while (at < text.length && at < LONGEST && ind_byte_kinds[(unsigned char)text.at[at]] & IND_IN_CODE)
        at++;
    return at;
}

static struct ind_slice piece(struct ind_slice text, size_t from, size_t to)
{
    return (struct ind_slice){text.at + from, to - from};
}

static bool is_severity(struct ind_slice part)
{
    return part.length == 1 && part.at[0] >= '0' && part.at[0] <= '7';
}

/* The colon, after any white space; 0 where there is none. */
static size_t skip_colon(struct ind_slice text, size_t at)
{
    while (at < text.length && at < LONGEST && text.at[at] == ' ')
        at++;
    return at < text.length && text.at[at] == ':' ? at + 1 : 0;
}

/* "%%01GROUP/N/NAME(l)[12]:" */
static bool read_slashed(struct ind_slice text, struct ind_event_code *code)
{
    size_t at = 2;
    while (at < text.length && at < 5 && ind_is_digit(text.at[at]))
        at++;
    size_t group = at;
    at = skip_part(text, at);
    if (at == 2 || at == group || text.length - at < 4 || text.at[at] != '/' || text.at[at + 2] != '/')
        return false;
    code->group = piece(text, group, at);
    code->severity = piece(text, at + 1, at + 2);
    size_t name = at + 3;
    at = skip_part(text, name);
    code->name = piece(text, name, at);
    static const char brackets[] = "()[]";
    for (int i = 0; i < 4; i += 2)
        if (at < text.length && text.at[at] == brackets[i]) {
            while (at < text.length && at < LONGEST && text.at[at] != brackets[i + 1])
                at++;
            at += at < text.length;
        }
    code->subgroup = IND_NOTHING;
    code->length = skip_colon(text, at);
    return code->length && code->name.length && is_severity(code->severity);
}

#ifdef IND_SSE2
/* Bits of sixteen bytes. */
struct code_bits {
    unsigned others, dashes, numbers;
};

static IND_INLINE struct code_bits bits_of(const char *at)
{
    const __m128i bytes = _mm_loadu_si128((const __m128i *)(const void *)at);
    const __m128i small = _mm_or_si128(bytes, _mm_set1_epi8(0x20));
    const __m128i letter = _mm_and_si128(_mm_cmpgt_epi8(small, _mm_set1_epi8('a' - 1)),
                                         _mm_cmpgt_epi8(_mm_set1_epi8('z' + 1), small));
    const __m128i from_zero = _mm_cmpgt_epi8(bytes, _mm_set1_epi8('0' - 1));
    const __m128i digit = _mm_and_si128(from_zero, _mm_cmpgt_epi8(_mm_set1_epi8('9' + 1), bytes));
    const __m128i number = _mm_and_si128(from_zero, _mm_cmpgt_epi8(_mm_set1_epi8('7' + 1), bytes));
    const __m128i dash = _mm_cmpeq_epi8(bytes, _mm_set1_epi8('-'));
    const __m128i part = _mm_or_si128(_mm_or_si128(letter, digit),
                                      _mm_or_si128(dash, _mm_cmpeq_epi8(bytes, _mm_set1_epi8('_'))));
    return (struct code_bits){0xffffu ^ (unsigned)_mm_movemask_epi8(part), (unsigned)_mm_movemask_epi8(dash),
                              (unsigned)_mm_movemask_epi8(number)};
}
#endif

/* The run of bytes that may belong to a code: how long it is, and a bit for each that is a dash or may be N.
 * Most are shorter than the 32 bytes of one look. */
static size_t classify(struct ind_slice text, uint64_t *dashes, uint64_t *numbers)
{
    size_t at = 0, most = text.length < 64 ? text.length : 64;
    *dashes = *numbers = 0;
#ifdef IND_SSE2
    for (; at + 32 <= most; at += 32) {
        const struct code_bits low = bits_of(text.at + at), high = bits_of(text.at + at + 16);
        uint64_t others = low.others | (uint64_t)high.others << 16;
        if (at == 0)
            others &= ~UINT64_C(1); /* the sign in front */
        const unsigned run = ind_lowest_bit(others | UINT64_C(1) << 32);
        const uint64_t in_run = (UINT64_C(1) << run) - 1;
        *dashes |= ((low.dashes | (uint64_t)high.dashes << 16) & in_run) << at;
        *numbers |= ((low.numbers | (uint64_t)high.numbers << 16) & in_run) << at;
        if (run < 32)
            return at + run;
    }
#endif
    for (at += at == 0; at < most; at++) {
        unsigned c = (unsigned char)text.at[at], dash = c == '-';
        if (!(dash | (ind_byte_kinds[c] & IND_IN_CODE)))
            break;
        *dashes |= (uint64_t)dash << at;
        *numbers |= (uint64_t)(c - '0' < 8) << at;
    }
    return at;
}

/* A letter of a severity between two dashes; a bit for the dash before it. */
static uint64_t find_letter(struct ind_slice text, uint64_t dashes)
{
    for (uint64_t pairs = dashes & dashes >> 2; pairs; pairs &= pairs - 1) {
        unsigned at = ind_lowest_bit(pairs) + 1;
        if (text.at[0] == '%' && text.at[at] && strchr("ACDEFINSW", text.at[at]))
            return UINT64_C(1) << (at - 1);
    }
    return 0;
}

/* "%GROUP-SUBGROUP-N-NAME": the first digit between two dashes is N; where there is none, the first letter.
 */
static bool read_dashed(struct ind_slice text, struct ind_event_code *code)
{
    uint64_t dashes, numbers;
    size_t at = classify(text, &dashes, &numbers);
    uint64_t found = dashes & numbers >> 1 & dashes >> 2;
    if (!found)
        found = find_letter(text, dashes);
    if (!found || (dashes & dashes >> 1) || text.at[at - 1] == '-')
        return false;
    unsigned first = ind_lowest_bit(dashes), severity = ind_lowest_bit(found) + 1;
    code->group = piece(text, 1, first);
    code->subgroup = piece(text, first + 1, first + 1 < severity ? severity - 1 : first + 1);
    code->severity = piece(text, severity, severity + 1);
    code->name = piece(text, severity + 2, at);
    code->length = skip_colon(text, at);
    return code->group.length && code->length;
}

bool ind_event_code_read(struct ind_slice text, struct ind_event_code *code)
{
    if (text.length < 6 || (text.at[0] != '%' && text.at[0] != '#'))
        return false;
    return text.at[0] == '%' && text.at[1] == '%' ? read_slashed(text, code) : read_dashed(text, code);
}
