/* Steps are counted, not timed: the core is compiled so that each block of its code counts itself, and each
 * sixteen bytes that memchr, memcpy and memmove pass count as one more. A message four times as long may take
 * four times the steps, and no more, however hostile it is. */
#include "support/support.h"

#include "core/base/escape.h"
#include "core/condition/condition.h"
#include "core/edit/edit.h"
#include "core/line/line.h"
#include "core/message/device.h"
#include "core/message/framing.h"
#include "core/message/header.h"
#include "core/payload/payload.h"

#include "steps/steps.h"

enum { SHORT = 4000, LONG = 4 * SHORT };

static struct ind_zone *zone;
static struct ind_devices *devices;
static char text[LONG + 64];
static char scratch[IND_PAYLOAD_SCRATCH];
static char room[IND_LINE_MOST], undone[LONG * 6];
static struct ind_payload payload;

/* The head once, then the piece again and again, then the tail, `length` bytes in all. */
struct hostile {
    const char *head, *piece, *tail;
};

static struct ind_slice make(const struct hostile *hostile, size_t length)
{
    size_t used = strlen(hostile->head), tail = strlen(hostile->tail), piece = strlen(hostile->piece);
    memcpy(text, hostile->head, used);
    for (size_t i = 0; used < length - tail; i++)
        text[used++] = hostile->piece[i % piece];
    memcpy(text + used, hostile->tail, tail);
    return (struct ind_slice){text, used + tail};
}

static void read_all(struct ind_slice bytes)
{
    struct ind_message message;
    struct ind_line_clock clock = {0};
    char name[IND_DEVICE_SCRATCH];
    const struct ind_header_context context = {
        .devices = devices, .reference = INT64_C(1795409100) * IND_SECOND, .zone = zone, .scratch = name};
    ind_header_read_with_device(&context, bytes, &message);
    ind_payload_read(&message, scratch, sizeof scratch, &payload);
    message.payload = &payload;
    message.time = 0;
    for (int layout = 0; layout < IND_LAYOUTS; layout++) {
        struct ind_buffer line = ind_buffer_on(room, sizeof room);
        (void)ind_line_write((enum ind_layout)layout, &message, &clock, &line);
        assert_false(line.full);
        struct ind_message back;
        if (layout == IND_LAYOUT_PLAIN)
            (void)ind_line_read_plain((struct ind_slice){room, line.length - 1}, undone, &back);
    }
}

/* The steps for a message four times as long, over those for the shorter one. */
static double growth(const struct hostile *hostile, void (*act)(struct ind_slice))
{
    uint64_t few, many;
    struct ind_slice bytes = make(hostile, SHORT);
    ind_steps = 0;
    act(bytes);
    few = ind_steps;
    bytes = make(hostile, LONG);
    ind_steps = 0;
    act(bytes);
    many = ind_steps;
    assert_true(few > 0);
    return (double)many / (double)few;
}

static void check(const struct hostile *all, size_t count, void (*act)(struct ind_slice))
{
    for (size_t i = 0; i < count; i++) {
        double grown = growth(&all[i], act);
        if (grown > 4.6)
            print_error("%.2f times the steps: %s | %s | %s\n", grown, all[i].head, all[i].piece,
                        all[i].tail);
        assert_true(grown <= 4.6);
    }
}

