/* core/message/device.h: the configured devices, found by address (longest prefix) or by name.
 *
 * The set is filled once, then only read, and may be shared by threads. Names ignore case, and a name within
 * the configured domain is the same with and without it. */
#ifndef IND_CORE_MESSAGE_DEVICE_H
#define IND_CORE_MESSAGE_DEVICE_H

#include "core/base/address.h"
#include "core/message/message.h"
#include "core/time/zone.h"

enum { IND_DEVICE_SCRATCH = 256 };

struct ind_label {
    char *name, *value;
};

struct ind_device {
    char *name;
    size_t name_length;
    const struct ind_zone *zone; /* borrowed; NULL: the collector's */
    bool relay;                  /* may speak for others */
    struct ind_label *labels;
    size_t label_count;
    struct ind_network network; /* the first of its own; address.bits 0: none */
};

struct ind_devices;

/* New. `domain` ("skerry.example", or empty) is copied. NULL where memory is out. */
struct ind_devices *ind_devices_new(struct ind_slice domain);
void ind_devices_free(struct ind_devices *devices);

/* Adds a device, which the set then owns; the pointer stays good as long as the set. NULL where memory is
 * out. */
struct ind_device *ind_devices_add(struct ind_devices *devices, struct ind_slice name);
bool ind_device_add_label(struct ind_device *device, struct ind_slice name, struct ind_slice value);

/* Ties a network or a further host name to a device. Returns the device that has it already (nothing is
 * changed then), `device` itself where it is tied now, NULL where memory is out. */
const struct ind_device *ind_devices_tie_network(struct ind_devices *devices,
                                                 const struct ind_network *network,
                                                 const struct ind_device *device);
const struct ind_device *ind_devices_tie_name(struct ind_devices *devices, struct ind_slice name,
                                              const struct ind_device *device);

size_t ind_devices_count(const struct ind_devices *devices);
struct ind_device *ind_devices_at(const struct ind_devices *devices, size_t index); /* in order of adding */
const struct ind_device *ind_devices_by_address(const struct ind_devices *devices,
                                                const struct ind_address *address);
const struct ind_device *ind_devices_by_name(const struct ind_devices *devices, struct ind_slice name);

/* What was tied to devices: calls `visit` for each network of `device` (NULL: of all of them), those of IPv4
 * first, in order; and for each host name of a device, in its plain form. Goes through all there are. */
void ind_devices_visit_networks(const struct ind_devices *devices, const struct ind_device *device,
                                void (*visit)(void *context, const struct ind_device *device,
                                              const struct ind_network *network),
                                void *context);
void ind_devices_visit_names(const struct ind_devices *devices, const struct ind_device *device,
                             void (*visit)(void *context, struct ind_slice name), void *context);

/* The label's value, empty where the device (or NULL) has none of that name. */
struct ind_slice ind_device_label(const struct ind_device *device, struct ind_slice name);
/* The message's: one that an edit gave it, or its device's. */
struct ind_slice ind_message_label(const struct ind_message *message, struct ind_slice name);
/* The next label that the message has, each name once; *state begins as 0. False where there is none left. */
bool ind_message_next_label(const struct ind_message *message, size_t *state, struct ind_slice *name,
                            struct ind_slice *value);

/* `name` without a final dot and without `domain`, where it ends in it. */
static inline struct ind_slice ind_without_domain(struct ind_slice name, struct ind_slice domain)
{
    if (name.length > 1 && name.at[name.length - 1] == '.')
        name.length--;
    if (domain.length && name.length > domain.length + 1 && name.at[name.length - domain.length - 1] == '.' &&
        ind_slice_equal_nocase((struct ind_slice){name.at + name.length - domain.length, domain.length},
                               domain))
        name.length -= domain.length + 1;
    return name;
}

struct ind_slice ind_devices_domain(const struct ind_devices *devices);

/* Says whose message this is: sets `device` and `configured` from `of_sender` (the configured device of the
 * sender, or NULL), the host it names, or the sender. The name of a configured device is believed from its
 * own addresses, from relays and in files only: from any other sender it does not count (`claimed` tells
 * whose it is), and the message is the sender's. `scratch` holds a name that had to be rewritten; it must
 * live as long as the message. A device that is not configured is named in small letters and without the
 * domain. */
void ind_device_resolve(const struct ind_devices *devices, const struct ind_device *of_sender,
                        struct ind_message *message, char scratch[IND_DEVICE_SCRATCH]);

#endif
