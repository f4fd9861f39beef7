#include "cli/check_here.h"
#include "cli/check_running.h"
#include "cli/cli.h"
#include "cli/table.h"
#include "collect/input/listener_tls.h"
#include "collect/intake/trap_rules.h"
#include "collect/relay/relay_tls.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/identity.h"
#include "store/disk/chain.h"
#include "store/disk/mounts.h"

static struct {
    int order, here, running;
    char *names;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"order", '\0', POPT_ARG_NONE, &given.order, 0, "prints the rules in the order in which they act",
         NULL},
        {"names", '\0', POPT_ARG_STRING, &given.names, 0,
         "prints only the names of its routes, patterns, policies, edits or devices", "KIND"},
        {"here", '\0', POPT_ARG_NONE, &given.here, 0, "tries also whether its ports can be listened on here",
         NULL},
        {"against-running", '\0', POPT_ARG_NONE, &given.running, 0,
         "prints only what a reload would change in the running collector", NULL},
        POPT_TABLEEND};
    return table;
}

static void print_patterns(const struct ind_config *config)
{
    size_t count = ind_patterns_count(config->patterns), examples = 0;
    for (size_t i = 0; i < config->layout_place_count; i++)
        examples += config->layout_places[i].example.length > 0;
    if (count)
        printf("patterns %zu, in %zu layouts; %zu example%s tried, all fit\n", count,
               config->layout_place_count, examples, examples == 1 ? "" : "s");
}

/* File systems that are mounted into the store. */
static void print_mounts(const struct ind_config *config)
{
    struct ind_mounts mounts;
    (void)ind_mounts_find(config->store, &mounts);
    for (unsigned i = 1; i < mounts.file_systems; i++)
        printf("disk     %s: a file system of its own, which the store's other files do not wait for\n",
               ind_mounts_folder(&mounts, i));
    ind_mounts_free(&mounts);
}

static void print_relays(const struct ind_config *config)
{
    char size[32];
    for (size_t i = 0; i < config->relay_count; i++) {
        const struct ind_relay_rule *rule = &config->relays[i];
        printf("relay    %s: to ", rule->name);
        for (unsigned n = 0; n < rule->target_count; n++)
            printf("%s%s", n == 0 ? "" : rule->share ? " and " : ", else ", rule->targets[n].text);
        printf("; %s may wait, then the %s are given up", ind_size_text(rule->space, size),
               rule->give_up_newest ? "newest" : "oldest");
        if (rule->at_most)
            printf("; at most %s/s", ind_size_text(rule->at_most, size));
        printf("\n");
    }
}

static void print_alerts(const struct ind_config *config)
{
    char text[2000];
    for (size_t i = 0; i < config->alerts.count; i++) {
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text - 1);
        ind_alert_describe(&config->alerts.list[i], &buffer);
        text[buffer.length] = '\0';
        printf("alert    %s: %s\n", config->alerts.list[i].name, text);
    }
    for (size_t i = 0; i < config->report_count; i++) {
        static const char *const every[] = {"day", "week", "month"};
        const struct ind_report_rule *rule = &config->reports[i];
        printf("report   %s: every %s at %02u:%02u%s%s%s%s%s%s\n", rule->name, every[rule->every],
               rule->at / 3600, rule->at / 60 % 60, rule->when_text ? ", of messages for which " : "",
               rule->when_text ? rule->when_text : "", rule->folder ? ", into " : "",
               rule->folder ? rule->folder : "", rule->mail ? ", to " : "", rule->mail ? rule->mail : "");
    }
    if (config->mail.server)
        printf("mail     by %s%s, at most %llu an hour to each\n", config->mail.server,
               config->mail.tls_at_once ? " (TLS at once)"
               : config->mail.plain     ? " without encryption"
                                        : "",
               (unsigned long long)config->mail.at_most);
}

static void print_summary(const struct ind_config *config)
{
    char text[512];
    printf("store    %s\n", config->store);
    print_mounts(config);
    printf("state    %s\nzone     %s\n", config->state,
           config->zone_text ? config->zone_text : "this machine's");
    for (size_t i = 0; i < config->listener_count; i++)
        printf("listen   %s\n", config->listeners[i].text);
    printf("devices  %zu\n", ind_devices_count(config->devices));
    print_patterns(config);
    if (config->edits.count)
        printf("edits    %zu; see what they do with check --order, and what they would do with rehearse\n",
               config->edits.count);
    for (size_t i = 0; i < config->policy_count; i++) {
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text - 1);
        ind_policy_describe(&config->policies[i], &buffer);
        text[buffer.length] = '\0';
        printf("archive  %s: %s\n", config->policies[i].name, text);
    }
    print_relays(config);
    print_alerts(config);
    printf("\n");
}

