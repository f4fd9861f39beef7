/* Whose message it is. */
#include "support/support.h"

#include "core/message/device.h"

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

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(devices_are_found_by_longest_prefix_and_by_name),
        cmocka_unit_test(only_relays_speak_for_others),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
