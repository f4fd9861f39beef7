/* Every field and operator of the condition language, and what is said of an answer. */
#include "support/condition.h"
#include "support/moment.h"
#include "support/support.h"

#include "core/condition/condition.h"
#include "core/message/device.h"

static struct ind_conditions *set;
static struct ind_zone *zone;
static struct ind_answers answers;
static struct ind_label labels[] = {{(char *)(uintptr_t) "site", (char *)(uintptr_t) "pier"}};
static const struct ind_device device = {.labels = labels, .label_count = 1};

static struct ind_message example(void)
{
    struct ind_message message = {.facility = 20, .severity = 4, .transport = IND_TRANSPORT_UDP};
    message.sent = at("2026-11-23T04:44:55.5Z"); /* a Monday */
    message.received = message.time = at("2026-11-23T04:45:00Z");
    message.host = message.device = IND_SLICE("pier1-rtr");
    message.sender = IND_SLICE("192.0.2.9");
    message.listener = IND_SLICE("udp 0.0.0.0:514");
    message.app = IND_SLICE("kernel");
    message.procid = IND_SLICE("77");
    message.msgid = IND_SLICE("FLOW");
    message.data = IND_SLICE("[port@32473 name=\"ge0/24\" vlan=\"10\" vlan=\"20\"][x note=\"a \\\"b\\\"\"]");
    message.text = IND_SLICE("DENY IN=ge0 OUT= SRC=203.0.113.7 DPT=23 user=\"Tern Gull\" caf\xC3\xA9");
    message.original = IND_SLICE("<164>DENY IN=ge0");
    message.configured = &device;
    return message;
}

static bool holds(const char *text, const struct ind_message *message)
{
    ind_condition condition = ind_condition_of(set, text);
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set));
    ind_answers_next(&answers);
    return ind_condition_holds(set, condition, message, &answers);
}

struct example {
    const char *condition;
    bool holds;
};

static void check(const struct example *examples, size_t count, const struct ind_message *message)
{
    for (size_t i = 0; i < count; i++) {
        bool held = holds(examples[i].condition, message);
        if (held != examples[i].holds)
            print_error("%s\n", examples[i].condition);
        assert_int_equal(held, examples[i].holds);
    }
}

#define CHECK(examples, message) check(examples, sizeof(examples) / sizeof *(examples), message)

static void every_field_is_read(void **state)
{
    static const struct example examples[] = {
        {"listener is \"udp 0.0.0.0:514\"", true},
        {"transport is \"udp\"", true},
        {"transport in (\"tcp\", \"unix\")", false},
        {"procid is \"77\"", true},
        {"msgid is \"FLOW\"", true},
        {"original starts with \"<164>\"", true},
        {"label site is \"pier\"", true},
        {"label role is present", false},
        {"data port@32473 name is \"ge0/24\"", true},
        {"data port@32473 vlan is \"20\"", true}, /* any of several */
        {"data port@32473 vlan is \"30\"", false},
        {"data port@32473 vlan at least 20", true},
        {"data x note is 'a \"b\"'", true}, /* its escapes undone */
        {"data x name is present", false},
        {"data y name is present", false},
        {"field SRC is \"203.0.113.7\"", true},
        {"field SRC within 203.0.113.0/24", true},
        {"field SRC within (192.0.2.0/24, 2001:db8::/32)", false},
        {"field DPT at least 23 and field DPT at most 23", true},
        {"field \"user\" is \"Tern Gull\"", true},
        {"field OUT is present", true}, /* there, with nothing in it */
        {"field OUT is \"\\\"\"", false},
        {"field NOSUCH is absent", true},
        {"field NOSUCH is not \"x\"", true},
        {"lag at least 4.5", true},
        {"lag at least 4.51", false},
        {"lag at most 300", true},
        {"lag at least -3", true},
        {"lag is present", true},
        {"time within 04:00-05:00", false}, /* it is 05:45 in that zone */
        {"time within 05:45-05:46", true},
        {"time within 22:00-06:00", true},
        {"time within (00:00-01:00, 5:00-6:00)", true},
        {"time within 05:46-05:45", false},
        {"time within 00:00-24:00", true},
        {"day is mon", true},
        {"day in (sat, sun)", false},
        {"day not in (saturday, Sunday)", true},
    };
    struct ind_message message = example();
    (void)state;
    CHECK(examples, &message);
}

