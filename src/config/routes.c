/* config/routes.c: routes. */
#include "config/quantity.h"
#include "config/route_private.h"
#include "core/message/framing.h"
#include "core/message/names.h"

#include <grp.h>
#include <stdlib.h>
#include <unistd.h>

static void keep_route_name(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    if (!ind_expect_text(loader, value, "the route's name"))
        return;
    text->name = value;
    text->route->name = ind_keep(loader, value->text);
}

static void read_when(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    text->when = value;
    text->route->when_text = ind_read_when(loader, value, true, &text->route->when);
}

static void read_file(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    struct ind_mistake mistake = {0};
    text->file = value;
    if (!ind_expect_text(loader, value, "the file's path"))
        return;
    char *kept = ind_keep(loader, value->text);
    if (kept && !ind_template_read((struct ind_slice){kept, value->text.length}, IND_TEMPLATE_PATH,
                                   &text->route->file, &mistake))
        ind_wrong_inside(loader, value, &mistake, false);
}

static void read_program(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route *route = ((struct ind_route_text *)into)->route;
    route->program = ind_read_program(loader, value);
    route->to = IND_TO_PROGRAM;
}

static void read_relay(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route *route = ((struct ind_route_text *)into)->route;
    const struct ind_config *config = loader->config;
    if (!ind_expect_text(loader, value, "the name of a relay"))
        return;
    const int number = ind_config_relay(config, value->text);
    if (number >= 0) {
        route->to = IND_TO_RELAY;
        route->relay = config->relays[number].name;
        route->relay_number = (uint16_t)number;
        route->form = config->relays[number].form;
        if (route->form == IND_PASS_ON_JSON)
            route->layout = IND_LAYOUT_JSON; /* so that fields are read for it */
        return;
    }
    const char *names[IND_MOST_RELAYS];
    for (size_t i = 0; i < config->relay_count; i++)
        names[i] = config->relays[i].name;
    const char *near = ind_near(value->text, names, config->relay_count);
    ind_wrong(loader, value, "unknown relay \"%.*s\"; %s%s%s", IND_ARG(value->text),
              near ? "did you mean \"" : "name it under relays:", near ? near : "", near ? "\"?" : "");
}

static void read_terminals(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route *route = ((struct ind_route_text *)into)->route;
    route->users = ind_read_users(loader, value);
    route->to = IND_TO_TERMINALS;
}

static void read_to(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {
        {"program", read_program}, {"relay", read_relay}, {"terminals", read_terminals}};
    struct ind_route_text *text = into;
    text->to = value;
    if (value->kind == IND_NODE_MAP) {
        if (ind_read_map(loader, value, keys, 3, into) && value->part_count != 2)
            ind_wrong(loader, value, "a route goes to one place; write two routes");
        return;
    }
    if (!ind_expect_text(loader, value,
                         "output, terminals, a program such as {program: [/usr/local/bin/page]}, or "
                         "{relay: NAME}"))
        return;
    if (ind_slice_equal(value->text, IND_SLICE("output")))
        text->route->to = IND_TO_OUTPUT;
    else if (ind_slice_equal(value->text, IND_SLICE("terminals")))
        text->route->to = IND_TO_TERMINALS;
    else
        ind_wrong(loader, value,
                  "unknown \"%.*s\"; expected output (standard output), terminals, {terminals: [USER, …]}, "
                  "{program: [PROGRAM, ARGUMENT, …]}, or {relay: NAME}; a file is named with file:",
                  IND_ARG(value->text));
}

static void read_archive(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    struct ind_config *config = loader->config;
    if (!ind_expect_text(loader, value, "the name of an archive policy"))
        return;
    text->archive = value;
    struct ind_policy *policy = ind_find_policy(config, value->text);
    if (policy) {
        text->route->policy = (size_t)(policy - config->policies);
        return;
    }
    const char **names = calloc(config->policy_count, sizeof *names);
    for (size_t i = 0; names && i < config->policy_count; i++)
        names[i] = config->policies[i].name;
    const char *near = names ? ind_near(value->text, names, config->policy_count) : NULL;
    ind_wrong(loader, value, "unknown archive policy \"%.*s\"; %s%s%s", IND_ARG(value->text),
              near ? "did you mean \"" : "name it under archives:", near ? near : "", near ? "\"?" : "");
    free(names);
}

