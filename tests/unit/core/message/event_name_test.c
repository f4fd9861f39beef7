/* Events by their texts: what differs in numbers only is one, and written once more it stays what it is. */
#include "core/message/event_name.h"
#include "support/random.h"
#include "support/support.h"

static void expect(const char *text, const char *event)
{
    char room[400];
    struct ind_buffer out = ind_buffer_on(room, sizeof room - 1);
    ind_event_name_write(ind_slice_of(text), &out);
    room[out.length] = '\0';
    assert_string_equal(room, event);
}

static void numbers_are_taken_out_and_codes_stand_for_all(void **state)
{
    (void)state;
    expect("Failed password for tern from 203.0.113.7 port 4022 ssh2",
           "Failed password for tern from # port #");
    expect("ge0/24 (uplink to pier3-rtr) link down", "# (uplink to #) link down");
    expect("%LINK-3-CHANGE: Interface ge0/1, changed state to down", "%LINK-3-CHANGE");
    expect("%PKT-LINK-3-CHANGE : text", "%PKT-LINK-3-CHANGE");
    expect("#PORT-4-FLAP: ge0/1", "#PORT-4-FLAP");
    expect("DROP IN=ge0 OUT= SRC=198.51.100.7 DPT=23", "DROP IN=# OUT= SRC=# DPT=#");
    expect("temperature 71 degrees, limit 70", "temperature # degrees, limit #");
    expect("counters 1 2 3 4, of 7", "counters #, of #");
    expect("ge0/1: up", "#: up");
    expect("at 4 .", "at # .");
    expect("no number", "no number");
    expect("", "");
    expect("7", "#");
}

static void written_once_more_it_stays(void **state)
{
    static const char *const pieces[] = {"a", "7",           " ",   ":",        "(",  ")", "=", "#",
                                         ".", "%LINK-3-X: ", "-3-", "\xc3\xa9", "\"", ",", "\t"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 20000; round++) {
        char text[200] = "", once[400], twice[400];
        for (unsigned i = ind_random(&random, 20); i > 0; i--)
            strcat(text, pieces[ind_random(&random, sizeof pieces / sizeof *pieces)]);
        struct ind_buffer first = ind_buffer_on(once, sizeof once - 1),
                          second = ind_buffer_on(twice, sizeof twice - 1);
        ind_event_name_write(ind_slice_of(text), &first);
        ind_event_name_write(ind_buffer_view(&first), &second);
        /* But for a code, which loses its colon. */
        if (text[0] != '%' && text[0] != '#' &&
            (first.length != second.length || memcmp(once, twice, first.length) != 0))
            fail_msg("%s: %.*s, %.*s", text, (int)first.length, once, (int)second.length, twice);
        assert_true(first.length <= strlen(text));
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(numbers_are_taken_out_and_codes_stand_for_all),
        cmocka_unit_test(written_once_more_it_stays),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