static void every_operator_answers(void **state)
{
    static const struct example examples[] = {
        {"text mentions \"ge0\"", true},
        {"text mentions \"ge\"", false},
        {"text mentions \"203.0.113\"", true}, /* parts of it are words */
        {"text mentions \"203.0.113.7\"", true},
        {"text mentions \"03.0.113.7\"", false},
        {"text mentions \"tern\"", false},
        {"text mentions \"tern\" ignoring case", true},
        {"text mentions \"caf\"", false}, /* the next letter is not ASCII */
        {"text mentions \"caf\xC3\xA9\"", true},
        {"text ends with \"caf\xC3\xA9\"", true},
        {"text ends with \"x\"", false},
        {"app ends with \"NEL\" ignoring case", true},
        {"app is \"KERNEL\"", false},
        {"app is \"KERNEL\" ignoring case", true},
        {"app in (\"x\", \"KERNEL\") ignoring case", true},
        {"text contains \"deny in\" ignoring case", true},
        {"text starts with \"deny\" ignoring case", true},
        {"text matches 'SRC=(\\d+\\.){3}7\\b'", true},
        {"text matches 'src='", false},
        {"text matches 'src=' ignoring case", true},
        {"text matches \"user=\\\"T\"", true}, /* only the quote is escaped */
        {"text matches '^DENY.*DPT=2[0-9] '", true},
        {"text is absent", false},
        {"not text is absent and text is present", true},
        {"app at least 5", false}, /* no number */
        {"procid at least 5", true},
        {"procid at most 76.9", false},
        {"host is \"PIER1-rtr.skerry.example\"", true},
        {"host ends with \"RTR\"", true},
        {"host mentions \"PIER1\"", true},
        {"host matches '^PIER\\d-'", true}, /* names ignore case */
    };
    struct ind_message message = example();
    (void)state;
    CHECK(examples, &message);
}

static void tests_of_absent_fields_are_false_but_the_negated(void **state)
{
    static const struct example examples[] = {
        {"lag at least 0", false},
        {"lag at most 0", false},
        {"lag is absent", true},
        {"label site is \"pier\"", false},
        {"label site is not \"x\"", true},
        {"data a b contains \"c\"", false},
        {"field a matches 'x'", false},
        {"field a not in (\"b\")", true},
        {"procid is absent", true},
        {"not listener contains \"u\"", true},
        {"time within 00:00-24:00", false},
    };
    struct ind_message message = {.sent = IND_TIME_NONE, .received = IND_TIME_NONE, .time = IND_TIME_NONE};
    (void)state;
    CHECK(examples, &message);
}

/* As docs/conditions.md has it. */
static void several_values_and_edges_of_words_are_asked_as_they_are_documented(void **state)
{
    static const struct example examples[] = {
        {"data a b is \"1\"", true},
        {"data a b is \"2\"", true},
        {"data a b is not \"1\"", false},
        {"data a b is not \"3\"", true},
        {"data a b not in (\"3\", \"2\")", false},
        {"data a b not in (\"3\", \"4\")", true},
        {"field k is not \"y\"", false},
        {"field k is not \"z\"", true},
        {"text mentions \"ge0/\"", true},
        {"text mentions \"/2\"", false},
        {"text mentions \"ge0\"", true},
        {"text mentions \"=x\"", false},
        {"text mentions \":[\"", true},
    };
    struct ind_message message = example();
    (void)state;
    message.data = IND_SLICE("[a b=\"1\"][a b=\"2\"]");
    message.text = IND_SLICE("{\"k\":[\"x\",\"y\"],\"p\":\"ge0/24 n=xx\"}");
    CHECK(examples, &message);
}

static void a_payload_is_read_for_each_message_anew(void **state)
{
    struct ind_message message = example();
    (void)state;
    assert_true(holds("field DPT is \"23\"", &message));
    message.text = IND_SLICE("%LINK-3-CHANGE: DPT=24");
    ind_condition condition;
    struct ind_mistake mistake = {0};
    assert_true(ind_condition_read(set, IND_SLICE("field DPT is \"23\""), NULL, &condition, &mistake));
    ind_answers_next(&answers);
    assert_false(ind_condition_holds(set, condition, &message, &answers));
    assert_true(holds("field code_severity at most 3 and field code_name is \"CHANGE\"", &message));
}

