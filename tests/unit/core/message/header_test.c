#include "support/moment.h"
#include "support/random.h"
#include "support/support.h"

#include "core/message/header.h"
#include "core/message/names.h"

/* Monday 2026-11-23 04:45:00 UTC */
#define REFERENCE (INT64_C(1795409100) * IND_SECOND)

static struct ind_zone *utc;
static struct ind_message m;

static void read(const char *text)
{
    ind_header_read(text, strlen(text), REFERENCE, utc, &m);
}

static void header_reads_rfc5424_whole(void **state)
{
    (void)state;
    read("<165>1 2003-10-11T22:14:15.003Z pier1-rtr.example.com evntslog 77 ID47 "
         "[exampleSDID@32473 iut=\"3\" eventSource=\"App\\]li\\\"cation\"][x@32473] \xEF\xBB\xBF"
         "An event");
    assert_int_equal(m.form, IND_FORM_RFC5424);
    assert_int_equal(m.malformed, IND_MALFORMED_NOT);
    assert_int_equal(m.facility, 20);
    assert_int_equal(m.severity, 5);
    assert_slice(m.host, "pier1-rtr.example.com");
    assert_slice(m.app, "evntslog");
    assert_slice(m.procid, "77");
    assert_slice(m.msgid, "ID47");
    assert_slice(m.data, "[exampleSDID@32473 iut=\"3\" eventSource=\"App\\]li\\\"cation\"][x@32473]");
    assert_slice(m.text, "An event");
    assert_true(m.sent == at("2003-10-11T22:14:15.003Z"));
}

static void header_takes_nil_for_absent(void **state)
{
    (void)state;
    read("<0>1 - - - - - -");
    assert_int_equal(m.form, IND_FORM_RFC5424);
    assert_int_equal(m.malformed, IND_MALFORMED_NOT);
    assert_true(m.sent == IND_TIME_NONE);
    assert_int_equal(
        m.host.length + m.app.length + m.procid.length + m.msgid.length + m.data.length + m.text.length, 0);
}

static void header_keeps_what_was_read_where_it_breaks_off(void **state)
{
    (void)state;
    read("<34>1 2026-11-23T04:45:00Z pier1-rtr su");
    assert_int_equal(m.malformed, IND_MALFORMED_HEADER_END);
    assert_slice(m.host, "pier1-rtr");
    assert_slice(m.app, "su");
    assert_int_equal(m.text.length, 0);
    read("<34>1 2026-11-23T04:45:00Z pier1-rtr su - ID [x y=\"never closed] text");
    assert_int_equal(m.malformed, IND_MALFORMED_STRUCTURED_DATA);
    assert_slice(m.msgid, "ID");
    assert_int_equal(m.data.length, 0);
    assert_slice(m.text, "[x y=\"never closed] text");
    read("<34>1 2026-13-23T04:45:00Z pier1-rtr su - - - text");
    assert_int_equal(m.malformed, IND_MALFORMED_TIME);
    assert_int_equal(m.severity, 2);
    assert_slice(m.text, "2026-13-23T04:45:00Z pier1-rtr su - - - text");
}

static void header_reads_rfc3164(void **state)
{
    (void)state;
    read("<34>Oct 11 22:14:15 pier1-rtr su[12]: 'su root' failed for tern on /dev/pts/8");
    assert_int_equal(m.form, IND_FORM_RFC3164);
    assert_int_equal(m.facility, 4);
    assert_int_equal(m.severity, 2);
    assert_slice(m.host, "pier1-rtr");
    assert_slice(m.app, "su");
    assert_slice(m.procid, "12");
    assert_slice(m.text, "'su root' failed for tern on /dev/pts/8");
    assert_true(m.sent == at("2026-10-11T22:14:15Z"));
}

