/* The longest beginning that is found is the one that a look at each of them finds; so are those above it. */
#include "support/random.h"
#include "support/support.h"

#include "core/find/prefixes.h"

enum { MOST = 200, ROOM = 24 };

static uint64_t state = IND_RANDOM_START;

/* Few letters, so that many begin alike, also for more than the eight bytes of a head. */
static size_t make_text(char text[ROOM], unsigned alike)
{
    const size_t length = 1 + ind_random(&state, ROOM - 1);
    for (size_t i = 0; i < length; i++)
        text[i] = i < alike ? 'p' : "ab\0\xFF"[ind_random(&state, 4)];
    return length;
}

static bool begins(const struct ind_prefix *prefix, struct ind_slice value)
{
    if (value.length * 8 < prefix->bits)
        return false;
    for (uint32_t bit = 0; bit < prefix->bits; bit++)
        if (((unsigned char)(value.at[bit / 8] ^ prefix->bytes.at[bit / 8]) >> (7 - bit % 8)) & 1)
            return false;
    return true;
}

static void the_longest_beginning_is_found(void **unused)
{
    static char texts[MOST][ROOM];
    (void)unused;
    for (int round = 0; round < 400; round++) {
        const unsigned alike = ind_random(&state, 14);
        size_t count = ind_random(&state, MOST + 1), made = 0;
        struct ind_prefix *list = calloc(MOST + 1, sizeof *list), given[MOST];
        for (size_t i = 0; i < count; i++) {
            const size_t length = make_text(texts[made], alike);
            const unsigned cut = ind_random(&state, 4) ? 0 : ind_random(&state, 8);
            char *last = &texts[made][length - 1];
            *last = (char)((unsigned char)*last >> cut << cut);
            const struct ind_prefix prefix = {
                {texts[made], length}, (uint32_t)length * 8 - cut, (uint32_t)made, 0};
            bool known = false;
            for (size_t k = 0; k < made && !known; k++)
                known = given[k].bits == prefix.bits && begins(&given[k], prefix.bytes);
            if (!known)
                given[made++] = prefix;
        }
        memcpy(list, given, made * sizeof *list);
        struct ind_prefixes prefixes;
        assert_true(ind_prefixes_make(&prefixes, list, made));
        for (int ask = 0; ask < 200; ask++) {
            char text[ROOM];
            const struct ind_slice value = {text, make_text(text, alike)};
            size_t found = 0, wanted = 0;
            uint32_t longest = 0;
            for (size_t i = 0; i < made; i++) {
                const bool is_one = begins(&given[i], value);
                wanted += is_one;
                longest = is_one && given[i].bits > longest ? given[i].bits : longest;
            }
            const uint32_t first = ind_prefixes_find(&prefixes, value);
            assert_int_equal(first ? prefixes.list[first - 1].bits : 0, longest);
            for (uint32_t at = first; at; at = prefixes.list[at - 1].above)
                found += begins(&prefixes.list[at - 1], value);
            assert_int_equal(found, wanted);
        }
        ind_prefixes_free(&prefixes);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_longest_beginning_is_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