static void read_line_template(struct ind_loader *loader, const struct ind_node *value,
                               struct ind_route *route)
{
    struct ind_mistake mistake = {0};
    char *kept = ind_keep(loader, value->text);
    struct ind_template *line = ind_keep_room(loader, sizeof *line);
    if (!kept || !line)
        return;
    if (!ind_template_read((struct ind_slice){kept, value->text.length}, IND_TEMPLATE_LINE, line, &mistake))
        ind_wrong_inside(loader, value, &mistake, false);
    else if (ind_template_most(line, IND_MESSAGE_LIMIT) > IND_LINE_MOST)
        ind_warn(
            loader, value,
            "a message of %d KiB can make a line of more than %d KiB of this, which is then cut; let each "
            "part of the message stand here once",
            IND_MESSAGE_LIMIT >> 10, IND_LINE_MOST >> 10);
    route->line = line;
    route->layout = IND_LAYOUT_RAW;
}

static void read_layout(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    text->layout = value;
    if (!ind_expect_text(loader, value,
                         "plain, json, rfc5424, raw, or a template such as \"{time} {device} {text}\""))
        return;
    if (memchr(value->text.at, '{', value->text.length)) {
        read_line_template(loader, value, text->route);
        return;
    }
    int layout = ind_layout_read(value->text);
    if (layout < 0)
        ind_wrong(loader, value,
                  "unknown layout \"%.*s\"; expected plain, json, rfc5424, raw, or a template such as "
                  "\"{time} {device} "
                  "{text}\"",
                  IND_ARG(value->text));
    else
        text->route->layout = (enum ind_layout)layout;
}

static void read_last(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)ind_read_yes(loader, value, &((struct ind_route_text *)into)->route->last);
}

static void read_otherwise(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)ind_read_yes(loader, value, &((struct ind_route_text *)into)->route->otherwise);
}

static void read_mode(struct ind_loader *loader, const struct ind_node *value, unsigned needed,
                      const char *example, unsigned *mode)
{
    if (!ind_expect_text(loader, value, "permissions in octal"))
        return;
    if (!ind_read_mode(value->text, mode))
        ind_wrong(loader, value, "\"%.*s\" is not a mode; write permissions in octal, such as \"%s\"",
                  IND_ARG(value->text), example);
    else if ((*mode & needed) != needed)
        ind_wrong(loader, value,
                  "with this mode the collector could not write there itself; write one such as \"%s\"",
                  example);
}

static void read_file_mode(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ((struct ind_route_text *)into)->mode = value;
    read_mode(loader, value, 0600, "0640", &((struct ind_route_text *)into)->route->file_mode);
}

static void read_folder_mode(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ((struct ind_route_text *)into)->folder_mode = value;
    read_mode(loader, value, 0700, "0750", &((struct ind_route_text *)into)->route->folder_mode);
}

static void read_group(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_route_text *text = into;
    uint64_t number;
    text->group = value;
    if (!ind_expect_text(loader, value, "the name of a group"))
        return;
    const struct group *group = getgrnam(value->text.at);
    if (group)
        text->route->group = group->gr_gid;
    else if (ind_read_count(value->text, 0, UINT32_MAX - 1, &number))
        text->route->group = (int64_t)number;
    else
        ind_wrong(loader, value, "this machine has no group \"%.*s\"", IND_ARG(value->text));
}

void ind_route_describe(const struct ind_route *route, struct ind_buffer *buffer)
{
    if (route->to == IND_TO_FILE)
        ind_buffer_slice(buffer, route->file.source);
    else
        ind_buffer_text(buffer, route->to == IND_TO_OUTPUT  ? "standard output"
                                : route->to == IND_TO_RELAY ? "relay "
                                : route->to == IND_TO_TERMINALS
                                    ? route->users ? "terminals of " : "terminals of all who are logged in"
                                    : "program");
    if (route->to == IND_TO_RELAY)
        ind_buffer_text(buffer, route->relay);
    if (route->users)
        ind_buffer_text(buffer, route->users);
    for (size_t i = 0; route->program && route->program[i]; i++) {
        ind_buffer_byte(buffer, ' ');
        ind_buffer_text(buffer, route->program[i]);
    }
}

bool ind_config_has_to(const struct ind_config *config, enum ind_to to)
{
    for (size_t i = 0; i < config->route_count; i++)
        if (config->routes[i].to == to)
            return true;
    return false;
}

const struct ind_route *ind_config_route(const struct ind_config *config, const char *name)
{
    size_t from = 0, to = config->route_count;
    while (from < to) {
        size_t middle = from + (to - from) / 2;
        const struct ind_route *route = &config->routes[config->routes_by_name[middle]];
        int order = strcmp(name, route->name);
        if (order == 0)
            return route;
        from = order > 0 ? middle + 1 : from;
        to = order > 0 ? to : middle;
    }
    return NULL;
}

