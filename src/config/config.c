#include "config/config.h"

#include "config/load.h"
#include "config/quantity.h"
#include "config/tells.h"
#include "config/zones.h"
#include <errno.h>
#include <glob.h>
#include <stdlib.h>
#include <unistd.h>

enum { DEEPEST_INCLUDE = 8 };

/* Settings of one value stand once, over all files. */
static bool once(struct ind_loader *loader, const struct ind_node *value, const void *place)
{
    for (size_t i = 0; i < loader->seen_count; i++)
        if (loader->seen[i].place == place) {
            if (loader->seen[i].value->source !=
                value->source) /* in one file it is reported as a key given twice */
                ind_wrong(loader, value, "this is set already in %s; leave one out",
                          loader->seen[i].value->source->path);
            return false;
        }
    if (!ind_grow(loader, &loader->seen, &loader->seen_count, sizeof *loader->seen))
        return false;
    loader->seen[loader->seen_count - 1] = (struct ind_setting_seen){place, value};
    return true;
}

static void read_path(struct ind_loader *loader, const struct ind_node *value, char **path)
{
    if (ind_expect_text(loader, value, "a path") && once(loader, value, path))
        *path = ind_resolve_path(loader, value);
}

static void read_store(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_path(loader, value, &((struct ind_config *)into)->store);
}

static void read_state(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_path(loader, value, &((struct ind_config *)into)->state);
}

static void read_zone(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (!ind_expect_text(loader, value, "a time zone such as Europe/Lisbon") ||
        !once(loader, value, &config->zone_text))
        return;
    config->zone_text = ind_keep(loader, value->text);
    config->zone = config->zone_text ? ind_zone_named(config->zone_text) : NULL;
    if (!config->zone)
        ind_wrong(loader, value, "unknown time zone \"%.*s\"; write one such as Europe/Lisbon, UTC or +01:00",
                  IND_ARG(value->text));
}

static void read_times(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (!ind_expect_text(loader, value, "utc or local") || !once(loader, value, &config->local_times))
        return;
    config->local_times = ind_slice_equal(value->text, IND_SLICE("local"));
    if (!config->local_times && !ind_slice_equal(value->text, IND_SLICE("utc")))
        ind_wrong(
            loader, value,
            "expected utc, or local for times of the collector's zone with their offset, found \"%.*s\"",
            IND_ARG(value->text));
}

static void read_domain(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "a domain such as skerry.example") &&
        once(loader, value, &config->domain))
        config->domain = ind_keep(loader, value->text);
}

static void read_user(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "the name of a user") && once(loader, value, &config->user))
        config->user = ind_keep(loader, value->text);
}

/* The first is that of new files; the others are taken on, too. */
static void read_group(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    enum { MOST = 32 };
    struct ind_config *config = into;
    bool list = value->kind == IND_NODE_LIST;
    size_t count = list ? value->part_count : 1;
    if (!once(loader, value, &config->groups))
        return;
    if (count > MOST || count == 0) {
        ind_wrong(loader, value, "a group, or a list of 1 to %d", MOST);
        return;
    }
    config->groups = ind_keep_room(loader, count * sizeof *config->groups);
    for (size_t i = 0; config->groups && i < count; i++) {
        const struct ind_node *item = list ? value->parts[i] : value;
        if (ind_expect_text(loader, item, "the name of a group") &&
            (config->groups[config->group_count] = ind_keep(loader, item->text)))
            config->group_count++;
    }
}

static void read_open_files(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "a number of files") && once(loader, value, &config->open_files) &&
        !ind_read_count(value->text, 1, 1000000, &config->open_files))
        ind_wrong(loader, value, "\"%.*s\" is not a number of files; write one such as 4096",
                  IND_ARG(value->text));
}

static void read_burst_buffer(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "a size such as 64 MiB") &&
        once(loader, value, &config->burst_buffer) &&
        (!ind_read_size(value->text, &config->burst_buffer) || config->burst_buffer < 1 << 20 ||
         config->burst_buffer > UINT64_C(64) << 30))
        ind_wrong(loader, value, "\"%.*s\" is not a size from 1 MiB to 64 GiB; write one such as 64 MiB",
                  IND_ARG(value->text));
}

static void read_reserve(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "a size such as 2 GiB") && once(loader, value, &config->reserve) &&
        !ind_read_size(value->text, &config->reserve))
        ind_wrong(loader, value, "\"%.*s\" is not a size; write one such as 2 GiB", IND_ARG(value->text));
}