static void reading_and_writing_are_linear(void **state)
{
    static const struct hostile all[] = {
        {"<13>", "a", ""},
        {"", "<13>", ""},
        {"<13>", " ", ""},
        {"<13>", "29: ", "%A-3-B: x"},
        {"<13>", "Nov 23 04:45:00 ", ""},
        {"<13>", "*Nov 23 04:45:00: ", ""},
        {"<13>Nov 23 04:45:00 h ", "1: ", ""},
        {"<13>Nov 23 04:45:00 ", "a/b:", ""},
        {"<13>Nov 23 04:45:00 h ", "A/", ":Nov 23 04:45:00: %A-3-B: x"},
        {"<13>Nov 23 04:45:00 h a[", "1", "]: x"},
        {"<13>", "%A-", ""},
        {"<13>%", "A-3-", "B: x"},
        {"<13>1 - h a - - ", "[", "x"},
        {"<13>1 - h a - - ", "[a b=\"c\"]", " x"},
        {"<13>1 - h a - - [a", " b=\"c\"", "] x"},
        {"<13>1 - h a - - [a", " b=\"\\\"\"", ""},
        {"<13>1 - h a - - [a b=\"", "\\]", "\"] x"},
        {"<13>1 ", "a ", ""},
        {"<13>a: ", "k=v ", ""},
        {"<13>a: ", "k=v,", ""},
        {"<13>a: ", "k=\"", ""},
        {"<13>a: ", "k='\\", ""},
        {"<13>a: ", "=", ""},
        {"<13>a: ", "a=", ""},
        {"<13>a: k=", "(", ")"},
        {"<13>a: k=", ",", ""},
        {"<13>a: k=", ",a", ""},
        {"<13>", "CEF:", ""},
        {"<13>CEF:0|1|2|3|4|5|6|", "a=", ""},
        {"<13>CEF:0|1|2|3|4|5|6|", "a= ", ""},
        {"<13>CEF:0|", "\\|", ""},
        {"<13>CEF:0|1|2|3|4|5|6|", "a=\\=\\= ", ""},
        {"<13>a: ", "{\"a\":", ""},
        {"<13>a: {\"a\":", "[", ""},
        {"<13>a: {\"a\":[", "1,", "1]}"},
        {"<13>a: {\"a\":[", "[],", "1]}"},
        {"<13>a: {\"a\":\"", "\\u00e9", "\"}"},
        {"<13>a: {", "\"a\":\"\\n\",", "\"b\":1}"},
        {"<13>a: {\"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\":{", "\"b\":1,", "\"b\":1}}"},
        {"<13>", "\x9b\xff\n\t", ""},
        {"<13>", "a: 1: ", "Nov 23 04:45:00: %A-3-B: x"},
        {"<13>", "*a: ", ""},
        {"<13>", "2001:", ""},
        {"<13>", "fe80::1: ", "%A-3-B: x"},
        {"<13>", "a,", "b: c[1]: x"},
        {"<13>Nov 23 04:45:00 h ", "a(b)", ": x"},
        {"<13>Nov 23 04:45:00 h ", "(", ""},
        {"<13>", "[2026-11-23 04:45:00]", " x"},
        {"<13>", ": ", ""},
        {"<13>", "23 Nov ", "2026 04:45:00 x"},
        {"<13>%", "A-W-", "B: x"},
        {"<13>a: ", "k:\"v\";", ""},
        {"<13>a: k:\"", "\\\"", ""},
        {"<13>k:\"v\"; ", ":\"", ""},
        {"<13>k:\"v\"; ", "=:\"", ""},
        {"<13>LEEF:2.0|a|b|c|d|^|", "a=b^", ""},
        {"<13>LEEF:1.0|", "|", ""},
        {"<13>LEEF:1.0|a|b|c|d|", " =\t", ""},
        {"<13>", "@cee: ", "{}"},
        {"<13>", "\xc3\xa9", ""},
    };
    (void)state;
    check(all, sizeof all / sizeof *all, read_all);
}

static struct ind_conditions *set;
static struct ind_answers answers;
static ind_condition conditions[16];
static size_t condition_count;

static void ask_all(struct ind_slice bytes)
{
    struct ind_message message = {.text = bytes, .data = bytes, .original = bytes, .host = bytes};
    ind_answers_next(&answers);
    for (size_t i = 0; i < condition_count; i++)
        (void)ind_condition_holds(set, conditions[i], &message, &answers);
}

static void conditions_are_linear(void **state)
{
    static const char *const texts[] = {
        "text contains \"aaaaaaaab\"",
        "text contains \"AAAAAAAAB\" ignoring case",
        "text mentions \"aaaa\"",
        "text mentions \"a a\" ignoring case",
        "original ends with \"aaaab\"",
        "data a b is \"x\"",
        "field k is \"x\"",
        "host contains \"aaaaaaaab\"",
        "field a.b.c is present",
        "text within 192.0.2.0/24 or text at least 5",
    };
    static const struct hostile all[] = {
        {"", "a", ""},           {"", "aaaaaaaa", "c"}, {"", "a ", ""},        {"", "[a b=\"c\"]", ""},
        {"[a", " b=\"c\"", "]"}, {"", "k=v ", ""},      {"{", "\"a\":1,", ""}, {"", "1", ""},
    };
    (void)state;
    set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        struct ind_mistake mistake = {0};
        /* A network is no question to a text. */
        if (ind_condition_read(set, ind_slice_of(texts[i]), NULL, &conditions[condition_count], &mistake))
            condition_count++;
    }
    assert_true(condition_count >= 9);
    assert_true(ind_answers_begin(&answers, set));
    check(all, sizeof all / sizeof *all, ask_all);
    ind_answers_free(&answers);
    ind_conditions_free(set);
}

static struct ind_patterns *patterns;
static struct ind_matcher *matcher;

static void match(struct ind_slice bytes)
{
    (void)ind_match(matcher, bytes, IND_NOTHING, true);
}