/* A condition on one line, cut where it is long. */
static void shorten(const char *when, const char *before, char *text, size_t room)
{
    struct ind_buffer buffer = ind_buffer_on(text, room - 4);
    ind_buffer_text(&buffer, before);
    for (; *when && buffer.length < room - 8; when++)
        ind_buffer_byte(&buffer, *when == '\n' ? ' ' : *when);
    while (buffer.length &&
           (buffer.at[buffer.length - 1] == ' ' || (*when && (buffer.at[buffer.length - 1] & 0x80))))
        buffer.length--; /* no half of a character at the cut */
    snprintf(text + buffer.length, 4, "%s", *when ? "…" : "");
}

static void write_when(const struct ind_route *route, char *text, size_t room)
{
    const char *when = route->when_text ? route->when_text : route->otherwise ? "" : "everything";
    shorten(when, !route->otherwise ? "" : *when ? "otherwise: " : "otherwise", text, room);
}

/* What goes to a relay has the form of the relay. */
static struct ind_slice form_of(const struct ind_config *config, const struct ind_route *route)
{
    switch (config->relays[route->relay_number].form) {
    case IND_PASS_ON_JSON:
        return IND_SLICE("json");
    case IND_PASS_ON_AS_RECEIVED:
        return IND_SLICE("as received");
    default:
        return IND_SLICE("rfc5424");
    }
}

