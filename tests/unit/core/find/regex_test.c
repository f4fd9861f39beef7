/* Regular expressions: what a message may cost in all of them together is bounded, and the two ways give the
 * same answers. */
#include "support/support.h"

#include "core/find/regex.h"
#include "support/random.h"

static const char *const hostile[] = {"(?=.*z)(?=.*y)a", "(a+)+b",         "(x+x+)+y", "[a-z]+[0-9]",
                                      "(a|aa)*c",        "(.*)(.*)(.*)q",  "a.*a.*a!", "(?<=a)b.*c",
                                      "\\d+x",           "(?:a?){40}a{40}"};
enum { HOSTILE = sizeof hostile / sizeof *hostile };

static void no_text_costs_more_than_a_message_may(void **state)
{
    enum { LONG = 65536 };
    static char text[LONG];
    void *regexes[HOSTILE];
    struct ind_regex_error error;
    struct ind_regex_room room;
    (void)state;
    assert_true(ind_regex_room_begin(&room));
    for (size_t i = 0; i < HOSTILE; i++)
        assert_non_null(regexes[i] = ind_regex_new(ind_slice_of(hostile[i]), 0, &error));
    for (const char *fill = "ax1 "; *fill; fill++) {
        memset(text, *fill, sizeof text);
        memcpy(text + LONG - 2, "zy", 2);
        ind_regex_room_next(&room);
        for (int round = 0; round < 40; round++)
            for (size_t i = 0; i < HOSTILE; i++) {
                size_t length = round % 4 == 0 ? LONG : (size_t)(100 << round % 7);
                (void)ind_regex_match(regexes[i], &room, (struct ind_slice){text, length}, 0, 0, NULL, NULL);
                assert_true(room.quick >= -(int64_t)(1 << 22));
                assert_true(room.counted >= -2 * (int64_t)LONG);
            }
    }
    for (size_t i = 0; i < HOSTILE; i++)
        ind_regex_free(regexes[i]);
    ind_regex_room_end(&room);
}

static void both_ways_give_the_same_answer(void **state)
{
    static const char *const plain[] = {"a+b", "(a|b)*c$", "^ab", "b.a", "(?=.*c)a", "[^a]c", "ab|ba|cc"};
    struct ind_regex_error error;
    struct ind_regex_room quick, counted;
    uint64_t random = IND_RANDOM_START;
    (void)state;
    assert_true(ind_regex_room_begin(&quick) && ind_regex_room_begin(&counted));
    for (size_t i = 0; i < sizeof plain / sizeof *plain; i++) {
        struct ind_regex *regex = ind_regex_new(ind_slice_of(plain[i]), 0, &error);
        for (int round = 0; round < 3000; round++) {
            char text[40];
            size_t at[2][2] = {{0}};
            struct ind_slice value = {text, ind_random(&random, sizeof text)};
            for (size_t k = 0; k < value.length; k++)
                text[k] = (char)('a' + ind_random(&random, 3));
            ind_regex_room_next(&quick);
            ind_regex_room_next(&counted);
            counted.quick = 0;
            enum ind_regex_found one = ind_regex_match(regex, &quick, value, 0, 0, &at[0][0], &at[0][1]);
            assert_int_equal(one, ind_regex_match(regex, &counted, value, 0, 0, &at[1][0], &at[1][1]));
            assert_memory_equal(at[0], at[1], sizeof at[0]);
            assert_true(one != IND_REGEX_GAVE_UP);
        }
        ind_regex_free(regex);
    }
    ind_regex_room_end(&quick);
    ind_regex_room_end(&counted);
}

static void what_was_used_up_is_there_again_for_the_next_message(void **state)
{
    static char text[65536];
    struct ind_regex_error error;
    struct ind_regex_room room;
    void *costly = ind_regex_new(IND_SLICE("(x+x+)+[yw]"), 0, &error),
         *cheap = ind_regex_new(IND_SLICE("xz"), 0, &error);
    (void)state;
    memset(text, 'x', sizeof text - 1);
    text[sizeof text - 1] = 'z';
    struct ind_slice value = {text, sizeof text};
    assert_true(ind_regex_room_begin(&room));
    assert_int_equal(ind_regex_match(cheap, &room, value, 0, 0, NULL, NULL), IND_REGEX_FOUND);
    assert_int_equal(ind_regex_match(costly, &room, value, 0, 0, NULL, NULL), IND_REGEX_GAVE_UP);
    assert_int_equal(ind_regex_match(cheap, &room, value, 0, 0, NULL, NULL), IND_REGEX_GAVE_UP);
    ind_regex_room_next(&room);
    assert_int_equal(ind_regex_match(cheap, &room, value, 0, 0, NULL, NULL), IND_REGEX_FOUND);
    ind_regex_free(costly);
    ind_regex_free(cheap);
    ind_regex_room_end(&room);
}

