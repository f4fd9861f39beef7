/* What people are told, word for word; and that a page shows what strangers made up as what it is. */
#include "core/alert/letter.h"
#include "support/support.h"

static char line[] = "2026-11-23T04:45:00.000000Z 0.00 harbour-fw auth info sshd - - - <b>Failed</b> & 'so'";
static char note[] = "blocked at the firewall";

static struct ind_alert alert(void)
{
    const ind_time time = INT64_C(1795409100) * IND_SECOND; /* 2026-11-23T04:45:00Z */
    return (struct ind_alert){.key = "203.0.113.7",
                              .state = IND_ALERT_IS_OPEN,
                              .number = 12,
                              .opened = time,
                              .ended = IND_TIME_NONE,
                              .first = time - 60 * IND_SECOND,
                              .last = time,
                              .count = 21,
                              .acknowledged = IND_TIME_NONE,
                              .lines = {line}};
}

static char text[64 << 10];

static const char *write(void (*how)(const struct ind_letter *letter, struct ind_buffer *buffer),
                         const struct ind_letter_item *items, size_t count, size_t room)
{
    const struct ind_letter letter = {
        .items = items, .count = count, .zone_name = "UTC", .host = "harbour-log"};
    struct ind_buffer buffer = ind_buffer_on(text, room - 1);
    how(&letter, &buffer);
    assert_false(buffer.full);
    text[buffer.length] = '\0';
    return text;
}

static void one_that_opened(void **state)
{
    const struct ind_alert one = alert();
    const struct ind_letter_item item = {.event = IND_ALERT_OPENED,
                                         .at = one.opened,
                                         .alert = &one,
                                         .name = "guessing",
                                         .reason = "more than 20 in 5 min by field peer",
                                         .when = "pattern is \"login-failed\""};
    (void)state;
    assert_string_equal(write(ind_letter_subject, &item, 1, 300), "guessing, 203.0.113.7: opened");
    assert_string_equal(
        write(ind_letter_text, &item, 1, sizeof text),
        "guessing, 203.0.113.7\n"
        "  opened at 2026-11-23 04:45:00\n"
        "  21 messages from 2026-11-23 04:44:00 to 2026-11-23 04:45:00\n"
        "  more than 20 in 5 min by field peer\n"
        "    2026-11-23T04:45:00.000000Z 0.00 harbour-fw auth info sshd - - - <b>Failed</b> & 'so'\n"
        "  See it:        indagator alerts show 12\n"
        "  See to it:     indagator alerts ack guessing 203.0.113.7\n"
        "  Its messages:  indagator search --when 'pattern is \"login-failed\"' --since "
        "2026-11-23T04:44:00Z\n"
        "\n"
        "Times are those of UTC; lines are as they were stored. All that is open: indagator alerts list\n"
        "The collector on harbour-log\n");
    const char *page = write(ind_letter_page, &item, 1, sizeof text);
    assert_non_null(strstr(page, "&lt;b&gt;Failed&lt;/b&gt; &amp;"));
    assert_null(strstr(page, "<b>"));
}

static void one_that_is_over_and_was_held_back(void **state)
{
    struct ind_alert one = alert();
    const struct ind_letter_item item = {.event = IND_ALERT_OVER,
                                         .at = one.opened + 600 * IND_SECOND,
                                         .held = true,
                                         .alert = &one,
                                         .name = "it's",
                                         .reason = "",
                                         .when = ""};
    (void)state;
    one.key = "a 'b'";
    one.note = note;
    memcpy(one.who, "tern", 5);
    one.lines[0] = NULL;
    assert_string_equal(write(ind_letter_text, &item, 1, sizeof text),
                        "it's, a 'b'\n"
                        "  over at 2026-11-23 04:55:00, open since 2026-11-23 04:45:00, held back until now\n"
                        "  21 messages from 2026-11-23 04:44:00 to 2026-11-23 04:45:00\n"
                        "  acknowledged by tern: blocked at the firewall\n"
                        "  See it:        indagator alerts show 12\n"
                        "\n"
                        "Times are those of UTC; lines are as they were stored. All that is open: indagator "
                        "alerts list\n"
                        "The collector on harbour-log\n");
    struct ind_letter_item opened = item;
    opened.event = IND_ALERT_OPENED;
    assert_non_null(
        strstr(write(ind_letter_text, &opened, 1, sizeof text), "ack 'it'\\''s' 'a '\\''b'\\'''\n"));
}

static void many_have_room_for_what_fits(void **state)
{
    enum { MANY = 400 };
    static struct ind_letter_item items[MANY];
    static char key[200];
    struct ind_alert one = alert();
    (void)state;
    memset(key, 'k', sizeof key - 1);
    one.key = key;
    for (size_t i = 0; i < MANY; i++)
        items[i] = (struct ind_letter_item){.event = IND_ALERT_OPENED,
                                            .at = one.opened,
                                            .alert = &one,
                                            .name = i % 2 ? "guessing" : "fell-silent",
                                            .reason = "",
                                            .when = ""};
    assert_string_equal(write(ind_letter_subject, items, MANY, 300), "fell-silent, guessing: 400 alerts");
    assert_non_null(strstr(write(ind_letter_text, items, MANY, sizeof text), "and "));
    assert_non_null(strstr(text, "The collector on harbour-log\n"));
    assert_non_null(strstr(write(ind_letter_page, items, MANY, sizeof text), "</html>"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(one_that_opened),
        cmocka_unit_test(one_that_is_over_and_was_held_back),
        cmocka_unit_test(many_have_room_for_what_fits),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
