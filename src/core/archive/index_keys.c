#include "core/archive/index.h"

#define XXH_INLINE_ALL
#include <string.h>
#include <xxhash.h>

/* As conditions have it: letters, digits, and whatever is not ASCII make a word. */
enum { OTHER, JOINT, DIGIT, LETTER };

#define O OTHER
#define J JOINT
#define D DIGIT
#define L LETTER
static const uint8_t kinds[256] = {O, O, O, O, O, O, O, O, O, O, O, O, O, O, O, O,
                                   O, O, O, O, O, O, O, O, O, O, O, O, O, O, O, O, /* */
                                   O, O, O, O, O, O, O, O, O, O, O, O, O, J, J, J,
                                   D, D, D, D, D, D, D, D, D, D, J, O, O, O, O, O, /* -./ : */
                                   J, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, O, O, O, O, J, /* @ _ */
                                   O, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, O, O, O, O, O, /* */
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, /* beyond */
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, /* ASCII */
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, /* */
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L,
                                   L, L, L, L, L, L, L, L, L, L, L, L, L, L, L, L};
#undef O
#undef J
#undef D
#undef L

static unsigned kind_of(char c)
{
    return kinds[(unsigned char)c];
}

static bool in_word(char c)
{
    return kinds[(unsigned char)c] >= DIGIT;
}

struct token {
    size_t start, end;
    bool is_number;
    bool is_joined;  /* to the token before it */
    bool is_pointed; /* by one point */
};

/* The last four tokens: where they start, the newest at the end; and a bit for each, the newest lowest. */
struct run {
    const char *text;
    size_t starts[4];
    unsigned numbers, points;
    unsigned length; /* how many of them are joined to each other */
    void (*add)(void *context, uint64_t key);
    void *context;
};

static void add(const struct run *run, size_t start, size_t end)
{
    run->add(run->context, XXH3_64bits_withSeed(run->text + start, end - start, IND_INDEX_TOKEN));
}

static void take(struct run *run, const struct token *token)
{
    for (int i = 0; i < 3; i++)
        run->starts[i] = run->starts[i + 1];
    run->starts[3] = token->start;
    run->numbers = run->numbers << 1 | token->is_number;
    run->points = run->points << 1 | token->is_pointed;
    run->length = token->is_joined ? run->length + 1 : 1;
    const size_t length = token->end - token->start;
    if (length > 3 || (length == 3 && !token->is_number))
        add(run, token->start, token->end);
    if (run->length >= 2 && (run->numbers & 3) != 3)
        add(run, run->starts[2], token->end);
    if (run->length >= 4 && ((run->numbers & 15) != 15 || (run->points & 7) == 7))
        add(run, run->starts[0], token->end);
}

/* The next token from `at` on; false where there is none. `before`: the end of the one before it, or
 * SIZE_MAX. */
static bool next_token(struct ind_slice text, size_t at, size_t before, struct token *token)
{
    const char *bytes = text.at;
    const size_t end = text.length, from = at;
    bool joined = before != SIZE_MAX;
    while (at < end && !in_word(bytes[at]))
        joined &= kind_of(bytes[at++]) == JOINT;
    if (at == end)
        return false;
    const size_t start = at;
    unsigned most = DIGIT;
    for (; at < end; at++) {
        const unsigned kind = kind_of(bytes[at]);
        if (kind < DIGIT)
            break;
        most = kind > most ? kind : most;
    }
    *token = (struct token){.start = start,
                            .end = at,
                            .is_number = most == DIGIT,
                            .is_joined = joined && start - from <= 2,
                            .is_pointed = joined && start - from == 1 && bytes[from] == '.'};
    return true;
}

void ind_index_keys(struct ind_slice text, char *scratch, void (*add_key)(void *context, uint64_t key),
                    void *context)
{
    struct run run = {.text = scratch, .add = add_key, .context = context};
    struct token token = {.end = SIZE_MAX};
    ind_lower_all(scratch, text);
    for (size_t at = 0; next_token(text, at, token.end, &token); at = token.end)
        take(&run, &token);
}

uint64_t ind_index_key(enum ind_index_kind kind, struct ind_slice value)
{
    char lower[256];
    value.length = value.length < sizeof lower ? value.length : sizeof lower;
    ind_lower_all(lower, value);
    return XXH3_64bits_withSeed(lower, value.length, (XXH64_hash_t)kind);
}

struct ind_slice ind_index_inside(struct ind_slice text, bool open_before, bool open_behind)
{
    while (open_before && text.length && in_word(text.at[0]))
        text = ind_slice_from(text, 1);
    while (open_behind && text.length && in_word(text.at[text.length - 1]))
        text.length--;
    return text;
}
