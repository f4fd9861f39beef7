/* Random sets of layouts on random texts, against a second matcher that is as simple as it can be: it fits
 * each layout by itself, writes down the steps it took, and takes the one whose steps come first by the rule
 * of core/pattern/pattern.h. */
#include "support/support.h"

#include "core/pattern/pattern.h"

#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>

enum { SETS = 10000, TEXTS = 10, LAYOUTS = 10, LONGEST = 64, STEPS = 200 };

static unsigned long seed = 20261123;

static unsigned roll(unsigned sides)
{
    seed = seed * 6364136223846793005ul + 1442695040888963407ul;
    return (unsigned)(seed >> 33) % sides;
}

/* ---- The simple matcher ---- */

struct step {
    int rank; /* 0: a literal byte; a field: 1 and its type */
    struct ind_slice expression;
    size_t end;
};

struct simple {
    struct ind_syntax_text layout;
    struct ind_slice app; /* empty: all */
    struct ind_slice text;
    struct step steps[STEPS];
    size_t count;
    size_t ends[IND_SYNTAX_FIELDS][2]; /* what the fields took */
};

static bool is_blank(char c)
{
    return c == ' ' || c == '\t';
}

static bool is_word_byte(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_';
}

/* Where an expression ends; 0: nowhere. */
static size_t expression_end(struct ind_slice expression, struct ind_slice text, size_t at)
{
    int error;
    PCRE2_SIZE offset;
    pcre2_code *code =
        pcre2_compile((PCRE2_SPTR)expression.at, expression.length, PCRE2_ANCHORED, &error, &offset, NULL);
    pcre2_match_data *match = pcre2_match_data_create(1, NULL);
    int found = pcre2_match(code, (PCRE2_SPTR)text.at, text.length, at, PCRE2_NOTEMPTY, match, NULL);
    size_t end = found > 0 ? pcre2_get_ovector_pointer(match)[1] : 0;
    pcre2_match_data_free(match);
    pcre2_code_free(code);
    return end;
}

static bool fit_from(struct simple *simple, size_t piece, size_t byte, size_t at, size_t field);

static bool fit_field(struct simple *simple, size_t number, size_t at, size_t end, size_t field)
{
    const struct ind_syntax_piece *piece = &simple->layout.pieces[number];
    size_t before = simple->count;
    simple->steps[simple->count++] = (struct step){1 + (int)piece->type, piece->text, end};
    simple->ends[field][0] = at;
    simple->ends[field][1] = end;
    if (fit_from(simple, number + 1, 0, end, field + 1))
        return true;
    simple->count = before;
    return false;
}

/* A remainder directly behind a field: that ends where it may. */
static bool may_end(const struct simple *simple, size_t number, size_t at)
{
    const struct ind_syntax_piece *before = number ? &simple->layout.pieces[number - 1] : NULL;
    struct ind_slice text = simple->text;
    if (!before || !before->field || at == text.length)
        return true;
    if (before->type == IND_TYPE_WORD)
        return is_blank(text.at[at]);
    if (is_word_byte(text.at[at]))
        return !is_word_byte(text.at[at - 1]);
    return !(text.at[at] == '.' && at + 1 < text.length && ind_is_digit(text.at[at + 1]) &&
             ind_is_digit(text.at[at - 1]));
}