static void matching_is_linear(void **state)
{
    static const char *const layouts[] = {
        "{a:text} x {b:text} x {c:text} x {d:text} y",
        "{a:word}.{b:word}.{c:word}.{d:word}!",
        "{a:text}/{p:path}z{q:path} q",
        "{a:text} {b:quoted} {c:quoted} w",
        "{a:text}({b:int}) {c:interface}: {d:duration} {e:host} {f:mac}?",
        "{a:text} {p:pairs} | {j:json} {t:time} .",
        "{a:text}<{r:re([a-z]*)}> {h:hex} {i:ip} {n:decimal} ;",
    };
    static const struct hostile all[] = {
        {"", "x ", ""},         {"", ".", ""},         {"", "/", ""},    {"", "\" \"", ""},
        {"", "a=b ", ""},       {"", "{\"a\":", ""},   {"", "(1) ", ""}, {"", "198.51.100.1 ", ""},
        {"", "ge0/1: 3d ", ""}, {"", "<a", "> "},      {"", "a", ""},    {"", " ", "x"},
        {"", "04:45:00 ", ""},  {"", "02:00:5e:", ""},
    };
    (void)state;
    uint32_t number;
    patterns = ind_patterns_new();
    assert_true(ind_patterns_add(patterns, IND_SLICE("p"), NULL, 0, &number));
    for (size_t i = 0; i < sizeof layouts / sizeof *layouts; i++) {
        struct ind_mistake mistake = {0};
        assert_true(ind_patterns_add_syntax(patterns, number, ind_slice_of(layouts[i]), &mistake));
    }
    assert_true(ind_patterns_compile(patterns));
    matcher = ind_matcher_new(patterns);
    check(all, sizeof all / sizeof *all, match);
    ind_matcher_free(matcher);
    ind_patterns_free(patterns);
}

static struct {
    struct ind_masker masker;
    struct ind_edit edit;
} masks;

static void hide(struct ind_slice bytes)
{
    struct ind_buffer out = ind_buffer_on(room, sizeof room);
    (void)ind_mask_write(&masks.edit, IND_IN_TEXT, bytes, &masks.masker, &out);
}

static void masking_is_linear(void **state)
{
    static const struct hostile all[] = {
        {"", "1:", ""},
        {"", "a:b:", ""},
        {"", "::", ""},
        {"", "1.", ""},
        {"", "198.51.100.1.", ""},
        {"", "192.0.2.9 ", ""},
        {"", "a@", ""},
        {"", "a", "@b.example"},
        {"", "a@b.", "."},
        {"", "+1 ", ""},
        {"", "(0", ""},
        {"", "0 ", ""},
        {"", "4111 ", ""},
        {"", "4111-1111-", ""},
        {"", "1", ""},
        {"", "password ", ""},
        {"", "password=", ""},
        {"", "key=\"", ""},
        {"", "key=\"\\", ""},
        {"", "key: 7 ", ""},
        {"", "aKey ", ""},
        {"", "00:11:22:", ""},
        {"", "0011.", ""},
        {"", "a", ""},
        {"", "\xff", ""},
        {"", "key ", "=1"},
        {"", "1-2-", ""},
        {"", "020-555-0123-", ""},
        {"", "tel ", ""},
        {"", "vlan 1-", ""},
        {"tel ", "1", ""},
        {"", "1x1", ""},
        {"", "+1 x1 ", ""},
        {"", "202-555-0134 ext. ", ""},
        {"", "((1) ", ""},
    };
    (void)state;
    assert_true(ind_masker_begin(&masks.masker));
    masks.edit = (struct ind_edit){.kinds = (1u << IND_MASK_KINDS) - 1, .stars = true};
    check(all, sizeof all / sizeof *all, hide);
    ind_masker_end(&masks.masker);
}

/* A test that could not fail would tell nothing: something quadratic is told. */
static void quadratic(struct ind_slice bytes)
{
    for (size_t i = 0; i < bytes.length; i += 8)
        (void)ind_escape_text(&(struct ind_buffer){room, 0, sizeof room, false}, ind_slice_from(bytes, i));
}

static void what_is_not_linear_is_seen(void **state)
{
    static const struct hostile hostile = {"", "a", ""};
    (void)state;
    assert_true(growth(&hostile, quadratic) > 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(reading_and_writing_are_linear),
        cmocka_unit_test(conditions_are_linear),
        cmocka_unit_test(matching_is_linear),
        cmocka_unit_test(masking_is_linear),
        cmocka_unit_test(what_is_not_linear_is_seen),
    };
    zone = ind_zone_fixed(0);
    devices = ind_devices_new(IND_SLICE("skerry.example"));
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_devices_free(devices);
    ind_zone_free(zone);
    return failed;
}
