/* Addresses lie in two binary tries, one for IPv4 and one for IPv6, a node a bit; the last node with a device
 * that a look-up passes is the longest prefix. Names lie in one table by their plain form: small letters, no
 * domain. */
#include "core/message/device.h"

#include "core/message/structured_data.h"

#include <stdlib.h>
#include <uthash.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

struct node {
    uint32_t child[2]; /* 0: none */
    uint32_t device;   /* index + 1, 0: none */
};

struct named {
    UT_hash_handle hh;
    const struct ind_device *device;
    size_t length;
    char name[];
};

struct ind_devices {
    struct ind_device **list;
    size_t count, room;
    struct node *nodes; /* 0: root of IPv4, 1: root of IPv6 */
    size_t node_count, node_room;
    struct named *names;
    char *domain;
    size_t domain_length;
};

static char *copy(struct ind_slice slice)
{
    char *text = malloc(slice.length + 1);
    if (text) {
        memcpy(text, slice.at ? slice.at : "", slice.length);
        text[slice.length] = '\0';
    }
    return text;
}

struct ind_devices *ind_devices_new(struct ind_slice domain)
{
    struct ind_devices *devices = calloc(1, sizeof *devices);
    if (!devices)
        return NULL;
    while (domain.length && domain.at[0] == '.')
        domain = ind_slice_from(domain, 1);
    devices->domain = copy(domain);
    devices->domain_length = domain.length;
    devices->node_room = 64;
    devices->node_count = 2;
    devices->nodes = calloc(devices->node_room, sizeof *devices->nodes);
    if (!devices->domain || !devices->nodes) {
        ind_devices_free(devices);
        return NULL;
    }
    return devices;
}

void ind_devices_free(struct ind_devices *devices)
{
    if (!devices)
        return;
    struct named *named, *next;
    HASH_ITER(hh, devices->names, named, next)
    {
        HASH_DEL(devices->names, named);
        free(named);
    }
    for (size_t i = 0; i < devices->count; i++) {
        struct ind_device *device = devices->list[i];
        for (size_t l = 0; l < device->label_count; l++) {
            free(device->labels[l].name);
            free(device->labels[l].value);
        }
        free(device->labels);
        free(device);
    }
    free(devices->list);
    free(devices->nodes);
    free(devices->domain);
    free(devices);
}

struct ind_device *ind_devices_add(struct ind_devices *devices, struct ind_slice name)
{
    if (devices->count == devices->room) {
        size_t room = devices->room ? devices->room * 2 : 16;
        struct ind_device **list = realloc(devices->list, room * sizeof *list);
        if (!list)
            return NULL;
        devices->list = list;
        devices->room = room;
    }
    /* In one piece: whoever looks at a device wants its name. */
    struct ind_device *device = calloc(1, sizeof *device + name.length + 1);
    if (!device)
        return NULL;
    device->name = (char *)(device + 1);
    device->name_length = name.length;
    if (name.length)
        memcpy(device->name, name.at, name.length);
    devices->list[devices->count++] = device;
    return device;
}

bool ind_device_add_label(struct ind_device *device, struct ind_slice name, struct ind_slice value)
{
    struct ind_label *labels = realloc(device->labels, (device->label_count + 1) * sizeof *labels);
    if (!labels)
        return false;
    device->labels = labels;
    struct ind_label *label = &labels[device->label_count];
    *label = (struct ind_label){copy(name), copy(value)};
    if (!label->name || !label->value) {
        free(label->name);
        free(label->value);
        return false;
    }
    device->label_count++;
    return true;
}

static uint32_t add_node(struct ind_devices *devices)
{
    if (devices->node_count == devices->node_room) {
        size_t room = devices->node_room * 2;
        struct node *nodes = realloc(devices->nodes, room * sizeof *nodes);
        if (!nodes)
            return 0;
        devices->nodes = nodes;
        devices->node_room = room;
    }
    devices->nodes[devices->node_count] = (struct node){{0, 0}, 0};
    return (uint32_t)devices->node_count++;
}

static unsigned bit_of(const struct ind_address *address, unsigned bit)
{
    return (address->bytes[bit / 8] >> (7 - bit % 8)) & 1u;
}

