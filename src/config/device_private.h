/* config/device_private.h: devices from a file of their own (devices: from:), and what it shares with
 * devices.c. Internal to config/.
 *
 * Two forms, told apart by the first line: CSV (RFC 4180) with a line of column names, `name` among them, and
 * hosts files: an address and its names on each line. */
#ifndef IND_CONFIG_DEVICE_PRIVATE_H
#define IND_CONFIG_DEVICE_PRIVATE_H

#include "config/load.h"

/* Reads the devices of the file that `path` names. */
void ind_load_device_file(struct ind_loader *loader, const struct ind_node *path);

/* devices.c: a device, and what belongs to it; mistakes are reported at the node. NULL where there is none.
 */
struct ind_device *ind_add_device(struct ind_loader *loader, const struct ind_node *name);
/* An address, a network, or a range of addresses. */
void ind_tie_address(struct ind_loader *loader, const struct ind_node *node, const struct ind_device *device);
void ind_tie_host(struct ind_loader *loader, const struct ind_node *node, const struct ind_device *device);
void ind_read_device_zone(struct ind_loader *loader, const struct ind_node *node, struct ind_device *device);

#endif
