/* What conditions answer. */
#include "support/condition.h"
#include "support/message.h"
#include "support/support.h"

#include "core/condition/condition.h"
#include "core/message/device.h"

static struct ind_conditions *set;
static struct ind_answers answers;

static ind_condition read(const char *text)
{
    return ind_condition_of(set, text);
}

static bool holds(const char *text, const struct ind_message *message)
{
    ind_condition condition = read(text);
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    return ind_condition_holds(set, condition, message, &answers);
}

static void conditions_answer_every_operator(void **state)
{
    static const struct {
        const char *condition;
        bool holds;
    } cases[] = {
        {"facility is local4", true},
        {"facility is 20", true},
        {"facility is not local4", false},
        {"facility in (kern, local4)", true},
        {"facility not in (kern, local4)", false},
        {"severity at least warning", true},
        {"severity at least error", false},
        {"severity at most error", true}, /* error and all less severe; a warning is */
        {"severity at most warning", true},
        {"severity at most notice", false},
        {"severity is warn", true},
        {"host is \"pier1-rtr\"", true},
        {"host is 'PIER1-RTR.skerry.example'", true},
        {"host starts with \"pier\"", true},
        {"device in (\"a\", \"pier1-rtr\")", true},
        {"app is \"ospf\"", true},
        {"app is \"OSPF\"", false},
        {"text contains \"is down\"", true},
        {"text contains \"is up\"", false},
        {"text starts with \"neighbour\"", true},
        {"sender within 192.0.2.0/24", true},
        {"sender within (198.51.100.0/24, \"192.0.2.8/30\")", true},
        {"sender within 2001:db8::/32", false},
        {"host within 192.0.2.0/24", false},
        {"facility is kern or severity is warning and app is \"ospf\"", true},
        {"(facility is kern or severity is warning) and app is \"x\"", false},
        {"not facility is kern and not (app is \"x\" or app is \"y\")", true},
        {"not not facility is local4", true},
    };
    struct ind_message message = ind_example_message();
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        if (holds(cases[i].condition, &message) != cases[i].holds)
            print_error("%s\n", cases[i].condition);
        assert_int_equal(holds(cases[i].condition, &message), cases[i].holds);
    }
}

static void tests_of_absent_fields_are_false_but_the_negated_ones(void **state)
{
    struct ind_message message = {0};
    (void)state;
    assert_false(holds("host is \"a\"", &message));
    assert_false(holds("host contains \"a\"", &message));
    assert_false(holds("sender within 0.0.0.0/0", &message));
    assert_true(holds("host is not \"a\"", &message));
    assert_true(holds("host not in (\"a\", \"b\")", &message));
    assert_true(holds("not text starts with \"a\"", &message));
}

static void equal_tests_are_kept_once(void **state)
{
    (void)state;
    (void)read("app is \"unique-one\" and text contains \"unique-two\"");
    size_t before = ind_conditions_tests(set);
    (void)read("text contains \"unique-two\" or not app is \"unique-one\"");
    assert_int_equal(ind_conditions_tests(set), before);
}

/* Facility and severity alone decide as much as they can; the rest stays open. */
static void pri_decides_what_it_can(void **state)
{
    (void)state;
    ind_condition condition = read("facility is local4 and (severity at least warning or app is \"x\")");
    assert_int_equal(ind_condition_by_pri(set, condition, 20, 4), IND_YES);
    assert_int_equal(ind_condition_by_pri(set, condition, 20, 5), IND_OPEN);
    assert_int_equal(ind_condition_by_pri(set, condition, 19, 0), IND_NO);
    struct ind_pris pris = {{0}};
    ind_condition_pris(set, condition, &pris);
    for (unsigned pri = 0; pri < IND_PRIS; pri++)
        assert_int_equal(ind_pris_have(&pris, pri), pri / 8 == 20);
    ind_condition_pris(set, read("severity is debug"), &pris);
    assert_true(ind_pris_have(&pris, 7) && !ind_pris_have(&pris, 6) && ind_pris_have(&pris, 20 * 8 + 6));
}

static void check_literals(const char *text, size_t count, const char *first, const char *second)
{
    struct ind_slice found[8];
    assert_int_equal(ind_condition_literals(set, read(text), found, 8), count);
    if (count > 0)
        assert_slice(found[0], first);
    if (count > 1)
        assert_slice(found[1], second);
}