/* A pattern that would try for ever is given up. */
static void a_regular_expression_cannot_hold_up_the_intake(void **state)
{
    static char text[40000];
    struct ind_message message = example();
    (void)state;
    memset(text, 'a', sizeof text);
    message.text = (struct ind_slice){text, sizeof text};
    assert_false(holds("text matches '(a+)+(a+)+(a+)+$b'", &message));
}

static const char *why_with(size_t (*ask)(const struct ind_conditions *, ind_condition,
                                          const struct ind_message *, struct ind_answers *,
                                          struct ind_reason *, size_t),
                            const char *text, const struct ind_message *message)
{
    static char told[2000];
    struct ind_buffer out = ind_buffer_on(told, sizeof told - 1);
    struct ind_reason reasons[8];
    ind_condition condition;
    struct ind_mistake mistake = {0};
    (void)holds(text, message);
    assert_true(ind_condition_read(set, ind_slice_of(text), NULL, &condition, &mistake));
    size_t count = ask(set, condition, message, &answers, reasons, 8);
    for (size_t i = 0; i < count; i++) {
        ind_buffer_text(&out, i ? " | " : "");
        ind_buffer_slice(&out, reasons[i].test);
        ind_buffer_text(&out, reasons[i].held ? " +" : " -");
        ind_buffer_text(&out, reasons[i].present ? reasons[i].seen : "(absent)");
    }
    told[out.length] = '\0';
    return told;
}

static const char *why(const char *text, const struct ind_message *message)
{
    return why_with(ind_condition_why, text, message);
}

static void all_tests_that_fail_are_told_where_they_are_asked_for(void **state)
{
    struct ind_message message = example();
    (void)state;
    assert_string_equal(why_with(ind_condition_why_all, "facility is kern and app is \"x\"", &message),
                        "facility is kern -local4 | app is \"x\" -kernel");
    assert_string_equal(
        why_with(ind_condition_why_all, "facility is local4 and (app is \"x\" or app is \"y\")", &message),
        "app is \"x\" -kernel | app is \"y\" -kernel");
    assert_string_equal(why_with(ind_condition_why_all, "app is \"kernel\" or app is \"x\"", &message),
                        "app is \"kernel\" +kernel");
}

static void the_tests_that_decide_are_told_with_what_they_saw(void **state)
{
    struct ind_message message = example();
    (void)state;
    assert_string_equal(why("facility is kern and app is \"x\"", &message), "facility is kern -local4");
    assert_string_equal(why("facility is local4 and app is \"x\"", &message), "app is \"x\" -kernel");
    assert_string_equal(why("app is \"x\" or severity at least error", &message),
                        "app is \"x\" -kernel | severity at least error -warning");
    assert_string_equal(why("app is \"x\" or app is \"kernel\"", &message), "app is \"kernel\" +kernel");
    assert_string_equal(why("app is not \"kernel\"", &message), "app is not \"kernel\" -kernel");
    assert_string_equal(why("not (app is \"kernel\" and day is mon)", &message),
                        "app is \"kernel\" +kernel | day is mon +mon");
    assert_string_equal(why("field NOSUCH at least 5", &message), "field NOSUCH at least 5 -(absent)");
    assert_string_equal(why("data port@32473 vlan is \"30\"", &message),
                        "data port@32473 vlan is \"30\" -10, 20");
    assert_string_equal(why("lag at least 300", &message), "lag at least 300 -4.50");
    assert_string_equal(why("time within 22:00-05:00", &message), "time within 22:00-05:00 -05:45");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_field_is_read),
        cmocka_unit_test(every_operator_answers),
        cmocka_unit_test(all_tests_that_fail_are_told_where_they_are_asked_for),
        cmocka_unit_test(tests_of_absent_fields_are_false_but_the_negated),
        cmocka_unit_test(several_values_and_edges_of_words_are_asked_as_they_are_documented),
        cmocka_unit_test(a_payload_is_read_for_each_message_anew),
        cmocka_unit_test(a_regular_expression_cannot_hold_up_the_intake),
        cmocka_unit_test(the_tests_that_decide_are_told_with_what_they_saw),
    };
    zone = ind_zone_fixed(3600);
    set = ind_conditions_new(IND_SLICE("skerry.example"), zone, NULL);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_answers_free(&answers);
    ind_conditions_free(set);
    ind_zone_free(zone);
    return failed;
}