/* ---- What stands in all that an expression fits ---- */

static void what_is_needed_is_plain_to_see(void **state)
{
    static const struct {
        const char *expression, *needs;
    } cases[] = {{"from 203.0.7.1[0-9]+ port 4", "from 203"},
                 {"abc?d", "ab"},
                 {"ab+c", "ab"},
                 {"(abc|d)efg", "efg"},
                 {"abc|abcd", ""},
                 {"a\\.bc", "a.bc"},
                 {"\\d+xyz\\d", "xyz"},
                 {"\\x41bcd", ""},
                 {"\\Qa.b\\E", ""},
                 {"(?i)abc", ""},
                 {"abc(?#x)", ""},
                 {"x{2}abc", "abc"},
                 {"[]abc]de", "de"},
                 {"[[:alpha:]bc]de", ""},
                 {"[^x]yz$", "yz"},
                 {"", ""}};
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char room[64];
        const struct ind_slice needs = ind_regex_needs(ind_slice_of(cases[i].expression), room);
        if (!ind_slice_equal(needs, ind_slice_of(cases[i].needs)))
            fail_msg("%s needs \"%.*s\"", cases[i].expression, IND_ARG(needs));
    }
}

/* Any expression over few letters, and texts of the same: what matches holds what is needed. */
static void what_matches_holds_what_is_needed(void **state)
{
    static const char *const parts[] = {"a",    "b",    "c",     "ab",     "ca",        "\\.", "\\[", "[ab]",
                                        "[^a]", "[]b]", "(ab)",  "(a|bc)", "(a(b|c)c)", ".",   "\\w", "\\b",
                                        "^",    "$",    "|",     "?",      "*",         "+",   "{2}", "{0,1}",
                                        "??",   "+?",   "\\x61", "(?:ab)", "-"};
    uint64_t random = IND_RANDOM_START;
    struct ind_regex_error error;
    struct ind_regex_room room;
    size_t needed = 0, matched = 0;
    (void)state;
    assert_true(ind_regex_room_begin(&room));
    for (int i = 0; i < 20000; i++) {
        char expression[100] = "", scratch[100];
        for (unsigned n = 1 + ind_random(&random, 7); n > 0; n--)
            strcat(expression, parts[ind_random(&random, sizeof parts / sizeof *parts)]);
        struct ind_regex *regex = ind_regex_new(ind_slice_of(expression), 0, &error);
        const struct ind_slice needs = ind_regex_needs(ind_slice_of(expression), scratch);
        if (!regex)
            continue;
        needed += needs.length > 0;
        for (int t = 0; t < 30; t++) {
            char text[16];
            size_t length = ind_random(&random, sizeof text);
            for (size_t c = 0; c < length; c++)
                text[c] = "abc.[-"[ind_random(&random, 6)];
            ind_regex_room_next(&room);
            if (ind_regex_match(regex, &room, (struct ind_slice){text, length}, 0, 0, NULL, NULL) !=
                IND_REGEX_FOUND)
                continue;
            bool holds = needs.length == 0;
            for (size_t at = 0; at + needs.length <= length; at++)
                holds |= ind_slice_starts((struct ind_slice){text + at, length - at}, needs);
            if (!holds)
                fail_msg("%s fits \"%.*s\", and needs \"%.*s\"", expression, (int)length, text,
                         IND_ARG(needs));
            matched += needs.length > 0;
        }
        ind_regex_free(regex);
    }
    assert_true(needed > 1000 && matched > 1000);
    ind_regex_room_end(&room);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(no_text_costs_more_than_a_message_may),
        cmocka_unit_test(both_ways_give_the_same_answer),
        cmocka_unit_test(what_was_used_up_is_there_again_for_the_next_message),
        cmocka_unit_test(what_is_needed_is_plain_to_see),
        cmocka_unit_test(what_matches_holds_what_is_needed),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