/* What goes with files only. */
static void check_to(struct ind_loader *loader, const struct ind_route_text *text)
{
    const struct ind_node *of_files[] = {text->archive, text->mode, text->folder_mode, text->group};
    static const char *const names[] = {"archive", "mode", "folder mode", "group"};
    if (text->file)
        ind_wrong(loader, text->file, "a route has \"file\" or \"to\", not both; write two routes");
    for (size_t i = 0; i < 4; i++)
        if (of_files[i])
            ind_wrong(loader, of_files[i], "\"%s\" goes with \"file\", not with \"to\"; leave it out",
                      names[i]);
    if (text->layout && text->route->to == IND_TO_RELAY)
        ind_wrong(loader, text->layout, "a relay has a \"form\" of its own; leave \"layout\" out");
}

static void load_route(struct ind_loader *loader, const struct ind_node *node, struct ind_route_text *text)
{
    static const struct ind_key keys[] = {{"name", keep_route_name},    {"when", read_when},
                                          {"file", read_file},          {"archive", read_archive},
                                          {"layout", read_layout},      {"last", read_last},
                                          {"mode", read_file_mode},     {"folder mode", read_folder_mode},
                                          {"group", read_group},        {"to", read_to},
                                          {"otherwise", read_otherwise}};
    struct ind_route *route = text->route;
    *route = (struct ind_route){
        .name = "", .when = IND_CONDITION_ALWAYS, .file_mode = 0640, .folder_mode = 0750, .group = -1};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, text))
        return;
    if (!text->name)
        ind_wrong(loader, node, "a route without a name; add \"name: …\"");
    if (text->to)
        check_to(loader, text);
    else if (!text->file)
        ind_wrong(loader, node, "a route without a file; add \"file: '{facility}/{severity}.log'\"");
}

static void add_default_route(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    struct ind_mistake mistake = {0};
    config->routes[0] = (struct ind_route){.name = "everything",
                                           .when = IND_CONDITION_ALWAYS,
                                           .file_mode = 0640,
                                           .folder_mode = 0750,
                                           .group = -1};
    (void)ind_template_read(IND_SLICE("{facility}/{severity}.log"), IND_TEMPLATE_PATH,
                            &config->routes[0].file, &mistake);
}

/* Whether some route writes messages as they were received, or some rule asks for them. */
static bool wants_original(const struct ind_config *config)
{
    unsigned fields = 0;
    for (size_t i = 0; i < config->edits.count; i++)
        fields |= ind_condition_fields(config->conditions, config->edits.rules[i].when);
    for (size_t i = 0; i < config->alerts.test_count; i++)
        fields |= ind_condition_fields(config->conditions, config->alerts.tests[i].when);
    for (size_t i = 0; i < config->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        fields |= ind_condition_fields(config->conditions, route->when);
        if (route->to == IND_TO_RELAY ? route->form == IND_PASS_ON_AS_RECEIVED
                                      : route->layout == IND_LAYOUT_RAW && !route->line)
            return true;
    }
    return (fields >> IND_FIELD_ORIGINAL & 1) != 0;
}

void ind_load_routes(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    size_t count = loader->route_count;
    config->routes = calloc(count ? count : 1, sizeof *config->routes);
    config->route_places = calloc(count ? count : 1, sizeof *config->route_places);
    struct ind_route_text *texts = calloc(count ? count : 1, sizeof *texts);
    if (!config->routes || !config->route_places || !texts) {
        free(texts);
        ind_no_memory(loader);
        return;
    }
    config->route_count = count ? count : 1;
    if (count == 0)
        add_default_route(loader);
    for (size_t i = 0; i < count; i++) {
        texts[i].route = &config->routes[i];
        config->route_places[i] = config->route_places[i ? i - 1 : 0];
        ind_place_find(&config->route_places[i], loader->routes[i]->source, loader->routes[i]->offset);
        load_route(loader, loader->routes[i], &texts[i]);
    }
    if (!loader->no_memory)
        ind_routes_order_names(loader, texts, count);
    if (!loader->no_memory)
        ind_routes_check_files(loader, texts, count);
    if (loader->diagnostics->mistakes == 0 && config->routes_by_name &&
        ind_conditions_compile(config->conditions))
        config->router = ind_edits_compile(&config->edits, config->conditions) && ind_finish_alerts(loader)
                             ? ind_router_new(config->conditions, config->routes, config->route_count)
                             : NULL;
    if (config->router && count)
        ind_routes_check_reachable(loader, texts);
    if (!loader->no_memory)
        ind_routes_check_lengths(loader, texts, count);
    if (loader->diagnostics->mistakes == 0 && !loader->no_memory)
        ind_routes_check_labels(loader, texts, count);
    config->edits.wants_original = wants_original(config);
    free(texts);
}