static void header_settles_the_year(void **state)
{
    static const struct {
        const char *text, *sent, *reference;
    } cases[] = {
        {"<34>Nov 24 04:44:59 h a: t", "2026-11-24T04:44:59Z",
         "2026-11-23T04:45:00Z"}, /* just less than a day ahead */
        {"<34>Nov 24 04:45:01 h a: t", "2025-11-24T04:45:01Z", "2026-11-23T04:45:00Z"},
        {"<34>Dec 31 23:59:59 h a: t", "2026-12-31T23:59:59Z", "2027-01-01T00:00:01Z"},
        {"<34>Jan  1 00:00:01 h a: t", "2027-01-01T00:00:01Z", "2026-12-31T23:59:59Z"},
        {"<34>Feb 29 12:00:00 h a: t", "2024-02-29T12:00:00Z", "2026-11-23T04:45:00Z"},
        {"<34>Feb 29 12:00:00 h a: t", "2028-02-29T12:00:00Z", "2028-02-29T11:00:00Z"},
        {"<34>Mar 05 12:00:60 h a: t", "2026-03-05T12:01:00Z", "2026-11-23T04:45:00Z"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        ind_header_read(cases[i].text, strlen(cases[i].text), at(cases[i].reference), utc, &m);
        assert_true(m.sent == at(cases[i].sent));
    }
}

static void header_follows_the_zone_of_times_without_offset(void **state)
{
    (void)state;
    struct ind_zone *east = ind_zone_fixed(3 * 3600);
    const char *text = "<34>Nov 23 07:44:00 mv-tern-ap1 wland: up";
    ind_header_read(text, strlen(text), REFERENCE, east, &m);
    assert_true(m.sent == at("2026-11-23T04:44:00Z"));
    ind_zone_free(east);
}

/* RFC 3164 section 4.3.3 */
static void header_keeps_what_has_none_as_user_notice(void **state)
{
    static const char *const texts[] = {"old terminal server says hello", "<", "<>", "<abc>x", "", "a: b",
                                        "Nov 99 04:45:00 h a: t"};
    (void)state;
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        read(texts[i]);
        assert_int_equal(m.form, IND_FORM_BARE);
        assert_int_equal(m.facility, IND_FACILITY_USER);
        assert_int_equal(m.severity, IND_SEVERITY_NOTICE);
        assert_slice(m.text, texts[i]);
        assert_slice(m.original, texts[i]);
    }
}

static void header_keeps_the_text_when_the_pri_is_out_of_range(void **state)
{
    static const char *const texts[] = {"<192>x", "<007>x", "<1234>x", "<13 x", "<999>1 - - - - - - x"};
    (void)state;
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        read(texts[i]);
        assert_int_equal(m.malformed, IND_MALFORMED_PRI);
        assert_int_equal(m.facility, IND_FACILITY_USER);
        assert_slice(m.text, texts[i]);
    }
}

static void header_reads_every_pri(void **state)
{
    (void)state;
    for (int pri = 0; pri < IND_PRIS; pri++) {
        char text[64];
        snprintf(text, sizeof text, "<%d>1 - h a - - - t", pri);
        read(text);
        assert_int_equal(m.facility * 8 + m.severity, pri);
        assert_slice(m.text, "t");
    }
}

static void header_understands_what_is_sent_in_the_name_of_rfc3164(void **state)
{
    static const struct {
        const char *text;
        enum ind_form form;
        const char *host, *app, *procid, *rest;
    } cases[] = {
        {"<13>Nov 23 04:45:00 pier1-rtr no tag here", IND_FORM_RFC3164, "pier1-rtr", "", "", "no tag here"},
        {"<13>Nov 23 04:45:00  app: empty host", IND_FORM_RFC3164, "", "app", "", "empty host"},
        {"<13>Nov 23 04:45:00 app: no host", IND_FORM_RFC3164, "", "app", "", "no host"},
        {"<13>Nov 23 04:45:00 app[7]: no host", IND_FORM_RFC3164, "", "app", "7", "no host"},
        {"<13>Nov 23 04:45:00 h /usr/sbin/x[7] y", IND_FORM_RFC3164, "h", "/usr/sbin/x", "7", "y"},
        {"<13>Nov 23 04:45:00 h a[7]:x", IND_FORM_RFC3164, "h", "a", "7", "x"},
        {"<13>2026-11-23T04:45:00Z h a: t", IND_FORM_RFC3164, "h", "a", "", "t"},
        {"<189>pier4-ups: on battery", IND_FORM_RFC3164, "", "pier4-ups", "", "on battery"},
        {"<188>mains has returned", IND_FORM_BARE, "", "", "", "mains has returned"},
        {"<13>Nov 23 04:45:00 h 2001:db8::1 seen", IND_FORM_RFC3164, "h", "", "", "2001:db8::1 seen"},
        {"<13>Nov 23 04:45:00 h CEF:0|a|b", IND_FORM_RFC3164, "h", "", "", "CEF:0|a|b"},
        {"<13>Nov 23 04:45:00 h IN=ge0 OUT= SRC=203.0.113.7", IND_FORM_RFC3164, "h", "", "",
         "IN=ge0 OUT= SRC=203.0.113.7"},
        {"Nov 23 04:45:00 h a[1]: no pri", IND_FORM_RFC3164, "h", "a", "1", "no pri"},
        {"<13>Nov 23 04:45:00 word", IND_FORM_RFC3164, "", "", "", "word"},
        {"<13>Nov 23 04:45:00", IND_FORM_RFC3164, "", "", "", ""},
        {"<13>1 user logged in", IND_FORM_BARE, "", "", "", "1 user logged in"},
    };
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        read(cases[i].text);
        if (m.form != cases[i].form)
            print_error("%s\n", cases[i].text);
        assert_int_equal(m.form, cases[i].form);
        assert_slice(m.host, cases[i].host);
        assert_slice(m.app, cases[i].app);
        assert_slice(m.procid, cases[i].procid);
        assert_slice(m.text, cases[i].rest);
    }
}

