/* Many literals in one pass, and many beginnings at once, against looking for each by itself. */
#include "support/support.h"

#include "support/random.h"

#include "core/find/literals.h"
#include "core/find/prefixes.h"

#include <string.h>

enum { MOST = 400, TEXT = 300, ROUNDS = 1500 };

static uint64_t state = IND_RANDOM_START;

static unsigned any(unsigned below)
{
    return ind_random(&state, below);
}

/* Of few letters, so that much is found, and almost found. */
static struct ind_slice random_text(char *room, unsigned shortest, unsigned longest, unsigned letters)
{
    static const char all[] = "abA 1B.-z\xc3\xa9\0[";
    unsigned length = shortest + any(longest - shortest + 1);
    for (unsigned i = 0; i < length; i++)
        room[i] = all[any(letters)];
    return (struct ind_slice){room, length};
}

struct seen {
    const char *text;
    bool at[MOST][TEXT];
};

static bool see(void *context, uint32_t literal, const char *at)
{
    struct seen *seen = context;
    seen->at[literal][at - seen->text] = true;
    return true;
}

static bool stands(struct ind_slice text, size_t at, struct ind_slice literal, bool nocase)
{
    struct ind_slice rest = ind_slice_from(text, at);
    return nocase ? ind_slice_starts_nocase(rest, literal) : ind_slice_starts(rest, literal);
}

static void every_place_of_every_literal_is_found(void **unused)
{
    static char room[MOST][64], text_room[TEXT];
    static struct seen seen;
    struct ind_slice list[MOST];
    size_t found = 0;
    (void)unused;
    for (unsigned round = 0; round < ROUNDS; round++) {
        unsigned count = any(8) == 0 ? 1 + any(MOST) : 1 + any(12), letters = 3 + any(10);
        unsigned shortest = 1 + any(8);
        bool nocase = any(3) == 0;
        for (unsigned i = 0; i < count; i++)
            list[i] = random_text(room[i], shortest, shortest + any(12), letters);
        struct ind_literals *literals = ind_literals_new(list, count, nocase);
        assert_non_null(literals);
        struct ind_slice text = random_text(text_room, 0, TEXT - 1, letters);
        memset(&seen, 0, sizeof seen);
        seen.text = text.at;
        ind_literals_scan(literals, text, see, &seen);
        const char *first = NULL;
        for (size_t at = 0; at < text.length; at++)
            for (unsigned i = 0; i < count; i++) {
                bool is = stands(text, at, list[i], nocase);
                assert_int_equal(seen.at[i][at], is);
                first = is && !first ? text.at + at : first;
                found += is;
            }
        struct ind_literals_walk walk = {{NULL}};
        const char *next = ind_literals_next(literals, &walk, text.at, text.at + text.length);
        assert_int_equal(next != NULL, first != NULL);
        ind_literals_free(literals);
    }
    assert_true(found > ROUNDS); /* it is not about nothing */
}

/* From line to line as a search goes: no line that holds one is passed. */
static void a_walk_misses_no_line(void **unused)
{
    static char text[1 << 16], room[MOST][64];
    struct ind_slice list[MOST];
    (void)unused;
    for (unsigned round = 0; round < 60; round++) {
        unsigned count = round % 2 ? 1 + any(20) : 70 + any(200);
        for (unsigned i = 0; i < count; i++)
            list[i] = random_text(room[i], 3 + any(6), 14, 12);
        for (size_t i = 0; i < sizeof text; i++)
            text[i] = any(60) == 0 ? '\n' : random_text(text + i, 1, 1, 9).at[0];
        struct ind_literals *literals = ind_literals_new(list, count, false);
        struct ind_literals_walk walk = {{NULL}};
        const char *here = text, *end = text + sizeof text, *hit;
        size_t walked = 0, simply = 0;
        while (here < end && (hit = ind_literals_next(literals, &walk, here, end))) {
            const char *line = memchr(hit, '\n', (size_t)(end - hit));
            walked++;
            here = line ? line + 1 : end;
        }
        for (const char *line = text, *stop; line < end; line = stop + 1) {
            stop = memchr(line, '\n', (size_t)(end - line));
            stop = stop ? stop : end;
            bool holds = false;
            for (const char *at = line; at < stop && !holds; at++)
                for (unsigned i = 0; i < count && !holds; i++)
                    holds = stands((struct ind_slice){line, (size_t)(stop - line)}, (size_t)(at - line),
                                   list[i], false);
            simply += holds;
        }
        assert_int_equal(walked, simply);
        ind_literals_free(literals);
    }
}

static bool begins(struct ind_slice value, const struct ind_prefix *prefix)
{
    for (uint32_t bit = 0; bit < prefix->bits; bit++) {
        unsigned shift = 7 - bit % 8;
        if (bit / 8 >= value.length ||
            (((unsigned char)value.at[bit / 8] ^ (unsigned char)prefix->bytes.at[bit / 8]) >> shift & 1))
            return false;
    }
    return true;
}

static void all_beginnings_of_a_value_are_found(void **unused)
{
    static char room[MOST][24], value_room[32];
    (void)unused;
    for (unsigned round = 0; round < ROUNDS; round++) {
        unsigned wanted = 1 + any(round % 10 ? 20 : MOST), letters = 2 + any(10), count = 0;
        struct ind_prefix *list = calloc(wanted, sizeof *list);
        for (unsigned i = 0; i < wanted; i++) {
            struct ind_slice bytes = random_text(room[i], 1, 20, letters);
            uint32_t bits = (uint32_t)bytes.length * 8 - (any(2) ? any(8) : 0);
            room[i][bytes.length - 1] = (char)(room[i][bytes.length - 1] & 0xFF << (bytes.length * 8 - bits));
            bool twice = false;
            for (unsigned k = 0; k < count; k++)
                twice |= list[k].bits == bits && ind_slice_equal(list[k].bytes, bytes);
            if (!twice)
                list[count++] = (struct ind_prefix){bytes, bits, i, 0};
        }
        struct ind_prefixes prefixes;
        assert_true(ind_prefixes_make(&prefixes, list, count));
        for (unsigned v = 0; v < 20; v++) {
            struct ind_slice value = random_text(value_room, 0, 24, letters);
            bool found[MOST] = {false};
            for (uint32_t at = ind_prefixes_find(&prefixes, value); at; at = prefixes.list[at - 1].above)
                found[at - 1] = true;
            for (unsigned i = 0; i < count; i++)
                assert_int_equal(found[i], begins(value, &prefixes.list[i]));
        }
        ind_prefixes_free(&prefixes);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_place_of_every_literal_is_found),
        cmocka_unit_test(a_walk_misses_no_line),
        cmocka_unit_test(all_beginnings_of_a_value_are_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
