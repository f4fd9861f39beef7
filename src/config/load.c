#include "config/load.h"

#include "config/zones.h"
#include "core/message/names.h"
#include <errno.h>
#include <stdlib.h>

void ind_wrong_inside(struct ind_loader *loader, const struct ind_node *scalar,
                      const struct ind_mistake *mistake, bool warning)
{
    size_t start = ind_node_locate(scalar, mistake->offset);
    size_t end = ind_node_locate(scalar, mistake->offset + mistake->length);
    ind_diagnostic_add(loader->diagnostics, warning, scalar->source, start, end > start ? end - start : 0,
                       "%s", mistake->text);
}

enum { MOST_KEYS = 32 };

static void unknown_key(struct ind_loader *loader, const struct ind_node *key, const struct ind_key *keys,
                        size_t count)
{
    const char *names[MOST_KEYS];
    char list[512];
    struct ind_buffer known = ind_buffer_on(list, sizeof list - 1);
    while (count > 1 && keys[count - 1].name[0] == '!')
        count--;
    for (size_t i = 0; i < count; i++) {
        names[i] = keys[i].name;
        ind_buffer_text(&known, i == 0 ? "" : i + 1 == count ? " and " : ", ");
        ind_buffer_text(&known, names[i]);
    }
    list[known.length] = '\0';
    const char *near = ind_near(key->text, names, count);
    if (near)
        ind_wrong(loader, key, "unknown key \"%.*s\"; did you mean \"%s\"?", IND_ARG(key->text), near);
    else
        ind_wrong(loader, key, "unknown key \"%.*s\"; known here: %s", IND_ARG(key->text), list);
}

bool ind_read_map(struct ind_loader *loader, const struct ind_node *map, const struct ind_key *keys,
                  size_t count, void *into)
{
    if (map->kind != IND_NODE_MAP) {
        ind_wrong(loader, map, "expected a map with keys such as \"%s: …\", found %s", keys[0].name,
                  ind_node_kind_name(map));
        return false;
    }
    for (size_t i = 0; i + 1 < map->part_count; i += 2) {
        const struct ind_node *key = map->parts[i];
        size_t k = 0;
        while (k < count &&
               !ind_slice_equal(key->text, ind_slice_of(keys[k].name + (keys[k].name[0] == '!'))))
            k++;
        if (k == count)
            unknown_key(loader, key, keys, count);
        else
            keys[k].read(loader, map->parts[i + 1], into);
    }
    return true;
}

bool ind_expect_text(struct ind_loader *loader, const struct ind_node *node, const char *what)
{
    if (node->kind == IND_NODE_SCALAR && node->text.length && !memchr(node->text.at, '\0', node->text.length))
        return true;
    if (node->kind != IND_NODE_SCALAR && node->flow)
        ind_wrong(loader, node, "expected %s, found %s: YAML takes \"%c\" for its own; quote it: '…'", what,
                  ind_node_kind_name(node), node->source->bytes[node->offset]);
    else
        ind_wrong(loader, node, "expected %s, found %s", what,
                  node->kind == IND_NODE_SCALAR ? "nothing" : ind_node_kind_name(node));
    return false;
}

bool ind_expect_list(struct ind_loader *loader, const struct ind_node *node, const char *what)
{
    if (node->kind == IND_NODE_LIST)
        return true;
    ind_wrong(loader, node, "expected a list of %s, found %s; begin each with \"- \"", what,
              ind_node_kind_name(node));
    return false;
}

struct ind_zone *ind_read_zone(struct ind_loader *loader, const struct ind_node *node)
{
    if (!ind_expect_text(loader, node, "a time zone such as Europe/Lisbon"))
        return NULL;
    struct ind_zone *zone = ind_zone_named(node->text.at);
    if (!zone)
        ind_wrong(loader, node, "unknown time zone \"%.*s\"; write one such as Europe/Lisbon, UTC or +01:00",
                  IND_ARG(node->text));
    return zone;
}

bool ind_read_yes(struct ind_loader *loader, const struct ind_node *node, bool *yes)
{
    static const char *const words[] = {"no", "yes", "false", "true"};
    if (!ind_expect_text(loader, node, "yes or no"))
        return false;
    for (size_t i = 0; i < 4; i++)
        if (ind_slice_equal_nocase(node->text, ind_slice_of(words[i]))) {
            *yes = i % 2 == 1;
            return true;
        }
    ind_wrong(loader, node, "expected yes or no, found \"%.*s\"", IND_ARG(node->text));
    return false;
}

