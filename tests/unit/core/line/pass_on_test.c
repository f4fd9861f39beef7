/* A message that is passed on is read by the other side as it was here: the first sender, its parts, its very
 * bytes; and it goes round no more than eight times. */
#include "core/line/line.h"
#include "core/line/pass_on.h"
#include "core/message/header.h"
#include "support/odd.h"
#include "support/random.h"
#include "support/support.h"

#include <stdlib.h>

static struct ind_devices *devices;
static const struct ind_device *relay, *firewall;
static struct ind_zone *utc;
static char scratch[IND_DEVICE_SCRATCH], *room;
#define NOW (INT64_C(1800000000) * IND_SECOND)

static const struct ind_device *add(const char *name, const char *address, bool is_relay)
{
    struct ind_network network;
    struct ind_device *device = ind_devices_add(devices, ind_slice_of(name));
    device->relay = is_relay;
    assert_int_equal(ind_network_read(ind_slice_of(address), &network), IND_NETWORK_OK);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, device), device);
    assert_ptr_equal(ind_devices_tie_name(devices, ind_slice_of(name), device), device);
    return device;
}

static int set_up(void **state)
{
    (void)state;
    devices = ind_devices_new(IND_SLICE("skerry.example"));
    room = malloc(IND_LINE_MOST);
    utc = ind_zone_fixed(0);
    firewall = add("harbour-fw", "192.0.2.9", false);
    relay = add("pier1-collector", "192.0.2.200", true);
    return devices && room && utc ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_devices_free(devices);
    ind_zone_free(utc);
    free(room);
    return 0;
}

static struct ind_message read_from(const char *sender, const struct ind_device *of_sender,
                                    struct ind_slice bytes)
{
    struct ind_message message;
    const struct ind_header_context context = {.devices = devices,
                                               .of_sender = of_sender,
                                               .sender = ind_slice_of(sender),
                                               .reference = NOW,
                                               .zone = utc,
                                               .scratch = scratch};
    ind_header_read_with_device(&context, bytes, &message);
    message.received = message.time = NOW;
    return message;
}

static struct ind_slice pass_on(const struct ind_message *message)
{
    struct ind_buffer out = ind_buffer_on(room, IND_LINE_MOST);
    (void)ind_pass_on_write(IND_PASS_ON_RFC5424, message, &out);
    assert_false(out.full);
    return ind_buffer_view(&out);
}

#define EXPECT_PASSED(sender, of_sender, message, expected)                                                  \
    do {                                                                                                     \
        const struct ind_message read = read_from(sender, of_sender, IND_SLICE(message));                    \
        ind_assert_slice(pass_on(&read), expected, __FILE__, __LINE__);                                      \
    } while (0)

static void it_bears_its_first_sender(void **state)
{
    (void)state;
    EXPECT_PASSED("192.0.2.9", firewall, "<164>1 2027-01-15T08:00:00Z hfw kernel - - - IN=ge0",
                  "<164>1 2027-01-15T08:00:00.000000Z hfw kernel - - [origin ip=\"192.0.2.9\"]"
                  "[passed@32473 hops=\"1\" received=\"2027-01-15T08:00:00.000000Z\"] IN=ge0");
    /* What claims nothing gets nothing put into its mouth. */
    EXPECT_PASSED("192.0.2.9", firewall, "<164>link down",
                  "<164>1 - harbour-fw - - - [origin ip=\"192.0.2.9\"]"
                  "[passed@32473 hops=\"1\" received=\"2027-01-15T08:00:00.000000Z\"] link down");
    /* An address that a sender claims is not believed; the rest of its data stays. */
    EXPECT_PASSED("192.0.2.9", firewall,
                  "<164>1 - hfw - - - [origin ip=\"203.0.113.7\" software=\"x\\\"y\"][a@1 b=\"c\"] text",
                  "<164>1 - hfw - - - [origin ip=\"192.0.2.9\" software=\"x\\\"y\"][a@1 b=\"c\"]"
                  "[passed@32473 hops=\"1\" received=\"2027-01-15T08:00:00.000000Z\"] text");
    /* Nor is a name to which it has no right. */
    EXPECT_PASSED("203.0.113.7", NULL, "<164>1 - harbour-fw - - - - forged",
                  "<164>1 - 203.0.113.7 - - - [origin ip=\"203.0.113.7\"]"
                  "[passed@32473 hops=\"1\" received=\"2027-01-15T08:00:00.000000Z\"] forged");
}

