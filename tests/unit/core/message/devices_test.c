#include "support/random.h"
#include "support/support.h"

#include "core/message/device.h"

static const char *networks_of(const char *first, const char *last)
{
    static char text[4000];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    struct ind_address from, to;
    struct ind_network network;
    assert_true(ind_address_read(ind_slice_of(first), &from) && ind_address_read(ind_slice_of(last), &to));
    while (ind_range_next(&from, &to, &network)) {
        ind_buffer_text(&out, out.length ? " " : "");
        ind_address_write(&out, &network.address);
        ind_buffer_byte(&out, '/');
        ind_buffer_number(&out, network.prefix);
    }
    text[out.length] = '\0';
    return text;
}

static void a_range_is_the_fewest_networks(void **state)
{
    (void)state;
    assert_string_equal(networks_of("192.0.2.10", "192.0.2.20"),
                        "192.0.2.10/31 192.0.2.12/30 192.0.2.16/30 192.0.2.20/32");
    assert_string_equal(networks_of("192.0.2.7", "192.0.2.7"), "192.0.2.7/32");
    assert_string_equal(networks_of("192.0.2.0", "192.0.3.255"), "192.0.2.0/23");
    assert_string_equal(networks_of("0.0.0.0", "255.255.255.255"), "0.0.0.0/0");
    assert_string_equal(networks_of("255.255.255.254", "255.255.255.255"), "255.255.255.254/31");
    assert_string_equal(networks_of("2001:db8::ff", "2001:db8::101"), "2001:db8::ff/128 2001:db8::100/127");
    assert_string_equal(networks_of("192.0.2.9", "192.0.2.1"), "");
}

static struct ind_device *add(struct ind_devices *devices, const char *name, const char *network)
{
    struct ind_device *device = ind_devices_add(devices, ind_slice_of(name));
    struct ind_network read;
    assert_non_null(device);
    assert_ptr_equal(ind_devices_tie_name(devices, ind_slice_of(name), device), device);
    if (network) {
        assert_int_equal(ind_network_read(ind_slice_of(network), &read), IND_NETWORK_OK);
        assert_ptr_equal(ind_devices_tie_network(devices, &read, device), device);
    }
    return device;
}

static struct ind_slice device_of(const struct ind_devices *devices, const struct ind_device *of_sender,
                                  const char *host, const char *data)
{
    static char scratch[IND_DEVICE_SCRATCH];
    static struct ind_message message;
    message = (struct ind_message){
        .host = ind_slice_of(host), .data = ind_slice_of(data), .sender = IND_SLICE("192.0.2.200")};
    ind_device_resolve(devices, of_sender, &message, scratch);
    return message.device;
}

static void a_relay_passes_on_the_origin(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    struct ind_device *relay = add(devices, "hq-relay", "192.0.2.200/32");
    struct ind_device *firewall = add(devices, "harbour-fw", "192.0.2.9/32");
    (void)state;
    relay->relay = true;
    const char *origin = "[a b=\"c\"][origin software=\"x\" ip=\"nonsense\" ip=\"192.0.2.9\"]";
    assert_slice(device_of(devices, relay, "pier1-rtr", origin), "harbour-fw");
    assert_slice(device_of(devices, relay, "", origin), "harbour-fw");
    assert_slice(device_of(devices, relay, "hq-relay", origin),
                 "hq-relay"); /* a configured name comes first */
    assert_slice(device_of(devices, relay, "pier1-rtr", "[origin ip=\"203.0.113.1\"]"), "pier1-rtr");
    assert_slice(device_of(devices, relay, "", "[origin ip=\"192.0.2.200\"]"), "hq-relay");
    assert_slice(device_of(devices, relay, "", "[x ip=\"192.0.2.9\"]"), "hq-relay");
    /* Nobody else may speak for others. */
    assert_slice(device_of(devices, firewall, "hq-relay", "[origin ip=\"192.0.2.200\"]"), "harbour-fw");
    assert_slice(device_of(devices, NULL, "Harbour-FW", origin), "192.0.2.200"); /* a stranger least of all */
    ind_devices_free(devices);
}

