#include "config/outline.h"

#include "config/load.h"
#include "core/base/escape.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct outliner {
    struct ind_loader *loader;
    FILE *out;
};

/* ---- Values ---- */

static bool is_plain(char byte)
{
    return (unsigned char)byte >= 0x20 && byte != 0x7f && byte != '\\';
}

/* As the escapes of stored lines, so that a value is one word between tabs. */
static void put_text(FILE *out, struct ind_slice text)
{
    while (text.length) {
        size_t run = 0;
        while (run < text.length && is_plain(text.at[run]))
            run++;
        if (run)
            fwrite(text.at, 1, run, out);
        text = ind_slice_from(text, run);
        if (text.length == 0)
            return;
        if (*text.at == '\\')
            fputs("\\\\", out);
        else if (*text.at == '\n')
            fputs("\\n", out);
        else
            fprintf(out, "\\x%02x", (unsigned char)*text.at);
        text = ind_slice_from(text, 1);
    }
}

/* The pairs of a map, in the order of their keys. */
struct pair {
    const struct ind_node *key, *value;
};

static int by_key(const void *one, const void *other)
{
    return ind_slice_compare(((const struct pair *)one)->key->text, ((const struct pair *)other)->key->text);
}

/* New, with *count of them; NULL where memory is out, which is reported, or it has none. */
static struct pair *sorted_pairs(struct ind_loader *loader, const struct ind_node *map, size_t *count)
{
    *count = map->part_count / 2;
    struct pair *pairs = *count ? calloc(*count, sizeof *pairs) : NULL;
    if (!pairs) {
        if (*count)
            ind_no_memory(loader);
        *count = 0;
        return NULL;
    }
    for (size_t i = 0; i < *count; i++)
        pairs[i] = (struct pair){map->parts[2 * i], map->parts[2 * i + 1]};
    qsort(pairs, *count, sizeof *pairs, by_key);
    return pairs;
}

static void put_node(struct outliner *outliner, const struct ind_node *node)
{
    size_t count;
    struct pair *pairs;
    switch (node->kind) {
    case IND_NODE_SCALAR:
        put_text(outliner->out, node->text);
        break;
    case IND_NODE_LIST:
        putc('[', outliner->out);
        for (size_t i = 0; i < node->part_count; i++) {
            fputs(i ? ", " : "", outliner->out);
            put_node(outliner, node->parts[i]);
        }
        putc(']', outliner->out);
        break;
    case IND_NODE_MAP:
        pairs = sorted_pairs(outliner->loader, node, &count);
        putc('{', outliner->out);
        for (size_t i = 0; i < count; i++) {
            fputs(i ? ", " : "", outliner->out);
            put_text(outliner->out, pairs[i].key->text);
            fputs(": ", outliner->out);
            put_node(outliner, pairs[i].value);
        }
        putc('}', outliner->out);
        free(pairs);
        break;
    }
}

/* ---- Lines ---- */

static void begin_line(const struct outliner *outliner, const char *part, struct ind_slice name,
                       struct ind_slice key)
{
    fputs(part, outliner->out);
    putc('\t', outliner->out);
    put_text(outliner->out, name);
    putc('\t', outliner->out);
    put_text(outliner->out, key);
    putc('\t', outliner->out);
}

static void put_thing(struct outliner *outliner, const char *part, struct ind_slice name,
                      const struct ind_node *node)
{
    size_t count = 0;
    struct pair *pairs = node->kind == IND_NODE_MAP ? sorted_pairs(outliner->loader, node, &count) : NULL;
    if (node->kind != IND_NODE_MAP) {
        begin_line(outliner, part, name, IND_NOTHING);
        put_node(outliner, node);
        putc('\n', outliner->out);
    }
    for (size_t i = 0; i < count; i++) {
        begin_line(outliner, part, name, pairs[i].key->text);
        put_node(outliner, pairs[i].value);
        putc('\n', outliner->out);
    }
    free(pairs);
}

