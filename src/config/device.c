/* config/device.c: one device and what belongs to it: its addresses, names and zone. */
#include "config/device_private.h"
#include "config/zones.h"

#include <string.h>

static void tie_network(struct ind_loader *loader, const struct ind_node *node,
                        const struct ind_network *network, const struct ind_device *device)
{
    const struct ind_device *has = ind_devices_tie_network(loader->config->devices, network, device);
    if (!has)
        ind_no_memory(loader);
    else if (has != device)
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
                  "\"%.*s\" is not a range; write the first and the last address: 192.0.2.10-192.0.2.20",
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
    if (!has)
        ind_no_memory(loader);
    else if (has != device)
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
    else
        ind_no_memory(loader);
    return device;
}