static void read_threads(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (ind_expect_text(loader, value, "a number of threads") && once(loader, value, &config->threads) &&
        !ind_read_count(value->text, 1, 64, &config->threads))
        ind_wrong(loader, value, "\"%.*s\" is not a number of threads from 1 to 64", IND_ARG(value->text));
}

static void read_allow(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    if (once(loader, value, &loader->config->allow))
        ind_load_allow(loader, value, into);
}

static void read_limits(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (once(loader, value, &config->limits))
        ind_load_limits(loader, value, &config->limits);
}

static void gather_list(struct ind_loader *loader, const struct ind_node *value, const char *what,
                        const struct ind_node ***list, size_t *count)
{
    if (!ind_expect_list(loader, value, what))
        return;
    for (size_t i = 0; i < value->part_count; i++)
        if (ind_grow(loader, list, count, sizeof **list))
            (*list)[*count - 1] = value->parts[i];
}

static void gather_devices(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "devices", &loader->devices, &loader->device_count);
}

static void gather_routes(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "routes", &loader->routes, &loader->route_count);
}

static void gather_relays(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "relays", &loader->relays, &loader->relay_count);
}

static void gather_alerts(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "alerts", &loader->alerts, &loader->alert_count);
}

static void gather_reports(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "reports", &loader->reports, &loader->report_count);
}

static void read_mail(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (once(loader, value, &config->mail))
        ind_load_mail(loader, value, &config->mail);
}

static void gather_edits(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "edits", &loader->edits, &loader->edit_count);
}

static void gather_patterns(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    gather_list(loader, value, "patterns", &loader->patterns, &loader->pattern_count);
}

static void gather_conditions(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    if (value->kind != IND_NODE_MAP) {
        ind_wrong(loader, value,
                  "expected named conditions such as \"trouble: severity at least warning\", found %s",
                  ind_node_kind_name(value));
        return;
    }
    for (size_t i = 0; i + 1 < value->part_count; i += 2)
        if (ind_grow(loader, &loader->named, &loader->named_count, sizeof *loader->named)) {
            loader->named[loader->named_count - 1].key = value->parts[i];
            loader->named[loader->named_count - 1].value = value->parts[i + 1];
        }
}

static void gather_archives(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    if (value->kind != IND_NODE_MAP) {
        ind_wrong(loader, value,
                  "expected archive policies such as \"default: {rotate: every day}\", found %s",
                  ind_node_kind_name(value));
        return;
    }
    for (size_t i = 0; i < value->part_count; i++)
        if (ind_grow(loader, &loader->archives, &loader->archive_count, sizeof *loader->archives))
            loader->archives[loader->archive_count - 1] = value->parts[i];
}

static void read_config_file(struct ind_loader *loader, const char *path, const struct ind_node *from);

static void include_one(struct ind_loader *loader, const struct ind_node *node)
{
    glob_t found;
    if (!ind_expect_text(loader, node, "the path of a file to include"))
        return;
    char *pattern = ind_resolve_path(loader, node);
    if (!pattern)
        return;
    bool many = strpbrk(pattern, "*?[") != NULL;
    int result = glob(pattern, many ? 0 : GLOB_NOCHECK, NULL, &found);
    if (result == 0)
        for (size_t i = 0; i < found.gl_pathc; i++)
            read_config_file(loader, found.gl_pathv[i], node);
    else if (result == GLOB_NOMATCH)
        ind_warn(loader, node, "no file fits \"%.*s\"", IND_ARG(node->text));
    else
        ind_wrong(loader, node, "cannot look for files that fit \"%.*s\"", IND_ARG(node->text));
    globfree(&found);
}

static void read_serve(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_config *config = into;
    if (once(loader, value, &config->serve))
        ind_load_serve(loader, value, &config->serve);
}

static void read_include(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    if (value->kind != IND_NODE_LIST)
        include_one(loader, value);
    else
        for (size_t i = 0; i < value->part_count; i++)
            include_one(loader, value->parts[i]);
}

static const struct ind_key top_keys[] = {
    {"store", read_store},       {"state", read_state},           {"zone", read_zone},
    {"times", read_times},       {"domain", read_domain},         {"user", read_user},
    {"group", read_group},       {"open files", read_open_files}, {"burst buffer", read_burst_buffer},
    {"reserve", read_reserve},   {"threads", read_threads},       {"listen", ind_load_listen},
    {"allow", read_allow},       {"limits", read_limits},         {"serve", read_serve},
    {"devices", gather_devices}, {"patterns", gather_patterns},   {"conditions", gather_conditions},
    {"edits", gather_edits},     {"routes", gather_routes},       {"archives", gather_archives},
    {"relays", gather_relays},   {"alerts", gather_alerts},       {"reports", gather_reports},
    {"mail", read_mail},         {"include", read_include},
};