static struct ind_slice name_of(const struct ind_node *node)
{
    for (size_t i = 0; node->kind == IND_NODE_MAP && i + 1 < node->part_count; i += 2)
        if (ind_slice_equal(node->parts[i]->text, IND_SLICE("name")))
            return node->parts[i + 1]->text;
    return IND_NOTHING;
}

static void put_named(struct outliner *outliner, const char *part, const struct ind_node *const *nodes,
                      size_t count)
{
    for (size_t i = 0; i < count; i++)
        put_thing(outliner, part, name_of(nodes[i]), nodes[i]);
}

/* ---- Parts ---- */

/* Parts that have lines of their own; "include" says nothing by itself. */
static bool is_part(struct ind_slice key)
{
    static const char *const parts[] = {"listen",   "devices", "patterns", "conditions", "edits",  "routes",
                                        "archives", "relays",  "alerts",   "reports",    "include"};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        if (ind_slice_equal(key, ind_slice_of(parts[i])))
            return true;
    return false;
}

static void put_settings(struct outliner *outliner)
{
    const struct ind_loader *loader = outliner->loader;
    for (size_t t = 0; t < loader->tree_count; t++) {
        const struct ind_node *tree = loader->trees[t];
        for (size_t i = 0; tree->kind == IND_NODE_MAP && i + 1 < tree->part_count; i += 2)
            if (!is_part(tree->parts[i]->text))
                put_thing(outliner, "setting", tree->parts[i]->text, tree->parts[i + 1]);
    }
}

/* The compiled ones name a listener as messages do; what else it says stands in its node, in the same order.
 */
static void put_listeners(struct outliner *outliner)
{
    const struct ind_loader *loader = outliner->loader;
    size_t number = 0;
    for (size_t t = 0; t < loader->tree_count; t++) {
        const struct ind_node *tree = loader->trees[t];
        for (size_t i = 0; tree->kind == IND_NODE_MAP && i + 1 < tree->part_count; i += 2) {
            const struct ind_node *list = tree->parts[i + 1];
            if (!ind_slice_equal(tree->parts[i]->text, IND_SLICE("listen")) || list->kind != IND_NODE_LIST)
                continue;
            for (size_t n = 0; n < list->part_count && number < loader->config->listener_count; n++, number++)
                put_thing(outliner, "listen", ind_slice_of(loader->config->listeners[number].text),
                          list->parts[n]);
        }
    }
}

/* Devices of tables, which are no nodes; sorted by where they lie. */
struct tabled {
    struct outliner *outliner;
    const struct ind_device **list;
    size_t count;
};

static int by_place(const void *one, const void *other)
{
    const struct ind_device *a = *(const struct ind_device *const *)one,
                            *b = *(const struct ind_device *const *)other;
    return ((uintptr_t)a > (uintptr_t)b) - ((uintptr_t)a < (uintptr_t)b);
}

static void put_network(void *context, const struct ind_device *device, const struct ind_network *network)
{
    const struct tabled *tabled = context;
    char text[IND_ADDRESS_WIDTH];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    if (!bsearch(&device, tabled->list, tabled->count, sizeof(const struct ind_device *), by_place))
        return;
    begin_line(tabled->outliner, "device", (struct ind_slice){device->name, device->name_length},
               IND_SLICE("address"));
    ind_address_write(&buffer, &network->address);
    fprintf(tabled->outliner->out, "%.*s/%u\n", (int)buffer.length, text, network->prefix);
}

/* Nodes and devices stand in the same order; where a name does not go with the next node a table has it. */
static void find_tabled(struct ind_loader *loader, struct tabled *tabled)
{
    const struct ind_devices *devices = loader->config->devices;
    size_t node = 0;
    for (size_t i = 0; i < ind_devices_count(devices); i++) {
        const struct ind_device *device = ind_devices_at(devices, i);
        while (node < loader->device_count && name_of(loader->devices[node]).length == 0)
            node++; /* a table */
        if (node < loader->device_count &&
            ind_slice_equal(name_of(loader->devices[node]), ind_slice_of(device->name)))
            node++;
        else
            tabled->list[tabled->count++] = device;
    }
}