static bool fit_from(struct simple *simple, size_t number, size_t byte, size_t at, size_t field)
{
    struct ind_slice text = simple->text;
    if (number == simple->layout.count)
        return at == text.length;
    const struct ind_syntax_piece *piece = &simple->layout.pieces[number];
    if (!piece->field && byte == piece->text.length)
        return fit_from(simple, number + 1, 0, at, field);
    if (!piece->field) {
        size_t to = at;
        char c = piece->text.at[byte];
        if (c == ' ')
            while (to < text.length && is_blank(text.at[to]))
                to++;
        else
            to += at < text.length && text.at[at] == c;
        if (to == at)
            return false;
        simple->steps[simple->count++] = (struct step){0, IND_NOTHING, to};
        if (fit_from(simple, number, byte + 1, to, field))
            return true;
        simple->count--;
        return false;
    }
    if (piece->type == IND_TYPE_REMAINDER)
        return may_end(simple, number, at) && fit_field(simple, number, at, text.length, field);
    if (piece->type == IND_TYPE_WORD || piece->type == IND_TYPE_TEXT) {
        for (size_t end = at + 1; end <= text.length; end++) {
            if (piece->type == IND_TYPE_WORD && is_blank(text.at[end - 1]))
                return false;
            if (fit_field(simple, number, at, end, field))
                return true;
        }
        return false;
    }
    if (piece->type == IND_TYPE_RE) {
        size_t end = expression_end(piece->text, text, at);
        return end && fit_field(simple, number, at, end, field);
    }
    const char *end = ind_type_scan(piece->type, text.at + at, text.at + text.length);
    return end && fit_field(simple, number, at, (size_t)(end - text.at), field);
}

static int order_of(const struct simple *a, const struct simple *b)
{
    for (size_t i = 0; i < a->count && i < b->count; i++) {
        const struct step *x = &a->steps[i], *y = &b->steps[i];
        if (x->rank != y->rank)
            return x->rank - y->rank;
        size_t common =
            x->expression.length < y->expression.length ? x->expression.length : y->expression.length;
        int order = common ? memcmp(x->expression.at, y->expression.at, common) : 0;
        if (order)
            return order;
        if (x->expression.length != y->expression.length)
            return x->expression.length < y->expression.length ? -1 : 1;
        if (x->end != y->end)
            return x->end < y->end ? -1 : 1;
    }
    if (a->count != b->count)
        return a->count < b->count ? -1 : 1;
    return (a->app.length == 0) - (b->app.length == 0);
}

/* The number of the layout that takes the text; -1. */
static int simple_match(struct simple *list, size_t count, struct ind_slice text, struct ind_slice app)
{
    int best = -1;
    for (size_t i = 0; i < count; i++) {
        list[i].text = text;
        list[i].count = 0;
        bool fits =
            (list[i].app.length == 0 || ind_slice_equal(list[i].app, app)) && fit_from(&list[i], 0, 0, 0, 0);
        if (fits && (best < 0 || order_of(&list[i], &list[best]) < 0))
            best = (int)i;
    }
    return best;
}

/* ---- Random cases ---- */

static const char *const literals[] = {"a",  "b", " ",   " ",  "1",  ":",  "x ",
                                       "ab", ".", "a b", "up", "  ", "9.", "-"};
static const char *const fields[] = {
    "{:int}",       "{n:int}",       "{w:word}", "{v:word}",   "{t:text}",    "{s:text}",      "{:remainder}",
    "{i:ip}",       "{f:interface}", "{h:hex}",  "{q:quoted}", "{d:decimal}", "{r:re([ab]+)}", "{e:re(a|1)}",
    "{u:duration}", "{o:host}",      "{m:mac}",  "{c:time}",   "{p:path}"};
static const char *const pieces[] = {"a",  "b",   " ",       "1",        "22",        ":",     "x",   "ab",
                                     ".",  "up",  "\"a b\"", "ge0/1",    "192.0.2.9", "  ",    "a b", "3d",
                                     "\t", "4.5", "-",       "04:45:00", "/a/b",      "host.a"};

static size_t make_layout(char *text)
{
    size_t length = 0, count = 1 + roll(6);
    bool field = roll(2);
    for (size_t i = 0; i < count; i++, field = !field || roll(6) == 0) {
        const char *piece = field ? fields[roll(sizeof fields / sizeof *fields)]
                                  : literals[roll(sizeof literals / sizeof *literals)];
        memcpy(text + length, piece, strlen(piece));
        length += strlen(piece);
    }
    return length;
}

/* Texts that fit are rare among random ones: most are made along a layout. */
static size_t make_text(const struct simple *like, char *text)
{
    size_t length = 0;
    if (roll(4) == 0) {
        while (length < LONGEST / 3 && roll(8)) {
            const char *piece = pieces[roll(sizeof pieces / sizeof *pieces)];
            memcpy(text + length, piece, strlen(piece));
            length += strlen(piece);
        }
        return length;
    }
    for (size_t i = 0; i < like->layout.count && length < LONGEST / 2; i++) {
        const struct ind_syntax_piece *piece = &like->layout.pieces[i];
        struct ind_slice put = piece->text;
        if (piece->field)
            put = ind_slice_of(pieces[roll(sizeof pieces / sizeof *pieces)]);
        memcpy(text + length, put.at, put.length);
        length += put.length;
    }
    return length;
}

