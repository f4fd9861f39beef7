/* The collector's own messages: each is one that we read as it was meant, and has its row in the
 * documentation. */
#include "support/support.h"

#include "core/message/header.h"
#include "core/message/own.h"
#include "core/message/structured_data.h"
#include <string.h>

static void every_kind_is_read_back_and_documented(void **state)
{
    char *documented = ind_read_file(IND_SOURCE_FOLDER "/docs/own-messages.md", NULL);
    (void)state;
    assert_non_null(documented);
    for (int own = 0; own < IND_OWN_KINDS; own++) {
        char text[600], row[80];
        struct ind_message message;
        struct ind_buffer out = ind_buffer_on(text, sizeof text);
        ind_own_write(&out, (enum ind_own)own, INT64_C(1795409100) * IND_SECOND, IND_SLICE("hq-log"), 4711,
                      own % 2 ? IND_WITH({"file", IND_SLICE("a.log")}) : NULL,
                      IND_SLICE("what it is: about"));
        ind_header_read(text, out.length, 0, NULL, &message);
        assert_int_equal(message.form, IND_FORM_RFC5424);
        assert_int_equal(message.malformed, IND_MALFORMED_NOT);
        assert_int_equal(message.facility, IND_FACILITY_SYSLOG);
        assert_int_equal(message.severity, ind_own_severity((enum ind_own)own));
        assert_slice(message.app, "indagator");
        assert_slice(message.procid, "4711");
        assert_true(ind_slice_equal(message.msgid, ind_own_id((enum ind_own)own)));
        assert_slice(message.data, own % 2 ? "[indagator@32473 file=\"a.log\"]" : "");
        assert_slice(message.text, "what it is: about");
        struct ind_slice severity = ind_severity_name(ind_own_severity((enum ind_own)own));
        snprintf(row, sizeof row, "| `%s` | %.*s |", ind_own_id((enum ind_own)own).at, IND_ARG(severity));
        if (!strstr(documented, row))
            print_error("docs/own-messages.md has no row %s\n", row);
        assert_non_null(strstr(documented, row));
    }
    free(documented);
}

/* Values may be a stranger's: whatever they are, there is one parameter, and no more. */
static void no_value_leaves_its_place(void **state)
{
    static const char *const values[] = {"\"] [x y=\"z", "\\",        "a\\\"", "\x1b[2J",
                                         "\xff\xfe",     "]\n<13>1 ", ""};
    (void)state;
    for (size_t i = 0; i < sizeof values / sizeof *values; i++) {
        char text[800];
        struct ind_message message;
        struct ind_buffer out = ind_buffer_on(text, sizeof text);
        ind_own_write(&out, IND_OWN_TLS_FAILED, 0, IND_SLICE("h"), 1,
                      IND_WITH({"certificate", ind_slice_of(values[i])}), IND_SLICE("the text"));
        ind_header_read(text, out.length, 0, NULL, &message);
        assert_int_equal(message.malformed, IND_MALFORMED_NOT);
        assert_slice(message.text, "the text");
        assert_int_equal(ind_data_length(message.data), message.data.length);
        for (size_t n = 0; n < out.length; n++)
            assert_true((unsigned char)text[n] >= ' ' && (unsigned char)text[n] < 0x7f);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_kind_is_read_back_and_documented),
        cmocka_unit_test(no_value_leaves_its_place),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