static void print_routes(const struct ind_config *config)
{
    static const struct ind_column columns[] = {{"route", false},  {"when", false},    {"to", false},
                                                {"layout", false}, {"archive", false}, {"last", false}};
    struct ind_table *table = ind_table_new(columns, 6);
    for (size_t i = 0; i < config->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        char to[IND_PATH + 1], when[72], line[72];
        struct ind_buffer buffer = ind_buffer_on(to, sizeof to - 1);
        ind_route_describe(route, &buffer);
        to[buffer.length] = '\0';
        write_when(route, when, sizeof when);
        ind_table_text(table, route->name);
        ind_table_text(table, when);
        ind_table_text(table, to);
        const struct ind_slice layout = route->to == IND_TO_RELAY ? form_of(config, route)
                                        : route->line             ? route->line->source
                                                                  : ind_layout_name(route->layout);
        snprintf(line, sizeof line, "%.*s", IND_ARG(layout));
        ind_table_text(table, line);
        ind_table_text(table, route->to == IND_TO_FILE ? config->policies[route->policy].name : "-");
        ind_table_flag(table, route->last);
    }
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

/* ---- The order in which rules act ---- */

/* A row: what acts, where it is written, on which messages, and what it does. */
static void add_step(struct ind_table *table, size_t *step, const char *rule, const char *at,
                     const char *when, const char *then)
{
    ind_table_number(table, ++*step);
    ind_table_text(table, rule);
    ind_table_text(table, at);
    ind_table_text(table, when);
    ind_table_text(table, then);
}

static void add_allow(struct ind_table *table, size_t *step, const struct ind_config *config)
{
    char when[512] = "from a sender outside ";
    struct ind_buffer buffer = ind_buffer_on(when, sizeof when - 8);
    buffer.length = strlen(when);
    for (size_t i = 0; i < config->allow_count; i++) {
        struct ind_buffer whole = buffer;
        ind_buffer_text(&buffer, i ? ", " : "");
        ind_address_write(&buffer, &config->allow[i].address);
        ind_buffer_byte(&buffer, '/');
        ind_buffer_number(&buffer, config->allow[i].prefix);
        if (buffer.full) {
            buffer = whole;
            break;
        }
    }
    snprintf(when + buffer.length, sizeof when - buffer.length, "%s", buffer.full ? ", …" : "");
    add_step(table, step, "allow", "-", config->allow_count ? when : "from any sender", "refused");
}

/* A rule that stands in a file (`source` NULL: in none). */
static void add_rule(struct ind_table *table, size_t *step, const char *rule, const struct ind_place *place,
                     const char *when, const char *then)
{
    char at[512] = "-";
    if (place->source)
        snprintf(at, sizeof at, "%s:%zu", place->source->path, place->line);
    add_step(table, step, rule, at, when, then);
}

static void add_edit(struct ind_table *table, size_t *step, const struct ind_config *config, size_t i)
{
    const struct ind_edit *edit = &config->edits.list[i];
    char rule[200], when[72], then[400];
    struct ind_buffer buffer = ind_buffer_on(then, sizeof then - 8);
    snprintf(rule, sizeof rule, "edit %s", edit->name);
    shorten(edit->when_text ? edit->when_text : "everything", "", when, sizeof when);
    ind_edit_describe(edit, &buffer);
    snprintf(then + buffer.length, sizeof then - buffer.length, "%s", buffer.full ? "…" : "");
    add_rule(table, step, rule, &config->edit_places[i], when, then);
}

static void add_route(struct ind_table *table, size_t *step, const struct ind_config *config, size_t i)
{
    const struct ind_route *route = &config->routes[i];
    char rule[200], when[72], then[IND_PATH + 80];
    struct ind_buffer buffer = ind_buffer_on(then, sizeof then - 60);
    snprintf(rule, sizeof rule, "route %s", route->name);
    write_when(route, when, sizeof when);
    ind_buffer_text(&buffer, route->to == IND_TO_FILE ? "into " : "to ");
    ind_route_describe(route, &buffer);
    snprintf(then + buffer.length, sizeof then - buffer.length, "%s", route->last ? "; goes no further" : "");
    add_rule(table, step, rule, &config->route_places[i], when, then);
}

static void print_order(const struct ind_config *config, bool json)
{
    static const struct ind_column columns[] = {
        {"step", true}, {"rule", false}, {"at", false}, {"a message that is", false}, {"is then", false}};
    static const struct ind_column keys[] = {
        {"step", true}, {"rule", false}, {"at", false}, {"when", false}, {"then", false}};
    struct ind_table *table = ind_table_new(json ? keys : columns, 5);
    size_t step = 0;
    if (config->allow_given)
        add_allow(table, &step, config);
    add_step(table, &step, "(always)", "-", "empty", "refused");
    for (size_t i = 0; i < config->edits.count; i++)
        add_edit(table, &step, config, i);
    for (size_t i = 0; i < config->route_count; i++)
        if (!config->routes[i].otherwise)
            add_route(table, &step, config, i);
    for (size_t i = 0; i < config->route_count; i++)
        if (config->routes[i].otherwise)
            add_route(table, &step, config, i);
    add_step(table, &step, "(always)", "-", "taken by none of these", "counted as unrouted");
    ind_table_print(table, json, stdout);
    ind_table_free(table);
}

static int print_diagnostics_json(const struct ind_loaded *loaded)
{
    static const struct ind_column columns[] = {
        {"file", false}, {"line", true}, {"column", true}, {"warning", false}, {"text", false}};
    struct ind_table *table = ind_table_new(columns, 5);
    for (size_t i = 0; i < loaded->diagnostics.count; i++) {
        const struct ind_diagnostic *diagnostic = &loaded->diagnostics.list[i];
        ind_table_text(table, diagnostic->source ? diagnostic->source->path : "");
        ind_table_number(table, diagnostic->line);
        ind_table_number(table, diagnostic->column);
        ind_table_flag(table, diagnostic->warning);
        ind_table_text(table, diagnostic->text);
    }
    ind_table_print(table, true, stdout);
    ind_table_free(table);
    return loaded->diagnostics.mistakes == 0 ? IND_EXIT_DONE : IND_EXIT_NO;
}

/* As the user that the collector will be, where we can. */
static void look_around(struct ind_loaded *loaded)
{
    char reason[1400];
    struct ind_identity identity;
    const struct ind_config *config = loaded->config;
    if (!ind_identity_find(config->user, config->groups, config->group_count, &identity, reason,
                           sizeof reason))
        ind_diagnostic_add(&loaded->diagnostics, true, NULL, 0, 0, "%s", reason);
    bool tried = ind_identity_try_on(&identity);
    ind_check_here(loaded, given.here != 0);
    ind_listener_tls_check(config, ind_now(), &loaded->diagnostics);
    ind_trap_rules_check(config, &loaded->diagnostics);
    ind_relay_tls_check(config, ind_now(), &loaded->diagnostics);
    for (size_t i = 0; i < config->policy_count; i++) {
        const struct ind_policy *policy = &config->policies[i];
        if (policy->sign && !ind_sign_key_is_there(policy->sign, reason, sizeof reason))
            ind_diagnostic_add(&loaded->diagnostics, false, policy->sign_source, policy->sign_offset,
                               policy->sign_length, "%s", reason);
    }
    if (tried)
        ind_identity_take_off();
    ind_diagnostics_sort(&loaded->diagnostics);
}

/* ---- Names ---- */

static struct ind_slice route_name(const struct ind_config *config, size_t i)
{
    return i < config->route_count ? ind_slice_of(config->routes[i].name) : IND_NOTHING;
}

static struct ind_slice pattern_name(const struct ind_config *config, size_t i)
{
    return i < ind_patterns_count(config->patterns) ? ind_pattern_name(config->patterns, (uint32_t)i)
                                                    : IND_NOTHING;
}

static struct ind_slice policy_name(const struct ind_config *config, size_t i)
{
    return i < config->policy_count ? ind_slice_of(config->policies[i].name) : IND_NOTHING;
}

static struct ind_slice edit_name(const struct ind_config *config, size_t i)
{
    return i < config->edits.count ? ind_slice_of(config->edits.list[i].name) : IND_NOTHING;
}

static struct ind_slice device_name(const struct ind_config *config, size_t i)
{
    bool there = i < ind_devices_count(config->devices);
    return there ? ind_slice_of(ind_devices_at(config->devices, i)->name) : IND_NOTHING;
}

static const struct named {
    const char *kind;
    struct ind_slice (*name)(const struct ind_config *config, size_t i); /* nothing: there are no more */
} named[] = {{"routes", route_name},
             {"patterns", pattern_name},
             {"policies", policy_name},
             {"edits", edit_name},
             {"devices", device_name}};

/* One a line, for other programs; nothing else is looked at. */
static int print_names(const struct ind_loaded *loaded)
{
    for (size_t i = 0; i < sizeof named / sizeof *named; i++) {
        struct ind_slice name;
        if (strcmp(given.names, named[i].kind) != 0)
            continue;
        for (size_t n = 0; loaded->config && (name = named[i].name(loaded->config, n)).length; n++)
            printf("%.*s\n", IND_ARG(name));
        return loaded->config ? IND_EXIT_DONE : IND_EXIT_NO;
    }
    ind_complain("--names: unknown kind \"%s\"; expected routes, patterns, policies, edits or devices",
                 given.names);
    return IND_EXIT_CALL;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (*call->rest) {
        ind_complain("check takes no arguments; name the configuration with -c %s", *call->rest);
        return IND_EXIT_CALL;
    }
    const char *path = call->config_path ? call->config_path : ind_config_find();
    if (!path) {
        ind_complain("no configuration: neither ./indagator.yaml nor /etc/indagator/indagator.yaml is there; "
                     "name one with "
                     "-c FILE");
        return IND_EXIT_CALL;
    }
    ind_config_load(path, &loaded);
    if (given.names) {
        int named_status = print_names(&loaded);
        if (!loaded.config && named_status == IND_EXIT_NO)
            ind_print_diagnostics(&loaded, false, stderr);
        ind_loaded_free(&loaded);
        return named_status;
    }
    ind_config_compare_patterns(&loaded);
    if (loaded.config)
        look_around(&loaded);
    bool good = loaded.config && loaded.diagnostics.mistakes == 0;
    int status = good ? IND_EXIT_DONE : IND_EXIT_NO;
    if (given.running && good) {
        ind_print_diagnostics(&loaded, true, stderr);
        status = ind_check_running(loaded.config, call->json != 0);
    } else if (given.order && good) {
        ind_print_diagnostics(&loaded, true, stderr);
        print_order(loaded.config, call->json != 0);
    } else if (call->json) {
        status = print_diagnostics_json(&loaded);
    } else {
        ind_print_diagnostics(&loaded, true, stderr);
        if (good) {
            size_t warnings = loaded.diagnostics.count;
            print_summary(loaded.config);
            print_routes(loaded.config);
            printf("\n%s: no mistakes", path);
            printf(warnings ? ", %zu warning%s\n" : "\n", warnings, warnings == 1 ? "" : "s");
        } else {
            printf("%s: %zu mistake%s\n", path, loaded.diagnostics.mistakes,
                   loaded.diagnostics.mistakes == 1 ? "" : "s");
        }
    }
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_check = {
    .name = "check",
    .summary = "reports every mistake in the configuration, with place and remedy",
    .arguments = "[-c FILE] [--order] [--here] [--against-running] [--names KIND] [--json]",
    .about =
        "Reads the configuration as collect does, reports every mistake and every warning, and shows\n"
        "what would act. Touches nothing. Exit code 1 where there is a mistake.\n"
        "With --against-running it asks the running collector for the rules that are in force, and prints\n"
        "what a reload would change: what is new, gone, changed, or in another order, and what needs a\n"
        "restart. Exit code 1 where the reload would be refused.\n\n"
        "Example:\n"
        "  indagator check -c indagator.yaml\n"
        "  indagator check -c indagator.yaml --order\n",
    .options = options,
    .run = run,
};