static void read_config_file(struct ind_loader *loader, const char *path, const struct ind_node *from)
{
    const struct ind_source *source = ind_load_source(loader, path, from);
    struct ind_node *tree = source ? ind_tree_read(source, loader->diagnostics) : NULL;
    if (!tree)
        return;
    if (!ind_grow(loader, &loader->trees, &loader->tree_count, sizeof *loader->trees)) {
        ind_tree_free(tree);
        return;
    }
    loader->trees[loader->tree_count - 1] = tree;
    if (++loader->depth > DEEPEST_INCLUDE)
        ind_wrong(loader, from, "files included more than 8 deep");
    else if (tree->kind != IND_NODE_SCALAR || tree->text.length)
        ind_read_map(loader, tree, top_keys, sizeof top_keys / sizeof *top_keys, loader->config);
    loader->depth--;
}

/* Whoever must show a certificate is known. */
static bool is_open_to_all(const struct ind_listen_item *item)
{
    const struct ind_listen_tls *tls = item->tls;
    if (item->kind == IND_LISTEN_UNIX || item->kind == IND_LISTEN_INHERITED || item->nats || !item->address)
        return false;
    return !ind_host_is_loopback(ind_slice_of(item->address)) &&
           !(tls && (tls->files[IND_LISTEN_CLIENTS].path || tls->fingerprint_count > 0));
}

static void warn_of_open_listeners(struct ind_loader *loader)
{
    const struct ind_config *config = loader->config;
    for (size_t i = 0; !config->allow_given && i < config->listener_count; i++)
        if (is_open_to_all(&config->listeners[i])) {
            ind_diagnostic_add(loader->diagnostics, true, NULL, 0, 0,
                               "anyone who can reach %s can send messages; name your networks under allow:",
                               config->listeners[i].text);
            return;
        }
}

/* A device that only a relay speaks for need not be allowed itself. */
static void warn_of_refused_devices(struct ind_loader *loader)
{
    const struct ind_config *config = loader->config;
    const struct ind_surroundings around = {
        .allow_given = config->allow_given, .allow = config->allow, .allow_count = config->allow_count};
    const struct ind_device *refused = NULL;
    size_t count = 0;
    for (size_t i = 0; i < ind_devices_count(config->devices); i++) {
        const struct ind_device *device = ind_devices_at(config->devices, i);
        if (device->relay)
            return;
        if (!device->network.address.bits || ind_is_allowed_in_part(&around, &device->network))
            continue;
        refused = refused ? refused : device;
        count++;
    }
    if (count)
        ind_diagnostic_add(
            loader->diagnostics, true, NULL, 0, 0,
            "allow: refuses the address of the device \"%s\"%s: nothing that it sends is taken",
            refused->name, count > 1 ? ", and those of others" : "");
}

static void compile(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    if (!config->store)
        config->store = ind_keep(loader, IND_SLICE("/var/log/indagator"));
    if (!config->state)
        config->state = ind_keep(loader, IND_SLICE("/var/lib/indagator"));
    if (!config->domain)
        config->domain = ind_keep(loader, IND_SLICE(""));
    if (!config->zone_text)
        config->zone = ind_zone_of_machine();
    config->times = config->local_times ? config->zone : NULL;
    config->devices = ind_devices_new(ind_slice_of(config->domain));
    bool patterns = ind_load_patterns(loader);
    config->conditions = ind_conditions_new(ind_slice_of(config->domain), config->zone, config->patterns);
    if (!patterns || !config->devices || !config->conditions || !config->store || !config->state ||
        !ind_default_policy(loader)) {
        ind_no_memory(loader);
        return;
    }
    ind_finish_listen_nats(loader);
    static void (*const steps[])(struct ind_loader *) = {
        ind_load_devices, ind_load_conditions, ind_load_archives, ind_load_edits,
        ind_load_relays,  ind_load_alerts,     ind_load_reports,  ind_load_routes};
    for (size_t i = 0; i < sizeof steps / sizeof *steps && !loader->no_memory; i++)
        steps[i](loader);
    ind_finish_conditions(loader);
    if (loader->diagnostics->mistakes == 0)
        ind_check_mail(loader);
    if (loader->diagnostics->mistakes == 0)
        ind_finish_archives(loader);
    if (config->groups && !config->user)
        ind_diagnostic_add(loader->diagnostics, false, NULL, 0, 0, "\"group\" goes with \"user\"; add it");
    if (!loader->no_memory)
        warn_of_open_listeners(loader);
    if (config->serve.address && !ind_host_is_loopback(ind_slice_of(config->serve.address)))
        ind_diagnostic_add(
            loader->diagnostics, true, NULL, 0, 0,
            "anyone who can reach %s can read how the collector stands, with the names and "
            "addresses of devices; a packet filter can see to it that only those who should can",
            config->serve.text);
    if (loader->diagnostics->mistakes == 0 && !loader->no_memory)
        warn_of_refused_devices(loader);
}

