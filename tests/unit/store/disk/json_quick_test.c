/* Lines of the layout `json` read the short way, against the long one: those that we write, and those with
 * any byte changed. */
#include "core/line/line.h"
#include "core/message/header.h"
#include "store/disk/json_line.h"
#include "store/disk/json_quick.h"
#include "support/random.h"
#include "support/support.h"

#include <stdlib.h>

static void expect_same(struct ind_slice line, struct ind_json_line *reader, unsigned *quick)
{
    struct ind_message one, other;
    if (!ind_json_quick_read(line, &one))
        return;
    ++*quick;
    assert_true(ind_json_line_read_any(reader, line, &other));
    const struct ind_slice *ours[] = {&one.host,     &one.app,         &one.procid,   &one.msgid,
                                      &one.text,     &one.data,        &one.sender,   &one.device,
                                      &one.listener, &one.certificate, &one.location, &one.sequence};
    const struct ind_slice *theirs[] = {
        &other.host,   &other.app,    &other.procid,   &other.msgid,       &other.text,     &other.data,
        &other.sender, &other.device, &other.listener, &other.certificate, &other.location, &other.sequence};
    for (size_t i = 0; i < sizeof ours / sizeof *ours; i++)
        if (!ind_slice_equal(*ours[i], *theirs[i]))
            fail_msg("%.*s: \"%.*s\" and \"%.*s\"", IND_ARG(line), IND_ARG(*ours[i]), IND_ARG(*theirs[i]));
    assert_int_equal(one.time, other.time);
    assert_int_equal(one.sent, other.sent);
    assert_int_equal(one.received, other.received);
    assert_int_equal(one.facility, other.facility);
    assert_int_equal(one.severity, other.severity);
    assert_int_equal(one.form, other.form);
    assert_int_equal(one.malformed, other.malformed);
    assert_int_equal(one.transport, other.transport);
    assert_int_equal(one.line_cut, other.line_cut);
}

static void the_short_way_gives_the_same(void **state)
{
    static const char *const messages[] = {
        "<164>1 2026-11-23T04:45:00Z harbour-fw kernel 4 M - IN=ge0 OUT= SRC=203.0.113.7 DPT=22",
        "<34>Oct 11 22:14:15 pier1-rtr su[12]: failed",
        "<189>29: pier1-rtr: Nov 23 04:45:00: %FILTER-4-DROP: IN=ge0",
        "no header",
        "<13>1 - - - - - - text with \"quotes\" and \\",
        "<13>1 - h a - - [x@1 y=\"z\"] data"};
    static const char odd[] = "{}[]\",:\\ 019ae-.x";
    static char line[8192];
    uint64_t random = IND_RANDOM_START;
    struct ind_json_line *reader = ind_json_line_new();
    struct ind_zone *utc = ind_zone_fixed(0);
    unsigned quick = 0, whole = 0;
    (void)state;
    for (int i = 0; i < 60000; i++) {
        struct ind_message message;
        struct ind_line_clock clock = {0};
        struct ind_buffer out = ind_buffer_on(line, sizeof line);
        const char *bytes = messages[ind_random(&random, 100003) % (sizeof messages / sizeof *messages)];
        ind_header_read(bytes, strlen(bytes), INT64_C(1795409100) * IND_SECOND, utc, &message);
        message.time = message.received = INT64_C(1795409100) * IND_SECOND;
        message.device = message.host.length ? message.host : IND_SLICE("192.0.2.9");
        message.sender = IND_SLICE("192.0.2.9");
        message.listener = IND_SLICE("udp 0.0.0.0:514");
        (void)ind_line_write(IND_LAYOUT_JSON, &message, &clock, &out);
        struct ind_slice text = {line, out.length - 1};
        if (i % 4 == 0) {
            expect_same(text, reader, &whole);
        } else {
            for (unsigned n = ind_random(&random, 100003) % 3 + 1; n > 0; n--)
                line[ind_random(&random, (unsigned)text.length)] =
                    odd[ind_random(&random, 100003) % (sizeof odd - 1)];
            text.length -= ind_random(&random, 100003) % 50 == 0;
            expect_same(text, reader, &quick);
        }
    }
    print_message("%u as written, %u changed were read the short way\n", whole, quick);
    assert_true(whole > 9000 && quick > 1000);
    ind_json_line_free(reader);
    ind_zone_free(utc);
}

static void fields_and_labels_are_passed_over(void **state)
{
    static const char *const lines[] = {
        "{\"time\":\"2026-11-23T04:45:00Z\",\"facility\":\"user\",\"severity\":\"info\",\"fields\":{\"a\":"
        "\"b\"},\"labels\":{},\"text\":\"x\"}",
        "{\"time\":\"2026-11-23T04:45:00Z\",\"facility\":\"user\",\"severity\":\"info\",\"fields\":{\"code_"
        "sequence\":\"7\"}}",
        "{\"time\":\"2026-11-23T04:45:00Z\",\"facility\":\"user\",\"severity\":\"info\",\"time\":\"2026-11-"
        "23T04:45:00Z\"}",
        "{\"time\":\"2026-11-23T04:45:00Z\",\"facility\":\"user\",\"severity\":\"info\",\"labels\":{\"a\":{"
        "\"b\":{\"c\":[[]]}}}} "};
    struct ind_json_line *reader = ind_json_line_new();
    unsigned quick = 0;
    (void)state;
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++) {
        expect_same(ind_slice_of(lines[i]), reader, &quick);
        assert_int_equal(quick, 1); /* the first alone */
    }
    ind_json_line_free(reader);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_short_way_gives_the_same),
        cmocka_unit_test(fields_and_labels_are_passed_over),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