static void ten_thousand_devices_are_told_apart(void **state)
{
    struct ind_devices *devices = ind_devices_new(IND_SLICE("skerry.example"));
    (void)state;
    for (unsigned i = 0; i < 10000; i++) {
        char name[32], network[32];
        snprintf(name, sizeof name, "device-%u", i);
        snprintf(network, sizeof network, i % 2 ? "10.%u.%u.0/24" : "2001:db8:%x:%x::/64", i / 250, i % 250);
        add(devices, name, network);
    }
    (void)add(devices, "inner", "10.3.1.128/25");
    for (unsigned i = 0; i < 10000; i++) {
        char name[32], address[48];
        struct ind_address read;
        snprintf(name, sizeof name, "DEVICE-%u.skerry.example.", i);
        snprintf(address, sizeof address, i % 2 ? "10.%u.%u.7" : "2001:db8:%x:%x::7", i / 250, i % 250);
        assert_true(ind_address_read(ind_slice_of(address), &read));
        const struct ind_device *found = ind_devices_by_address(devices, &read);
        assert_non_null(found);
        assert_ptr_equal(found, ind_devices_by_name(devices, ind_slice_of(name)));
    }
    struct ind_address read;
    assert_true(ind_address_read(IND_SLICE("::ffff:10.3.1.200"), &read));
    assert_string_equal(ind_devices_by_address(devices, &read)->name, "inner");
    ind_devices_free(devices);
}

struct seen_networks {
    const struct ind_network *all; /* by number; those of the device have `owner` there */
    const int *owner;
    int device;
    size_t seen, count;
};

static void see_network(void *context, const struct ind_device *device, const struct ind_network *network)
{
    (void)device;
    struct seen_networks *seen = context;
    for (size_t i = 0; i < seen->count; i++)
        if (seen->all[i].prefix == network->prefix &&
            memcmp(&seen->all[i].address, &network->address, sizeof network->address) == 0) {
            assert_int_equal(seen->owner[i], seen->device);
            seen->seen++;
            return;
        }
    fail_msg("a network that nobody has tied");
}

static void count_name(void *context, struct ind_slice name)
{
    assert_true(name.length > 0);
    ++*(size_t *)context;
}

static void what_was_tied_is_found_again(void **state)
{
    enum { NETWORKS = 300, DEVICES = 7 };
    (void)state;
    uint64_t random = IND_RANDOM_START;
    struct ind_devices *devices = ind_devices_new(IND_NOTHING);
    struct ind_device *list[DEVICES];
    struct ind_network all[NETWORKS] = {{{0}, 0}};
    int owner[NETWORKS];
    size_t owned[DEVICES] = {0}, names = 0;
    char name[2] = "a";
    for (int i = 0; i < DEVICES; i++, name[0]++)
        list[i] = add(devices, name, NULL);
    for (int i = 0; i < NETWORKS; i++) {
        struct ind_network *network = &all[i];
        network->address.bits = ind_random(&random, 2) ? 32 : 128;
        network->prefix = (uint8_t)ind_random(&random, network->address.bits + 1u);
        for (unsigned bit = 0; bit < network->prefix; bit++)
            if (ind_random(&random, 3) == 0)
                network->address.bytes[bit / 8] |= (uint8_t)(0x80u >> bit % 8);
        owner[i] = (int)ind_random(&random, DEVICES);
        if (ind_devices_tie_network(devices, network, list[owner[i]]) == list[owner[i]])
            owned[owner[i]]++;
        else
            network->prefix = 255; /* another has it */
        for (int k = 0; k < i; k++)
            if (all[k].prefix == network->prefix &&
                memcmp(&all[k].address, &network->address, sizeof network->address) == 0) {
                owned[owner[i]] -= network->prefix != 255; /* the same twice */
                network->prefix = 255;
            }
    }
    for (int i = 0; i < DEVICES; i++) {
        struct seen_networks seen = {all, owner, i, 0, NETWORKS};
        ind_devices_visit_networks(devices, list[i], see_network, &seen);
        assert_int_equal(seen.seen, owned[i]);
    }
    assert_ptr_equal(ind_devices_tie_name(devices, IND_SLICE("hfw"), list[2]), list[2]);
    ind_devices_visit_names(devices, list[2], count_name, &names);
    assert_int_equal(names, 2);
    ind_devices_free(devices);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_range_is_the_fewest_networks),
        cmocka_unit_test(a_relay_passes_on_the_origin),
        cmocka_unit_test(what_was_tied_is_found_again),
        cmocka_unit_test(ten_thousand_devices_are_told_apart),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