static void header_takes_line_ends_off(void **state)
{
    (void)state;
    ind_header_read("<13>1 - h a - - - t\r\n\0", 22, REFERENCE, utc, &m);
    assert_slice(m.text, "t");
    assert_slice(m.original, "<13>1 - h a - - - t");
}

static void header_accepts_what_is_readable_and_says_so(void **state)
{
    (void)state;
    read("<13>1 2026-11-23t04:45:00z h a - - - t");
    assert_int_equal(m.malformed, IND_MALFORMED_TIME_FORM);
    assert_true(m.sent == at("2026-11-23T04:45:00Z"));
    read("<13>1 2026-11-23T04:45:00.123456789+01:30 h a - - - t");
    assert_int_equal(m.malformed, IND_MALFORMED_NOT);
    assert_true(m.sent == at("2026-11-23T03:15:00.123456789Z"));
    read("<13>1 - h a - thismessageidislongerthanthirtytwobytes - t");
    assert_int_equal(m.malformed, IND_MALFORMED_FIELD_LENGTH);
    assert_slice(m.text, "t");
}

/* Every cut of a message is read without touching a byte behind its end (the sanitizers watch). */
static void header_reads_every_beginning_of_a_message(void **state)
{
    static const char *const texts[] = {
        "<165>1 2003-10-11T22:14:15.003Z host app 77 ID47 [a@1 b=\"c\\\"\"] text",
        "<34>Oct 11 22:14:15 pier1-rtr su[12]: 'su root' failed", "Nov 23 04:45:00 h a[1]: no pri"};
    (void)state;
    for (size_t i = 0; i < 3; i++)
        for (size_t length = 0; length <= strlen(texts[i]); length++) {
            char *exact = malloc(length ? length : 1);
            assert_non_null(exact);
            memcpy(exact, texts[i], length);
            ind_header_read(exact, length, REFERENCE, utc, &m);
            assert_true(m.text.length <= length);
            free(exact);
        }
}

/* What the first bytes say alone is what the header says. */
static void the_pri_alone_is_that_of_the_header(void **state)
{
    static const char signs[] = "<<<>>0123456789 19\n\r:a-";
    uint64_t random = IND_RANDOM_START;
    unsigned given = 0;
    (void)state;
    for (int round = 0; round < 200000; round++) {
        char bytes[12];
        const size_t length = ind_random(&random, sizeof bytes);
        for (size_t i = 0; i < length; i++)
            bytes[i] = i == 0 && round % 4 ? '<' : signs[ind_random(&random, sizeof signs)];
        ind_header_read(bytes, length, REFERENCE, utc, &m);
        given += m.pri_given;
        assert_int_equal(ind_header_pri(bytes, length), m.facility * 8u + m.severity);
    }
    assert_true(given > 1000);
}

static void header_reads_both_halves_of_the_day(void **state)
{
    static const struct {
        const char *clock;
        int hour;
    } cases[] = {{"12:01:13 AM", 0},  {"01:01:13 AM", 1},  {"11:01:13 am", 11}, {"12:01:13 PM", 12},
                 {"01:01:13 PM", 13}, {"11:01:13 pm", 23}, {"13:01:13 PM", 13}, {"00:01:13 AM", 0}};
    char line[80];
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        snprintf(line, sizeof line, "<189>2003 Oct 10 %s pier1-rtr app: text", cases[i].clock);
        read(line);
        assert_slice(m.host, "pier1-rtr");
        assert_int_equal((ind_time_seconds(m.sent) % IND_DAY_SECONDS) / 3600, cases[i].hour);
    }
}

