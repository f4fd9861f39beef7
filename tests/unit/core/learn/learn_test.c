/* Layouts found from texts alone. */
#include "support/random.h"
#include "support/support.h"

#include "core/learn/learn.h"
#include "core/learn/tokens.h"

static struct ind_learner *learner;
static struct ind_learned_all all;

static int begin(void **state)
{
    (void)state;
    learner = ind_learner_new();
    return learner ? 0 : 1;
}

static int end(void **state)
{
    (void)state;
    ind_learned_free(&all);
    ind_learner_free(learner);
    return 0;
}

static void add(const char *text)
{
    assert_true(ind_learner_add(learner, IND_SLICE("app"), ind_slice_of(text)));
}

static void finish(uint64_t at_least)
{
    assert_true(ind_learner_finish(learner, at_least, &all));
}

static bool has_layout(const char *layout)
{
    for (size_t i = 0; i < all.count; i++)
        if (ind_slice_equal(all.list[i].layout, ind_slice_of(layout)))
            return true;
    return false;
}

static void print_layouts(void)
{
    for (size_t i = 0; i < all.count; i++)
        print_error("%llu %.*s\n", (unsigned long long)all.list[i].count, IND_ARG(all.list[i].layout));
}

static void expect_layout(const char *layout)
{
    if (!has_layout(layout)) {
        print_layouts();
        fail_msg("no %s", layout);
    }
}

/* ---- Tokens ---- */

/* W word, S one that is never literal, V value, Q quoted, P pairs, J JSON; signs as they are. */
static void check_tokens(const char *text, const char *expected)
{
    static const char kinds[] = " .WSVQPJ";
    struct ind_token tokens[IND_LEARN_TOKENS];
    char found[IND_LEARN_TOKENS + 1];
    const size_t count = ind_tokens_read(ind_slice_of(text), tokens);
    for (size_t i = 0; i < count; i++)
        found[i] = tokens[i].kind == IND_TOKEN_SIGN ? text[tokens[i].at] : kinds[tokens[i].kind];
    found[count] = '\0';
    assert_string_equal(found, expected);
}

static void texts_are_taken_apart(void **state)
{
    (void)state;
    check_tokens("link ge0/3 is down", "W V W W");
    check_tokens("from 192.0.2.7:514, port 22", "W V:V, W V");
    check_tokens("at 04:45:00 the fan failed.", "W V W W W.");
    check_tokens("took 30 ms, 0.5 of all", "W V, V W W");
    check_tokens("neighbour pier3-rtr lost (auth)", "W S W (W)");
    check_tokens("user tern left", "W S W");
    check_tokens("password for tern", "W W W");
    check_tokens("mail to crew@skerry.example", "W W S");
    check_tokens("call **** now", "W S W");
    check_tokens("said \"a b\" twice", "W Q W");
    check_tokens("DENY IN=ge0 OUT= SRC=192.0.2.7", "W P");
    check_tokens("event {\"a\":1} end", "W J W");
    check_tokens("%LINK-3-UPDOWN: port", "W: W");
    check_tokens("  a  ", "W");
    check_tokens("", "");
    check_tokens(" \t ", "");
}

static void odd_texts_are_survived(void **state)
{
    static const char signs[] = "(){}[]=;,.\"' |<>ab1-:/%@*\\\n\t\xc3\xa9";
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 50000; round++) {
        struct ind_token tokens[IND_LEARN_TOKENS];
        const size_t length = ind_random(&random, round % 50 ? 60 : 800);
        char *text = malloc(length + 1);
        assert_non_null(text);
        for (size_t i = 0; i < length; i++)
            text[i] = signs[ind_random(&random, sizeof signs)];
        const size_t count = ind_tokens_read((struct ind_slice){text, length}, tokens);
        for (size_t i = 0, at = 0; i < count; i++) { /* they follow one another, with nothing between */
            assert_true(i == 0 || tokens[i].at == at);
            assert_true(tokens[i].length > 0);
            at = tokens[i].at + tokens[i].length;
            assert_true(at <= length);
        }
        free(text);
    }
}

/* ---- Layouts ---- */

static void fields_have_types_and_names(void **state)
{
    (void)state;
    for (int i = 0; i < 20; i++) {
        char text[200];
        snprintf(text, sizeof text, "Failed password for invalid user u%c from 192.0.2.%d port %d ssh2",
                 'a' + i, i, 1000 + i);
        add(text);
        snprintf(text, sizeof text, "poll complete, %d ports, %d errors in %d ms", i, i % 3, i);
        add(text);
        snprintf(text, sizeof text, "load %s of eth%d changed state to %s", i % 2 ? "1" : "0.5", i,
                 i % 2 ? "up" : "down");
        add(text);
        snprintf(text, sizeof text, "PERMIT IN=ge0 OUT=ge%d SRC=192.0.2.%d", i, i);
        add(text);
        snprintf(text, sizeof text, "DENY IN=ge0 OUT=ge%d SRC=192.0.2.%d", i, i);
        add(text);
    }
    finish(5);
    expect_layout("Failed password for invalid user {user:word} from {peer:ip} port {port:int} ssh2");
    expect_layout("poll complete, {ports:int} ports, {errors:int} errors in {span:duration}");
    expect_layout("load {load:decimal} of {interface:interface} changed state to {state:word}");
    expect_layout("PERMIT {:pairs}");
    expect_layout("DENY {:pairs}");
    assert_int_equal(all.count, 5);
}