static void the_other_side_understands_it(void **state)
{
    static char copy[2000];
    (void)state;
    struct ind_message first =
        read_from("192.0.2.9", firewall, IND_SLICE("<164>1 - odd-name kernel - - - text"));
    struct ind_slice bytes = pass_on(&first);
    memcpy(copy, bytes.at, bytes.length);
    bytes.at = copy;
    struct ind_message there = read_from("192.0.2.200", relay, bytes);
    assert_ptr_equal(there.configured, firewall); /* whatever it calls itself */
    ind_assert_slice(there.sender, "192.0.2.9", __FILE__, __LINE__);
    ind_assert_slice(there.device, "harbour-fw", __FILE__, __LINE__);
    ind_assert_slice(there.text, "text", __FILE__, __LINE__);
    there = read_from("203.0.113.7", NULL, bytes); /* from one who is no relay it says nothing */
    assert_null(there.configured);
    ind_assert_slice(there.sender, "203.0.113.7", __FILE__, __LINE__);
}

static void it_goes_round_eight_times(void **state)
{
    static char copy[2000];
    (void)state;
    struct ind_message message =
        read_from("192.0.2.9", firewall, IND_SLICE("<164>1 - hfw kernel - - - round"));
    for (int hop = 1; hop <= IND_PASS_ON_HOPS; hop++) {
        char expected[80];
        struct ind_slice bytes = pass_on(&message);
        assert_in_range(bytes.length, 1, sizeof copy - 1);
        memcpy(copy, bytes.at, bytes.length);
        copy[bytes.length] = '\0';
        snprintf(expected, sizeof expected, "hops=\"%d\" received=\"2027-01-15T08:00:00.000000Z\"]", hop);
        assert_non_null(strstr(copy, expected));
        message = read_from("192.0.2.200", relay, (struct ind_slice){copy, bytes.length});
        message.received += hop * IND_SECOND; /* the first receipt counts */
    }
    assert_int_equal(pass_on(&message).length, 0);
}

/* A message of odd pieces behind some header. */
static size_t odd_message(uint64_t *random, char *bytes, size_t room_left)
{
    static const char *const pieces[] = {IND_ODD_PIECES, "[origin ip=\"1.2.3.4\"]",
                                         "[passed@32473 hops=\"3\"]", "\n", "\xef\xbb\xbf"};
    static const char *const headers[] = {"<13>1 - host app - - - ",
                                          "<13>1 2027-01-15T08:00:00Z h a 1 m ",
                                          "<34>Oct 11 22:14:15 host su[1]: ",
                                          "<0>",
                                          "",
                                          "<191>1 - h a - - [a b=\"c\"] "};
    struct ind_buffer out = ind_buffer_on(bytes, room_left);
    ind_buffer_text(&out, headers[ind_random(random, 100003) % (sizeof headers / sizeof *headers)]);
    for (unsigned n = ind_random(random, 100003) % 30; n > 0; n--)
        ind_buffer_text(&out, pieces[ind_random(random, 100003) % (sizeof pieces / sizeof *pieces)]);
    return out.length;
}

/* Whatever came: text and data arrive as they were, and the header is one. */
static void odd_messages_arrive_as_they_are(void **state)
{
    uint64_t random = IND_RANDOM_START;
    static char bytes[5000], copy[40000];
    (void)state;
    for (int i = 0; i < 20000; i++) {
        const size_t length = odd_message(&random, bytes, sizeof bytes);
        struct ind_message message = read_from("192.0.2.9", firewall, (struct ind_slice){bytes, length});
        const struct ind_slice passed = pass_on(&message);
        assert_true(passed.length < sizeof copy);
        if (passed.length == 0)
            continue; /* it says that it has gone round */
        memcpy(copy, passed.at, passed.length);
        struct ind_message there = read_from("192.0.2.200", relay, (struct ind_slice){copy, passed.length});
        assert_int_equal(there.form, IND_FORM_RFC5424);
        assert_int_equal(there.facility, message.facility);
        assert_int_equal(there.severity, message.severity);
        assert_ptr_equal(there.configured, message.configured);
        struct ind_slice text = message.text;
        while (text.length && memchr("\n\r", text.at[text.length - 1], 2) && there.text.length < text.length)
            text.length--; /* ends of lines at the end are no part of a message */
        while (text.length && text.at[text.length - 1] == '\0' && there.text.length < text.length)
            text.length--;
        if (text.length >= 3 && memcmp(text.at, "\xEF\xBB\xBF", 3) == 0)
            text = ind_slice_from(text, 3);
        if (!ind_slice_equal(there.text, text))
            fail_msg("%.*s\n%.*s", IND_ARG(message.text), IND_ARG(there.text));
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(it_bears_its_first_sender, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_other_side_understands_it, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_goes_round_eight_times, set_up, tear_down),
        cmocka_unit_test_setup_teardown(odd_messages_arrive_as_they_are, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