static uint32_t index_of(const struct ind_devices *devices, const struct ind_device *device)
{
    for (size_t i = devices->count; i > 0; i--)
        if (devices->list[i - 1] == device)
            return (uint32_t)i;
    return 0;
}

const struct ind_device *ind_devices_tie_network(struct ind_devices *devices,
                                                 const struct ind_network *network,
                                                 const struct ind_device *device)
{
    uint32_t at = network->address.bits == 32 ? 0 : 1;
    for (unsigned bit = 0; bit < network->prefix; bit++) {
        unsigned way = bit_of(&network->address, bit);
        uint32_t next = devices->nodes[at].child[way];
        if (next == 0) {
            next = add_node(devices);
            if (next == 0)
                return NULL;
            devices->nodes[at].child[way] = next;
        }
        at = next;
    }
    if (devices->nodes[at].device)
        return devices->list[devices->nodes[at].device - 1];
    devices->nodes[at].device = index_of(devices, device);
    struct ind_device *own = devices->list[devices->nodes[at].device - 1];
    if (own->network.address.bits == 0)
        own->network = *network;
    return device;
}

const struct ind_device *ind_devices_by_address(const struct ind_devices *devices,
                                                const struct ind_address *address)
{
    if (devices->count == 0 || address->bits == 0)
        return NULL;
    uint32_t at = address->bits == 32 ? 0 : 1, found = devices->nodes[at].device;
    for (unsigned bit = 0; bit < address->bits; bit++) {
        at = devices->nodes[at].child[bit_of(address, bit)];
        if (at == 0)
            break;
        if (devices->nodes[at].device)
            found = devices->nodes[at].device;
    }
    return found ? devices->list[found - 1] : NULL;
}

struct network_visit {
    const struct ind_devices *devices;
    uint32_t index; /* of the device; 0: all */
    void (*visit)(void *context, const struct ind_device *device, const struct ind_network *network);
    void *context;
};

static void visit_node(const struct network_visit *visit, uint32_t node, const struct ind_network *network)
{
    const uint32_t device = visit->devices->nodes[node].device;
    if (device && (visit->index == 0 || device == visit->index))
        visit->visit(visit->context, visit->devices->list[device - 1], network);
}

/* The trie is walked without recursion: `way[bit]` is what is still to be looked at there. */
static void visit_trie(const struct network_visit *visit, unsigned family)
{
    enum { DEEPEST = 128, BOTH = 2 };
    uint32_t nodes[DEEPEST + 1] = {family == 32 ? 0 : 1};
    uint8_t way[DEEPEST + 1] = {0};
    struct ind_network network = {.address.bits = (uint8_t)family};
    unsigned bit = 0;
    visit_node(visit, nodes[0], &network);
    for (;;) {
        if (bit == family || way[bit] == BOTH) {
            if (bit-- == 0)
                return;
            network.prefix = (uint8_t)bit;
            network.address.bytes[bit / 8] &= (uint8_t) ~(0x80u >> bit % 8);
            continue;
        }
        const unsigned next = way[bit]++;
        const uint32_t child = visit->devices->nodes[nodes[bit]].child[next];
        if (child == 0)
            continue;
        if (next)
            network.address.bytes[bit / 8] |= (uint8_t)(0x80u >> bit % 8);
        bit++;
        nodes[bit] = child;
        way[bit] = 0;
        network.prefix = (uint8_t)bit;
        visit_node(visit, child, &network);
    }
}

void ind_devices_visit_networks(const struct ind_devices *devices, const struct ind_device *device,
                                void (*visit)(void *context, const struct ind_device *device,
                                              const struct ind_network *network),
                                void *context)
{
    const struct network_visit all = {devices, device ? index_of(devices, device) : 0, visit, context};
    if (device && all.index == 0)
        return;
    visit_trie(&all, 32);
    visit_trie(&all, 128);
}

void ind_devices_visit_names(const struct ind_devices *devices, const struct ind_device *device,
                             void (*visit)(void *context, struct ind_slice name), void *context)
{
    for (const struct named *named = devices->names; named; named = named->hh.next)
        if (named->device == device)
            visit(context, (struct ind_slice){named->name, named->length});
}