/* Two layouts of one shape are two, a word that varies alone is a field, and other texts do not matter. */
static void words_that_go_together_are_a_layout(void **state)
{
    static const char *const names[] = {"tern", "auk", "gull", "skua", "puffin", "gannet"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 600; i++) {
        char text[100];
        snprintf(text, sizeof text, "session of %s opened normally", names[ind_random(&random, 6)]);
        add(text);
        snprintf(text, sizeof text, "lease for %s expired early", names[ind_random(&random, 6)]);
        add(text);
        if (i < 60) {
            snprintf(text, sizeof text, "%s %s %s %s %s", names[ind_random(&random, 6)],
                     names[ind_random(&random, 6)], i % 9 ? "of" : "for", names[ind_random(&random, 6)],
                     names[ind_random(&random, 6)]);
            add(text);
        }
    }
    finish(5);
    expect_layout("session of {name:word} opened normally");
    expect_layout("lease for {name:word} expired early");
    assert_int_equal(all.count, 2);
    assert_true(all.list[0].count == 600 && all.list[1].count == 600);
}

static void what_has_no_order_is_no_layout(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 30000; i++) {
        char text[400];
        size_t length = 0;
        for (unsigned words = 1 + ind_random(&random, 8); words > 0; words--) {
            for (unsigned letters = 1 + ind_random(&random, 9); letters > 0; letters--)
                text[length++] = (char)('a' + ind_random(&random, 26));
            text[length++] = ' ';
        }
        text[length] = '\0';
        add(text);
    }
    for (int i = 0; i < 1000; i++) {
        static char large[65536];
        memset(large, 'a' + i % 26, sizeof large - 1);
        add(large);
        add("192.0.2.7 4022");
        add("a=1 b=2");
    }
    finish(5);
    if (all.count)
        print_layouts();
    assert_int_equal(all.count, 0);
    assert_int_equal(all.long_ones, 1000);
}

/* More shapes and words than there is room for: what is frequent and of an order of its own stays, mostly. */
static void there_is_a_bound_however_much_comes(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 400000; i++) {
        char text[120];
        snprintf(text, sizeof text, "w%c%c %s%s%s %c%c%c%c went", 'a' + (int)ind_random(&random, 26),
                 'a' + (int)ind_random(&random, 26), i % 3 ? "(" : "[", i % 5 ? ":" : ";", i % 7 ? "," : "|",
                 'a' + (int)ind_random(&random, 26), 'a' + (int)ind_random(&random, 26),
                 'a' + (int)ind_random(&random, 26), 'a' + (int)ind_random(&random, 26));
        add(text);
        if (i % 100 == 0)
            add("power supply input lost on shelf");
    }
    finish(5);
    expect_layout("power supply input lost on shelf");
}

/* The same texts in any order give the same layouts, counts and examples. */
static void the_order_does_not_matter(void **state)
{
    enum { TEXTS = 4000 };
    static char texts[TEXTS][100];
    struct ind_learned_all first;
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < TEXTS; i++) {
        const unsigned kind = ind_random(&random, 40), number = ind_random(&random, 1000);
        snprintf(texts[i], sizeof texts[i], kind < 30 ? "kind %c of %u things %s" : "other %c (%u) %s",
                 'a' + (int)kind, number, kind % 3 ? "arrived" : "left");
        add(texts[i]);
    }
    finish(2);
    first = all;
    for (int round = 0; round < 3; round++) {
        struct ind_learner *again = ind_learner_new();
        struct ind_learned_all other;
        assert_non_null(again);
        for (int i = TEXTS - 1; i > 0; i--) {
            char swap[100];
            const int with = (int)ind_random(&random, (unsigned)i + 1);
            memcpy(swap, texts[i], sizeof swap);
            memcpy(texts[i], texts[with], sizeof swap);
            memcpy(texts[with], swap, sizeof swap);
        }
        for (int i = 0; i < TEXTS; i++)
            assert_true(ind_learner_add(again, IND_SLICE("app"), ind_slice_of(texts[i])));
        assert_true(ind_learner_finish(again, 2, &other));
        assert_int_equal(other.count, first.count);
        for (size_t i = 0; i < first.count; i++) {
            assert_true(ind_slice_equal(other.list[i].layout, first.list[i].layout));
            assert_true(other.list[i].count == first.list[i].count);
            assert_int_equal(other.list[i].example_count, first.list[i].example_count);
            for (size_t k = 0; k < first.list[i].example_count; k++)
                assert_true(ind_slice_equal(other.list[i].examples[k], first.list[i].examples[k]));
        }
        ind_learned_free(&other);
        ind_learner_free(again);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(texts_are_taken_apart),
        cmocka_unit_test(odd_texts_are_survived),
        cmocka_unit_test_setup_teardown(fields_have_types_and_names, begin, end),
        cmocka_unit_test_setup_teardown(words_that_go_together_are_a_layout, begin, end),
        cmocka_unit_test_setup_teardown(what_has_no_order_is_no_layout, begin, end),
        cmocka_unit_test_setup_teardown(there_is_a_bound_however_much_comes, begin, end),
        cmocka_unit_test_setup_teardown(the_order_does_not_matter, begin, end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