static void put_tabled(struct outliner *outliner, const struct ind_device *device)
{
    const struct ind_slice name = {device->name, device->name_length};
    begin_line(outliner, "device", name, IND_SLICE("relay"));
    fprintf(outliner->out, "%s\n", device->relay ? "yes" : "no");
    if (device->zone) {
        begin_line(outliner, "device", name, IND_SLICE("offset in January"));
        fprintf(outliner->out, "%d s\n", (int)ind_zone_offset(device->zone, 1767225600));
    }
    for (size_t i = 0; i < device->label_count; i++) {
        begin_line(outliner, "device", name, IND_SLICE("label"));
        put_text(outliner->out, ind_slice_of(device->labels[i].name));
        putc(' ', outliner->out);
        put_text(outliner->out, ind_slice_of(device->labels[i].value));
        putc('\n', outliner->out);
    }
}

static void put_devices(struct outliner *outliner)
{
    const struct ind_devices *devices = outliner->loader->config->devices;
    struct tabled tabled = {.outliner = outliner,
                            .list = calloc(ind_devices_count(devices) + 1, sizeof *tabled.list)};
    put_named(outliner, "device", outliner->loader->devices, outliner->loader->device_count);
    if (!tabled.list) {
        ind_no_memory(outliner->loader);
        return;
    }
    find_tabled(outliner->loader, &tabled);
    for (size_t i = 0; i < tabled.count; i++)
        put_tabled(outliner, tabled.list[i]);
    qsort(tabled.list, tabled.count, sizeof *tabled.list, by_place);
    if (tabled.count)
        ind_devices_visit_networks(devices, NULL, put_network, &tabled);
    free((void *)(uintptr_t)tabled.list);
}

char *ind_outline_make(struct ind_loader *loader)
{
    char *text = NULL;
    size_t size = 0;
    struct outliner outliner = {loader, open_memstream(&text, &size)};
    if (!outliner.out)
        return NULL;
    put_settings(&outliner);
    put_listeners(&outliner);
    put_devices(&outliner);
    put_named(&outliner, "pattern", loader->patterns, loader->pattern_count);
    for (size_t i = 0; i < loader->named_count; i++)
        put_thing(&outliner, "condition", loader->named[i].key->text, loader->named[i].value);
    put_named(&outliner, "edit", loader->edits, loader->edit_count);
    put_named(&outliner, "route", loader->routes, loader->route_count);
    put_named(&outliner, "relay", loader->relays, loader->relay_count);
    put_named(&outliner, "alert", loader->alerts, loader->alert_count);
    put_named(&outliner, "report", loader->reports, loader->report_count);
    for (size_t i = 0; i + 1 < loader->archive_count; i += 2)
        put_thing(&outliner, "archive", loader->archives[i]->text, loader->archives[i + 1]);
    const bool good = ferror(outliner.out) == 0;
    if (fclose(outliner.out) != 0 || !good) {
        free(text);
        return NULL;
    }
    return text;
}

/* ---- Read ---- */

static bool take_word(struct ind_slice *line, struct ind_slice *word)
{
    const char *tab = line->length ? memchr(line->at, '\t', line->length) : NULL;
    if (!tab)
        return false;
    *word = (struct ind_slice){line->at, (size_t)(tab - line->at)};
    *line = ind_slice_from(*line, word->length + 1);
    return true;
}

bool ind_outline_next(struct ind_slice *rest, struct ind_outline_line *line)
{
    struct ind_slice text;
    if (!ind_slice_line(rest, &text))
        return false;
    const bool good =
        take_word(&text, &line->part) && take_word(&text, &line->name) && take_word(&text, &line->key);
    line->value = text;
    return good;
}

bool ind_outline_needs_restart(const struct ind_outline_line *line)
{
    static const char *const keys[] = {"store",   "state",      "user",        "group",
                                       "threads", "open files", "burst buffer"};
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++)
        if (ind_slice_equal(line->part, IND_SLICE("setting")) &&
            ind_slice_equal(line->name, ind_slice_of(keys[i])))
            return true;
    return false;
}