struct ind_slice ind_devices_domain(const struct ind_devices *devices)
{
    return (struct ind_slice){devices->domain, devices->domain_length};
}

static struct ind_slice without_domain(const struct ind_devices *devices, struct ind_slice name)
{
    return ind_without_domain(name, ind_devices_domain(devices));
}

static uint64_t capitals(uint64_t eight)
{
    const uint64_t ones = UINT64_C(0x0101010101010101), tops = ones * 0x80;
    uint64_t low = eight & ~tops; /* ASCII only: the top bit is put back at the end */
    return (low + ones * (0x80 - 'A')) & ~(low + ones * (0x80 - 'Z' - 1)) & ~eight & tops;
}

/* Eight bytes at a time, the last eight overlapping what was looked at. */
static bool has_capitals(struct ind_slice name)
{
    uint64_t eight, found = 0;
    if (name.length < sizeof eight) {
        for (size_t i = 0; i < name.length; i++)
            found |= name.at[i] >= 'A' && name.at[i] <= 'Z';
        return found != 0;
    }
    memcpy(&eight, name.at, sizeof eight);
    found = capitals(eight);
    for (size_t i = sizeof eight; i + sizeof eight < name.length; i += sizeof eight) {
        memcpy(&eight, name.at + i, sizeof eight);
        found |= capitals(eight);
    }
    memcpy(&eight, name.at + name.length - sizeof eight, sizeof eight);
    return (found | capitals(eight)) != 0;
}

static struct ind_slice small_letters(struct ind_slice name, char scratch[IND_DEVICE_SCRATCH])
{
    if (!has_capitals(name))
        return name;
    size_t length = name.length < IND_DEVICE_SCRATCH ? name.length : IND_DEVICE_SCRATCH;
    for (size_t i = 0; i < length; i++)
        scratch[i] = ind_lower(name.at[i]);
    return (struct ind_slice){scratch, length};
}

static struct named *find_name(const struct ind_devices *devices, struct ind_slice plain)
{
    struct named *named = NULL;
    if (plain.length) {
        unsigned hash = (unsigned)XXH3_64bits(plain.at, plain.length);
        HASH_FIND_BYHASHVALUE(hh, devices->names, plain.at, (unsigned)plain.length, hash, named);
    }
    return named;
}

const struct ind_device *ind_devices_tie_name(struct ind_devices *devices, struct ind_slice name,
                                              const struct ind_device *device)
{
    char scratch[IND_DEVICE_SCRATCH];
    struct ind_slice plain = small_letters(without_domain(devices, name), scratch);
    struct named *named = find_name(devices, plain);
    if (named)
        return named->device;
    named = malloc(sizeof *named + plain.length);
    if (!named)
        return NULL;
    named->device = device;
    named->length = plain.length;
    memcpy(named->name, plain.at, plain.length);
    unsigned hash = (unsigned)XXH3_64bits(plain.at, plain.length);
    HASH_ADD_KEYPTR_BYHASHVALUE(hh, devices->names, named->name, (unsigned)named->length, hash, named);
    if (named->hh.tbl)
        return device;
    free(named);
    return NULL;
}

struct ind_device *ind_devices_at(const struct ind_devices *devices, size_t index)
{
    return devices->list[index];
}

size_t ind_devices_count(const struct ind_devices *devices)
{
    return devices->count;
}

static const struct ind_device *by_name(const struct ind_devices *devices, struct ind_slice name)
{
    char scratch[IND_DEVICE_SCRATCH];
    struct named *named = find_name(devices, small_letters(without_domain(devices, name), scratch));
    return named ? named->device : NULL;
}

/* Without names there is nothing to prepare for. */
const struct ind_device *ind_devices_by_name(const struct ind_devices *devices, struct ind_slice name)
{
    return devices->names ? by_name(devices, name) : NULL;
}