/* Texts that look nearly like something in front of a text, and are none: they stay whole. */
static void free_texts_stay_whole(void **state)
{
    static const char *const texts[] = {
        ":-) all is well",
        ": a colon and text",
        ":12 minutes left",
        "::1 is loopback",
        "123: bottles: 000123: of beer",
        "123: pier1-rtr: 12: bottles",
        "12: 13: 14: 15",
        "10:01:13 PM: meeting",
        "1d02h of uptime",
        "2001:db8::131 is unreachable",
        "2001:db8::131 Nov is a month",
        "192.0.2.9 connected at Nov 23 04:44:59",
        "192.0.2.9: connected",
        "fe80::1: neighbour lost",
        "ab:cd: text",
        "*** alarm: fan failed",
        "*bold*: text",
        "*note: see Nov 23",
        "* item: text",
        "*task: done at Nov 23 04:44:59",
        "1795409100.1234567890 too many digits",
        "0123456789.123 begins with zero",
        "12345.678 is a number",
        "192.168 is half an address",
        "one,two: three",
        "one,two: three: four",
        "Warning,disk: raid: degraded",
        "Warning, disk: degraded",
        "a,b,c: d: e",
        "AP350,02005e00112,v6.1: app: eleven digits",
        "[Nov 23] text",
        "[error] 31: text",
        "[192.0.2.9] app: text",
        "12-Nov-seven items",
        "10-20-30: x",
        "2026.11.23 is a date",
        "[04:45:00] text",
        "[2026-11-23 04:45:00]text glued",
        "[] nothing between brackets",
        "[]",
        "[]: nothing",
        "[2026-11-23 04:45:00 text",
        "[2026-13-23 04:45:00] no month",
        "2026/11/23 is a date",
        "2026/13/23 04:45:00 no month",
        "2026/11/23 24:45:00 no hour",
        "27.11.2026 is a date",
        "27.13.2026 04:45:00 no month",
        "31.02.2026 04:45:00 no such day",
        "1.2.3.4 is an address",
        "10.20.3000 04:45:00 no year",
        "23 Nov is a day",
        "23 Nov 2026 is a date",
        "23 packets 04:45:00 lost",
        "4 Mon 04:45:00 x",
        "31 Feb 2026 04:45:00 no such day",
        "Mon, the 23rd",
        "Mon, 23 Nov 2026",
        "  leading blanks stay",
        " a text that begins with a blank",
        " (aside): note",
        " 12: bottles",
        " <b>bold</b>",
        " 1 potato 2 potato",
        "@cee text",
        "@cee: no json",
    };
    static const char *const behind_host[] = {
        " just two spaces",     " (aside): note",   "(aside): note",
        "(aside) note[1]: x",   "f(x)=3: y",        "su(): text",
        "su(a b)[1]: text",     "su(pam[12]: text", "((x))[1]: text",
        "LEEF is a format",     "LEEF:3.0|a|b",     "%A-X-B: letter that is no severity",
        "%A-w-B: small letter", "#A-W-B: a hash",   "%-W-B: no group",
        "%A-W-: no name",
    };
    char line[256];
    (void)state;
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        snprintf(line, sizeof line, "<189>%s", texts[i]);
        read(line);
        if (!ind_slice_equal(m.text, ind_slice_of(texts[i])))
            print_error("%s\n", line);
        assert_slice(m.text, texts[i]);
        assert_int_equal(m.host.length + m.app.length + m.procid.length + m.sequence.length, 0);
        assert_int_equal(m.form, IND_FORM_BARE);
    }
    for (size_t i = 0; i < sizeof behind_host / sizeof *behind_host; i++) {
        snprintf(line, sizeof line, "<189>Nov 23 04:45:00 hq-srv1 %s", behind_host[i]);
        read(line);
        assert_slice(m.text, behind_host[i]);
        assert_slice(m.host, "hq-srv1");
        assert_int_equal(m.app.length, 0);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(header_reads_rfc5424_whole),
        cmocka_unit_test(header_takes_nil_for_absent),
        cmocka_unit_test(the_pri_alone_is_that_of_the_header),
        cmocka_unit_test(header_reads_both_halves_of_the_day),
        cmocka_unit_test(free_texts_stay_whole),
        cmocka_unit_test(header_keeps_what_was_read_where_it_breaks_off),
        cmocka_unit_test(header_reads_rfc3164),
        cmocka_unit_test(header_settles_the_year),
        cmocka_unit_test(header_follows_the_zone_of_times_without_offset),
        cmocka_unit_test(header_keeps_what_has_none_as_user_notice),
        cmocka_unit_test(header_keeps_the_text_when_the_pri_is_out_of_range),
        cmocka_unit_test(header_reads_every_pri),
        cmocka_unit_test(header_understands_what_is_sent_in_the_name_of_rfc3164),
        cmocka_unit_test(header_takes_line_ends_off),
        cmocka_unit_test(header_accepts_what_is_readable_and_says_so),
        cmocka_unit_test(header_reads_every_beginning_of_a_message),
    };
    utc = ind_zone_fixed(0);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_zone_free(utc);
    return failed;
}