static void config_free(struct ind_config *config)
{
    if (!config)
        return;
    ind_router_free(config->router);
    ind_router_free(config->alerts.router);
    ind_edits_free(config);
    ind_conditions_free(config->conditions);
    ind_patterns_free(config->patterns);
    free(config->layout_places);
    ind_devices_free(config->devices);
    for (size_t i = 0; i < config->device_zone_count; i++)
        ind_zone_free(config->device_zones[i]);
    ind_zone_free(config->zone);
    for (size_t i = 0; i < config->trap_names_count; i++)
        ind_trap_names_free(config->trap_names[i]);
    free(config->trap_names);
    for (size_t i = 0; i < config->kept_count; i++)
        free(config->kept[i]);
    free(config->kept);
    free(config->outline);
    free(config->device_zones);
    free(config->named_conditions);
    free(config->named_texts);
    free((void *)(uintptr_t)config->named.names);
    free(config->listeners);
    free(config->allow);
    free(config->routes);
    free(config->routes_by_name);
    free(config->route_places);
    free(config->policies);
    free(config);
}

static void load(const char *path, struct ind_loaded *loaded)
{
    *loaded = (struct ind_loaded){0};
    struct ind_loader loader = {.loaded = loaded, .diagnostics = &loaded->diagnostics};
    loader.config = calloc(1, sizeof *loader.config);
    if (!loader.config) {
        ind_no_memory(&loader);
        return;
    }
    loader.config->open_files = IND_OPEN_FILES;
    loader.config->burst_buffer = IND_BURST_BUFFER;
    ind_limits_begin(&loader.config->limits);
    if (path)
        read_config_file(&loader, path, NULL);
    if (!loader.no_memory)
        compile(&loader);
    if (loaded->diagnostics.mistakes == 0 && loader.config->router &&
        !(loader.config->outline = ind_outline_make(&loader)))
        ind_no_memory(&loader);
    for (size_t i = 0; i < loader.tree_count; i++)
        ind_tree_free(loader.trees[i]);
    free(loader.trees);
    free(loader.devices);
    free(loader.routes);
    free(loader.relays);
    free(loader.alerts);
    free(loader.reports);
    free(loader.patterns);
    free(loader.edits);
    free(loader.archives);
    free(loader.named);
    free(loader.seen);
    free(loader.conditions);
    if (loaded->diagnostics.mistakes == 0 && !loader.config->router)
        ind_no_memory(&loader);
    ind_diagnostics_sort(&loaded->diagnostics);
    if (loaded->diagnostics.mistakes == 0 && loader.config->router)
        loaded->config = loader.config;
    else
        config_free(loader.config);
}

void ind_config_load(const char *path, struct ind_loaded *loaded)
{
    load(path, loaded);
}

void ind_config_defaults(struct ind_loaded *loaded)
{
    load(NULL, loaded);
}

void ind_loaded_free(struct ind_loaded *loaded)
{
    config_free(loaded->config);
    ind_diagnostics_free(&loaded->diagnostics);
    while (loaded->sources) {
        struct ind_source *next = loaded->sources->next;
        ind_source_free(loaded->sources);
        loaded->sources = next;
    }
    *loaded = (struct ind_loaded){0};
}

const char *ind_config_find(void)
{
    static const char *const places[] = {"indagator.yaml", "/etc/indagator/indagator.yaml"};
    for (size_t i = 0; i < 2; i++)
        if (access(places[i], F_OK) == 0)
            return places[i];
    return NULL;
}

bool ind_config_allows(const struct ind_config *config, const struct ind_address *sender)
{
    if (!config->allow_given)
        return true;
    for (size_t i = 0; i < config->allow_count; i++)
        if (ind_network_holds(&config->allow[i], sender))
            return true;
    return false;
}