struct ind_slice ind_message_label(const struct ind_message *message, struct ind_slice name)
{
    const struct ind_additions *added = message->additions;
    for (size_t i = 0; added && i < added->count; i++)
        if (added->list[i].kind == IND_ADDED_LABEL && ind_slice_equal(name, added->list[i].name))
            return added->list[i].value;
    return ind_device_label(message->configured, name);
}

/* First those of its device, then what edits gave beside them. */
bool ind_message_next_label(const struct ind_message *message, size_t *state, struct ind_slice *name,
                            struct ind_slice *value)
{
    const struct ind_additions *added = message->additions;
    const struct ind_device *device = message->configured;
    const size_t own = device ? device->label_count : 0, all = own + (added ? added->count : 0);
    while (*state < all) {
        size_t i = (*state)++;
        bool of_device = i < own;
        if (!of_device && added->list[i - own].kind != IND_ADDED_LABEL)
            continue;
        *name = of_device ? ind_slice_of(device->labels[i].name) : added->list[i - own].name;
        if (!of_device && ind_device_label(device, *name).length)
            continue;
        *value = ind_message_label(message, *name);
        if (value->length)
            return true;
    }
    return false;
}

struct ind_slice ind_device_label(const struct ind_device *device, struct ind_slice name)
{
    for (size_t i = 0; device && i < device->label_count; i++)
        if (ind_slice_equal(name, ind_slice_of(device->labels[i].name)))
            return ind_slice_of(device->labels[i].value);
    return IND_NOTHING;
}

/* "[origin ip="192.0.2.131"]" (RFC 5424 section 7.2): who the message is from, as a relay passes it on. */
static const struct ind_device *of_origin(const struct ind_devices *devices, struct ind_slice data)
{
    struct ind_slice id;
    struct ind_param param;
    struct ind_address address;
    size_t params, after = 0;
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after)
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            if (ind_slice_equal(id, IND_SLICE("origin")) && ind_slice_equal(param.name, IND_SLICE("ip")) &&
                ind_address_read(param.value, &address)) {
                const struct ind_device *device = ind_devices_by_address(devices, &address);
                if (device)
                    return device;
            }
    return NULL;
}

/* The device at the address that a host is; NULL where it is none. */
static const struct ind_device *at_host(const struct ind_devices *devices, struct ind_slice host)
{
    enum { LONGEST = 45 };
    struct ind_address address;
    const bool may_be = devices->count && host.length && host.length <= LONGEST &&
                        (ind_is_digit(*host.at) || memchr(host.at, ':', host.length) != NULL);
    return may_be && ind_address_read(host, &address) ? ind_devices_by_address(devices, &address) : NULL;
}

/* Whom a relay, or a file, speaks for. A relay's own network may hold the origin: that tells nothing new. */
static const struct ind_device *spoken_for(const struct ind_devices *devices, const struct ind_device *relay,
                                           const struct ind_message *message)
{
    if (devices->count == 0)
        return NULL;
    const struct ind_device *named = ind_devices_by_name(devices, message->host);
    const struct ind_device *at = named ? named : at_host(devices, message->host);
    if (at != relay || named || ind_slice_equal(message->host, message->sender))
        named = at;
    if (named || message->data.length == 0)
        return named;
    const struct ind_device *origin = of_origin(devices, message->data);
    return origin == relay ? NULL : origin;
}

void ind_device_resolve(const struct ind_devices *devices, const struct ind_device *of_sender,
                        struct ind_message *message, char scratch[IND_DEVICE_SCRATCH])
{
    bool for_others = of_sender ? of_sender->relay : message->sender.length == 0;
    message->configured = for_others ? spoken_for(devices, of_sender, message) : of_sender;
    if (!message->configured && message->host.length == 0)
        message->configured = of_sender;
    message->claimed = NULL;
    if (!message->configured && !for_others && message->host.length) {
        const struct ind_device *named = ind_devices_by_name(devices, message->host);
        message->claimed = named ? named : at_host(devices, message->host);
    }
    if (message->configured)
        message->device = (struct ind_slice){message->configured->name, message->configured->name_length};
    else if (message->host.length && !message->claimed)
        message->device = small_letters(without_domain(devices, message->host), scratch);
    else
        message->device = message->sender.length ? message->sender : IND_SLICE("unknown");
}