void ind_no_memory(struct ind_loader *loader)
{
    if (loader->no_memory)
        return;
    loader->no_memory = true;
    ind_diagnostic_add(loader->diagnostics, false, NULL, 0, 0,
                       "out of memory while reading the configuration");
}

void *ind_keep_room(struct ind_loader *loader, size_t size)
{
    struct ind_config *config = loader->config;
    void *room = calloc(1, size);
    char **kept = room ? realloc(config->kept, (config->kept_count + 1) * sizeof *kept) : NULL;
    if (!kept) {
        free(room);
        ind_no_memory(loader);
        return NULL;
    }
    config->kept = kept;
    config->kept[config->kept_count++] = room;
    return room;
}

char *ind_keep(struct ind_loader *loader, struct ind_slice text)
{
    char *copy = ind_keep_room(loader, text.length + 1);
    if (copy && text.length)
        memcpy(copy, text.at, text.length);
    return copy;
}

bool ind_grow(struct ind_loader *loader, void *array, size_t *count, size_t size)
{
    void **list = array;
    if ((*count & (*count - 1)) == 0) {
        void *grown = realloc(*list, (*count ? *count * 2 : 1) * size);
        if (!grown) {
            ind_no_memory(loader);
            return false;
        }
        *list = grown;
    }
    memset((char *)*list + *count * size, 0, size);
    (*count)++;
    return true;
}

bool ind_read_network(struct ind_loader *loader, const struct ind_node *node, struct ind_network *network)
{
    if (!ind_expect_text(loader, node, "an address or a network such as 192.0.2.0/24"))
        return false;
    char text[IND_ADDRESS_WIDTH + 8];
    struct ind_buffer written = ind_buffer_on(text, sizeof text - 1);
    switch (ind_network_read(node->text, network)) {
    case IND_NETWORK_OK:
        return true;
    case IND_NETWORK_PREFIX:
        ind_wrong(loader, node, "\"%.*s\": the prefix is at most 32 for IPv4, 128 for IPv6",
                  IND_ARG(node->text));
        return false;
    case IND_NETWORK_HOST_BITS:
        ind_address_write(&written, &network->address);
        text[written.length] = '\0';
        ind_wrong(loader, node,
                  "\"%.*s\" has bits set past its prefix; write %s/%u for the network, or the address alone",
                  IND_ARG(node->text), text, network->prefix);
        return false;
    default:
        ind_wrong(loader, node,
                  "\"%.*s\" is not an address or network; write one such as 192.0.2.9 or 2001:db8::/32",
                  IND_ARG(node->text));
        return false;
    }
}

char *ind_resolve_path(struct ind_loader *loader, const struct ind_node *node)
{
    const char *slash = strrchr(node->source->path, '/');
    char path[4096];
    if (node->text.at[0] == '/' || !slash)
        return ind_keep(loader, node->text);
    snprintf(path, sizeof path, "%.*s/%.*s", (int)(slash - node->source->path), node->source->path,
             IND_ARG(node->text));
    return ind_keep(loader, ind_slice_of(path));
}

const struct ind_source *ind_load_source(struct ind_loader *loader, const char *path,
                                         const struct ind_node *from)
{
    for (const struct ind_source *open = loader->loaded->sources; open; open = open->next)
        if (strcmp(open->path, path) == 0) {
            ind_wrong(loader, from, "\"%s\" is included already; leave it out here", path);
            return NULL;
        }
    struct ind_source *source = ind_source_read(path);
    if (!source) {
        int error = errno;
        if (from)
            ind_wrong(loader, from, "cannot read \"%s\": %s", path, ind_open_file_reason(error));
        else
            ind_diagnostic_add(loader->diagnostics, false, NULL, 0, 0, "cannot read \"%s\": %s", path,
                               ind_open_file_reason(error));
        return NULL;
    }
    source->order = loader->loaded->sources ? loader->loaded->sources->order + 1 : 0;
    source->next = loader->loaded->sources;
    loader->loaded->sources = source;
    return source;
}