static struct ind_slice trimmed(struct ind_slice text)
{
    while (text.length && is_blank(text.at[0]))
        text = ind_slice_from(text, 1);
    while (text.length && is_blank(text.at[text.length - 1]))
        text.length--;
    return text;
}

static void check_text(struct ind_matcher *matcher, const struct ind_patterns *set, struct simple *list,
                       size_t count, struct ind_slice text, size_t *fitted)
{
    struct ind_slice app = roll(2) ? IND_SLICE("one") : IND_SLICE("two");
    text = trimmed(text);
    int wanted = text.length ? simple_match(list, count, text, app) : -1;
    const struct ind_pattern_syntax *found = ind_match(matcher, text, app, false);
    int got = found ? (int)(found - ind_patterns_syntax(set, 0)) : -1;
    if (got != wanted) {
        for (size_t i = 0; i < count; i++)
            print_error("%zu: %.*s\n", i, IND_ARG(ind_patterns_syntax(set, i)->source));
        print_error("text \"%.*s\": %d, not %d\n", IND_ARG(text), got, wanted);
    }
    assert_int_equal(got, wanted);
    *fitted += found != NULL;
    for (size_t i = 0; found && i < found->field_count; i++) {
        struct ind_slice value = ind_match_field(matcher, &found->fields[i]);
        size_t quotes = found->fields[i].type == IND_TYPE_QUOTED;
        assert_int_equal(value.at - text.at, list[got].ends[i][0] + quotes);
        assert_int_equal(value.length, list[got].ends[i][1] - list[got].ends[i][0] - 2 * quotes);
    }
}

static void what_fits_is_what_comes_first_by_the_rule(void **state)
{
    (void)state;
    static struct simple list[LAYOUTS];
    size_t fitted = 0;
    for (int round = 0; round < SETS; round++) {
        struct ind_patterns *set = ind_patterns_new();
        static const struct ind_slice apps[] = {{"one", 3}, {"two", 3}};
        size_t count = 0, tries = 1 + roll(LAYOUTS);
        uint32_t numbers[3];
        for (size_t i = 0; i < 3; i++)
            assert_true(ind_patterns_add(set, IND_SLICE("p"), i ? &apps[i - 1] : NULL, i > 0, &numbers[i]));
        for (size_t i = 0; i < tries; i++) {
            static char texts[LAYOUTS][256];
            struct ind_mistake mistake = {0};
            size_t kind = roll(4) ? 0 : 1 + roll(2);
            struct ind_slice layout = {texts[i], make_layout(texts[i])};
            size_t before = ind_patterns_syntax_count(set);
            bool good = ind_patterns_add_syntax(set, numbers[kind], layout, &mistake);
            if (!good && ind_patterns_syntax_count(set) == before)
                continue;
            assert_true(
                ind_syntax_parse(ind_patterns_syntax(set, count)->source, &list[count].layout, &mistake) ||
                !good);
            list[count].app = !good ? IND_SLICE("none") : kind ? apps[kind - 1] : IND_NOTHING;
            count++;
        }
        assert_true(ind_patterns_compile(set));
        struct ind_matcher *matcher = ind_matcher_new(set);
        for (int i = 0; count && i < TEXTS; i++) {
            char text[LONGEST * 3];
            size_t length = make_text(&list[roll((unsigned)count)], text);
            check_text(matcher, set, list, count, (struct ind_slice){text, length}, &fitted);
        }
        assert_int_equal(ind_matcher_gave_up(matcher), 0);
        ind_matcher_free(matcher);
        ind_patterns_free(set);
    }
    assert_true(fitted > SETS * TEXTS / 5); /* or the texts would say little */
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(what_fits_is_what_comes_first_by_the_rule)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