static void conditions_know_literals_of_which_all_answers_hold_one(void **state)
{
    (void)state;
    check_literals("severity is error and text contains \"needle\" and app is \"a\"", 1, "needle", NULL);
    check_literals("text contains \"needle\" or app is \"a\"", 2, "needle", "a");
    check_literals("text contains \"needle\" or severity is error", 0, NULL, NULL);
    check_literals("not text contains \"needle\"", 0, NULL, NULL);
    check_literals("text contains \"needle\" ignoring case", 0, NULL, NULL);
    check_literals("text contains \"a\" and (text contains \"bcd\")", 1, "bcd", NULL);
    check_literals("app in (\"xyz\", \"abc\") and (text contains \"bcd\" or text is \"d\" or app is \"q\")",
                   2, "xyz", "abc");
}

static void deep_nesting_is_a_mistake_not_a_crash(void **state)
{
    char text[4096];
    ind_condition condition;
    struct ind_mistake mistake = {0};
    (void)state;
    memset(text, '(', sizeof text);
    assert_false(ind_condition_read(set, (struct ind_slice){text, sizeof text}, NULL, &condition, &mistake));
    assert_true(mistake.made);
    mistake.made = false;
    for (size_t i = 0; i + 4 <= sizeof text; i += 4)
        memcpy(text + i, "not ", 4);
    assert_false(ind_condition_read(set, (struct ind_slice){text, sizeof text}, NULL, &condition, &mistake));
}

/* A megabyte of tests is read, and each of them can decide. */
static void a_condition_may_be_very_long(void **state)
{
    enum { SIZE = 1 << 20, TESTS = 30000 };
    char *text = malloc(SIZE), wanted[32];
    size_t length = 0;
    (void)state;
    assert_non_null(text);
    for (unsigned i = 0; i < TESTS; i++)
        length += (size_t)snprintf(text + length, SIZE - length, "%stext contains \"reason %05u\"",
                                   i ? " or " : "", i);
    ind_condition condition = read(text);
    struct ind_message message = ind_example_message();
    for (int compiled = 0; compiled < 2; compiled++) {
        if (compiled)
            assert_true(ind_conditions_compile(set));
        ind_answers_free(&answers);
        assert_true(ind_answers_begin(&answers, set));
        for (unsigned i = 0; i < TESTS; i += 2999) {
            snprintf(wanted, sizeof wanted, "the reason %05u.", i);
            message.text = ind_slice_of(wanted);
            ind_answers_next(&answers);
            assert_true(ind_condition_holds(set, condition, &message, &answers));
        }
        message.text = IND_SLICE("no reason 0000");
        ind_answers_next(&answers);
        assert_false(ind_condition_holds(set, condition, &message, &answers));
    }
    free(text);
}

/* What is asked for and what is there may hold any byte. */
static void any_byte_may_be_asked_for(void **state)
{
    char text[700] = "text contains \"", bytes[256];
    size_t length = strlen(text);
    ind_condition condition;
    struct ind_mistake mistake = {0};
    struct ind_message message = ind_example_message();
    (void)state;
    for (unsigned i = 0; i < 256; i++) {
        bytes[i] = (char)i;
        if (i == '"' || i == '\\')
            text[length++] = '\\';
        text[length++] = (char)i;
    }
    text[length++] = '"';
    assert_true(ind_condition_read(set, (struct ind_slice){text, length}, NULL, &condition, &mistake));
    message.text = (struct ind_slice){bytes, 256};
    ind_answers_free(&answers);
    assert_true(ind_conditions_compile(set) && ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    assert_true(ind_condition_holds(set, condition, &message, &answers));
    message.text.length = 255;
    ind_answers_next(&answers);
    assert_false(ind_condition_holds(set, condition, &message, &answers));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(conditions_answer_every_operator),
        cmocka_unit_test(tests_of_absent_fields_are_false_but_the_negated_ones),
        cmocka_unit_test(equal_tests_are_kept_once),
        cmocka_unit_test(pri_decides_what_it_can),
        cmocka_unit_test(conditions_know_literals_of_which_all_answers_hold_one),
        cmocka_unit_test(deep_nesting_is_a_mistake_not_a_crash),
        cmocka_unit_test(a_condition_may_be_very_long),
        cmocka_unit_test(any_byte_may_be_asked_for),
    };
    set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_answers_free(&answers);
    ind_conditions_free(set);
    return failed;
}
