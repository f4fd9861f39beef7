/* Whose message it is. */
#include "support/support.h"

#include "core/message/header.h"

static void devices_are_found_by_longest_prefix_and_by_name(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *net = ind_devices_add(devices, IND_SLICE("net"));
    struct ind_device *one = ind_devices_add(devices, IND_SLICE("one"));
    struct ind_network network;
    struct ind_address address;
    (void)state;
    (void)ind_network_read(IND_SLICE("192.0.2.0/24"), &network);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, net), net);
    (void)ind_network_read(IND_SLICE("192.0.2.9"), &network);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, one), one);
    assert_ptr_equal(ind_devices_tie_network(devices, &network, net), one);
    assert_ptr_equal(ind_devices_tie_name(devices, IND_SLICE("Harbour-FW"), one), one);
    (void)ind_address_read(IND_SLICE("192.0.2.9"), &address);
    assert_ptr_equal(ind_devices_by_address(devices, &address), one);
    (void)ind_address_read(IND_SLICE("192.0.2.10"), &address);
    assert_ptr_equal(ind_devices_by_address(devices, &address), net);
    (void)ind_address_read(IND_SLICE("192.0.3.10"), &address);
    assert_null(ind_devices_by_address(devices, &address));
    assert_ptr_equal(ind_devices_by_name(devices, IND_SLICE("harbour-fw.SKERRY.example.")), one);
    assert_null(ind_devices_by_name(devices, IND_SLICE("harbour-fw.example")));
    ind_devices_free(devices);
}

static void only_relays_speak_for_others(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *relay = ind_devices_add(devices, IND_SLICE("hq-relay"));
    struct ind_device *fw = ind_devices_add(devices, IND_SLICE("harbour-fw"));
    char scratch[IND_DEVICE_SCRATCH];
    (void)state;
    relay->relay = true;
    (void)ind_devices_tie_name(devices, IND_SLICE("hfw"), fw);
    struct ind_message message = {.host = IND_SLICE("HFW.skerry.example"),
                                  .sender = IND_SLICE("192.0.2.200")};
    ind_device_resolve(devices, relay, &message, scratch);
    assert_ptr_equal(message.configured, fw);
    assert_slice(message.device, "harbour-fw");
    ind_device_resolve(devices, fw, &message, scratch);
    message.host = IND_SLICE("somebody-else");
    ind_device_resolve(devices, fw, &message, scratch);
    assert_slice(message.device, "harbour-fw");
    message.host = IND_SLICE("HFW.skerry.example");
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_null(message.configured);
    assert_slice(message.device, "192.0.2.200");
    assert_ptr_equal(message.claimed, fw);
    static const char *const names[][2] = {{"pier1-rtR", "pier1-rtr"},
                                           {"A", "a"},
                                           {"Pier-three-switch-two", "pier-three-switch-two"},
                                           {"@[`{\xc1\xda-@[`{", "@[`{\xc1\xda-@[`{"},
                                           {"ZZZZZZZZAAAA", "zzzzzzzzaaaa"}};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        message.host = ind_slice_of(names[i][0]);
        ind_device_resolve(devices, NULL, &message, scratch);
        assert_slice(message.device, names[i][1]);
    }
    message.host = IND_NOTHING;
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_slice(message.device, "192.0.2.200");
    ind_devices_free(devices);
}

/* A host that is an address is whoever is configured there, where the sender may speak for others. */
static void a_host_may_be_an_address(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *relay = ind_devices_add(devices, IND_SLICE("hq-relay"));
    struct ind_device *fw = ind_devices_add(devices, IND_SLICE("harbour-fw"));
    struct ind_network network;
    char scratch[IND_DEVICE_SCRATCH];
    (void)state;
    relay->relay = true;
    (void)ind_network_read(IND_SLICE("192.0.2.9"), &network);
    (void)ind_devices_tie_network(devices, &network, fw);
    (void)ind_network_read(IND_SLICE("2001:db8::9"), &network);
    (void)ind_devices_tie_network(devices, &network, fw);
    (void)ind_network_read(IND_SLICE("198.51.100.0/24"), &network);
    (void)ind_devices_tie_network(devices, &network, relay);
    static const struct {
        const char *host, *device;
    } cases[] = {{"192.0.2.9", "harbour-fw"},
                 {"::ffff:192.0.2.9", "harbour-fw"},
                 {"2001:DB8:0::9", "harbour-fw"},
                 {"192.0.2.10", "192.0.2.10"},
                 {"198.51.100.200", "hq-relay"},
                 {"198.51.100.7", "198.51.100.7"},
                 {"192.0.2.9.example", "192.0.2.9.example"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_message message = {.host = ind_slice_of(cases[i].host),
                                      .sender = IND_SLICE("198.51.100.200")};
        ind_device_resolve(devices, relay, &message, scratch);
        assert_slice(message.device, cases[i].device);
    }
    struct ind_message message = {.host = IND_SLICE("192.0.2.9")}; /* from a file */
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_ptr_equal(message.configured, fw);
    message.sender = IND_SLICE("203.0.113.7"); /* a stranger that says so */
    ind_device_resolve(devices, NULL, &message, scratch);
    assert_null(message.configured);
    assert_ptr_equal(message.claimed, fw);
    assert_slice(message.device, "203.0.113.7");
    ind_devices_free(devices);
}

/* Of two words in front of a code the second is the host where it is a device's name. */
static void a_relay_may_put_itself_before_the_device(void **state)
{
    static const char *const cases[][3] = {
        {"<189>Nov 23 04:45:00 hq-relay hfw: %LINK-3-CHANGE: x", "harbour-fw", ""},
        {"<189>Nov 23 04:45:00 hfw linkd: %LINK-3-CHANGE: x", "harbour-fw", "linkd"},
        {"<189>Nov 23 04:45:00 hq-relay hq-rtr9: %LINK-3-CHANGE: x", "hq-rtr9", ""},
        {"<189>Nov 23 04:45:00 hfw: %LINK-3-CHANGE: x", "harbour-fw", ""},
        {"<189>Nov 23 04:45:00 hq-relay hfw: text", "hq-relay", "hfw"},
        {"<189>Nov 23 04:45:00 hq-relay hfw[1]: %LINK-3-CHANGE: x", "hq-relay", "hfw"}};
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *relay = ind_devices_add(devices, IND_SLICE("hq-relay"));
    struct ind_zone *utc = ind_zone_fixed(0);
    char scratch[IND_DEVICE_SCRATCH];
    (void)state;
    relay->relay = true;
    (void)ind_devices_tie_name(devices, IND_SLICE("hq-relay"), relay);
    (void)ind_devices_tie_name(devices, IND_SLICE("hfw"), ind_devices_add(devices, IND_SLICE("harbour-fw")));
    const struct ind_header_context context = {.devices = devices,
                                               .of_sender = relay,
                                               .sender = IND_SLICE("192.0.2.200"),
                                               .reference = INT64_C(1795409100) * IND_SECOND,
                                               .zone = utc,
                                               .scratch = scratch};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_message message;
        ind_header_read_with_device(&context, ind_slice_of(cases[i][0]), &message);
        assert_slice(message.device, cases[i][1]);
        assert_slice(message.app, cases[i][2]);
    }
    ind_zone_free(utc);
    ind_devices_free(devices);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(devices_are_found_by_longest_prefix_and_by_name),
        cmocka_unit_test(only_relays_speak_for_others),
        cmocka_unit_test(a_host_may_be_an_address),
        cmocka_unit_test(a_relay_may_put_itself_before_the_device),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
