/* config/devices.c: the section devices:. Lists in files of their own are read by device_file.c. */
#include "config/device_private.h"
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
        if (ind_expect_text(loader, node->parts[i + 1], "the label's text") &&
            !ind_device_add_label(device, node->parts[i]->text, node->parts[i + 1]->text))
            ind_no_memory(loader);
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
        ind_warn(loader, text.name,
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
