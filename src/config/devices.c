/* config/devices.c: the section devices:. Lists in files of their own are read by device_file.c. */
#include "config/device_file.h"
#include "config/zones.h"

#include <string.h>

struct device_text {
    const struct ind_node *name, *address, *host, *zone, *labels, *relay, *from;
};

IND_KEEP_NODE(device_text, name)
IND_KEEP_NODE(device_text, address)
IND_KEEP_NODE(device_text, host)
IND_KEEP_NODE(device_text, zone)
IND_KEEP_NODE(device_text, labels)
IND_KEEP_NODE(device_text, relay)
IND_KEEP_NODE(device_text, from)

/* Calls `tie` for a text or for each of a list. */
static void each(struct ind_loader *loader, const struct ind_node *node, struct ind_device *device,
                 void (*tie)(struct ind_loader *, const struct ind_node *, const struct ind_device *))
{
    if (!node)
        return;
    if (node->kind != IND_NODE_LIST)
        tie(loader, node, device);
    else
        for (size_t i = 0; i < node->part_count; i++)
            tie(loader, node->parts[i], device);
}

static void tie_network(struct ind_loader *loader, const struct ind_node *node,
                        const struct ind_network *network, const struct ind_device *device)
{
    const struct ind_device *has = ind_devices_tie_network(loader->config->devices, network, device);
    if (has && has != device)
        ind_wrong(loader, node, "the device \"%s\" has this address already; leave it out of one", has->name);
}

/* "192.0.2.10-192.0.2.20": true where it is meant as a range, right or wrong. */
static bool tie_range(struct ind_loader *loader, const struct ind_node *node, const struct ind_device *device)
{
    const char *dash = node->text.length ? memchr(node->text.at, '-', node->text.length) : NULL;
    struct ind_address from, to;
    struct ind_network network;
    if (!dash || !ind_address_read((struct ind_slice){node->text.at, (size_t)(dash - node->text.at)}, &from))
        return false;
    if (!ind_address_read(ind_slice_from(node->text, (size_t)(dash - node->text.at) + 1), &to) ||
        from.bits != to.bits || memcmp(from.bytes, to.bytes, sizeof from.bytes) > 0) {
        ind_wrong(loader, node,
                  "\"%.*s\" is no range; write the first and the last address: 192.0.2.10-192.0.2.20",
                  IND_ARG(node->text));
        return true;
    }
    while (ind_range_next(&from, &to, &network))
        tie_network(loader, node, &network, device);
    return true;
}

void ind_tie_address(struct ind_loader *loader, const struct ind_node *node, const struct ind_device *device)
{
    struct ind_network network;
    if (node->kind == IND_NODE_SCALAR && tie_range(loader, node, device))
        return;
    if (ind_read_network(loader, node, &network))
        tie_network(loader, node, &network, device);
}

void ind_tie_host(struct ind_loader *loader, const struct ind_node *node, const struct ind_device *device)
{
    if (!ind_expect_text(loader, node, "a host name"))
        return;
    const struct ind_device *has = ind_devices_tie_name(loader->config->devices, node->text, device);
    if (has && has != device)
        ind_wrong(loader, node, "the device \"%s\" has this name already; leave it out of one", has->name);
}

void ind_read_device_zone(struct ind_loader *loader, const struct ind_node *node, struct ind_device *device)
{
    struct ind_config *config = loader->config;
    struct ind_zone *zone = node ? ind_read_zone(loader, node) : NULL;
    if (!zone)
        return;
    if (!ind_grow(loader, &config->device_zones, &config->device_zone_count, sizeof *config->device_zones)) {
        ind_zone_free(zone);
        return;
    }
    config->device_zones[config->device_zone_count - 1] = zone;
    device->zone = zone;
}

static void read_labels(struct ind_loader *loader, const struct ind_node *node, struct ind_device *device)
{
    if (!node)
        return;
    if (node->kind != IND_NODE_MAP) {
        ind_wrong(loader, node, "expected labels such as {site: harbour, role: firewall}, found %s",
                  ind_node_kind_name(node));
        return;
    }
    for (size_t i = 0; i + 1 < node->part_count; i += 2)
        if (ind_expect_text(loader, node->parts[i + 1], "the label's text"))
            (void)ind_device_add_label(device, node->parts[i]->text, node->parts[i + 1]->text);
}

static bool is_device_name(struct ind_slice name)
{
    for (size_t i = 0; i < name.length; i++)
        if (!(ind_is_alpha(name.at[i]) || ind_is_digit(name.at[i]) || name.at[i] == '-' ||
              name.at[i] == '_' || name.at[i] == '.' || name.at[i] == ':'))
            return false;
    return name.length <= IND_PATH_PART;
}

struct ind_device *ind_add_device(struct ind_loader *loader, const struct ind_node *name)
{
    if (!ind_expect_text(loader, name, "the device's name"))
        return NULL;
    if (!is_device_name(name->text)) {
        ind_wrong(loader, name,
                  "a device's name is made of letters, digits and -_.: and has 100 bytes at most");
        return NULL;
    }
    struct ind_device *device = ind_devices_add(loader->config->devices, name->text);
    if (device)
        ind_tie_host(loader, name, device);
    return device;
}

static void load_device(struct ind_loader *loader, const struct ind_node *node)
{
    static const struct ind_key keys[] = {
        {"name", keep_name},     {"address", keep_address}, {"host", keep_host}, {"zone", keep_zone},
        {"labels", keep_labels}, {"relay", keep_relay},     {"from", keep_from}};
    struct device_text text = {0};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (text.from) {
        if (node->part_count > 2)
            ind_wrong(loader, node, "\"from\" stands alone: what else there is to say is said in that file");
        else if (ind_expect_text(loader, text.from, "the path of a file"))
            ind_load_device_file(loader, text.from);
        return;
    }
    if (!text.name) {
        ind_wrong(loader, node,
                  "a device without a name; add \"name: …\", or \"from: …\" for a list of devices in a file");
        return;
    }
    struct ind_device *device = ind_add_device(loader, text.name);
    if (!device)
        return;
    if (!text.address && !text.host)
        ind_doubt(loader, text.name,
                  "no address: only its name, from a relay or a file, can tell that a message is of "
                  "\"%s\"",
                  device->name);
    each(loader, text.address, device, ind_tie_address);
    each(loader, text.host, device, ind_tie_host);
    ind_read_device_zone(loader, text.zone, device);
    read_labels(loader, text.labels, device);
    if (text.relay)
        (void)ind_read_yes(loader, text.relay, &device->relay);
}

void ind_load_devices(struct ind_loader *loader)
{
    for (size_t i = 0; i < loader->device_count; i++)
        load_device(loader, loader->devices[i]);
}
