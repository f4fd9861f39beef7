#include "simulate/fleet_file.h"

#include "config/load.h"
#include "config/quantity.h"
#include "config/zones.h"
#include "core/message/names.h"
#include <errno.h>
#include <stdlib.h>

struct ind_fleet_file {
    struct ind_fleet fleet;
    struct ind_source *source;
    struct ind_node *tree; /* texts point into it */
    struct ind_zone **zones;
    size_t zone_count;
};

struct reading {
    struct ind_loader loader;
    struct ind_fleet_file *file;
    struct ind_actor *actor;
    struct ind_saying *saying;
};

static struct reading *reading_of(void *into)
{
    return into;
}

static void read_text(struct ind_loader *loader, const struct ind_node *value, const char *what,
                      struct ind_slice *text)
{
    if (ind_expect_text(loader, value, what))
        *text = value->text;
}

static void read_span(struct ind_loader *loader, const struct ind_node *value, ind_time *span)
{
    if (ind_expect_text(loader, value, "a span of time such as 300 ms") && !ind_read_span(value->text, span))
        ind_wrong(loader, value, "\"%.*s\" is not a span of time; " IND_SPAN_HINT, IND_ARG(value->text));
}

static struct ind_zone *keep_zone(struct reading *reading, struct ind_zone *zone)
{
    struct ind_fleet_file *file = reading->file;
    if (zone && ind_grow(&reading->loader, &file->zones, &file->zone_count, sizeof *file->zones))
        return file->zones[file->zone_count - 1] = zone;
    ind_zone_free(zone);
    return NULL;
}

/* One of two words. */
static bool read_choice(struct ind_loader *loader, const struct ind_node *value, const char *no,
                        const char *yes)
{
    if (!ind_expect_text(loader, value, no))
        return false;
    bool chosen = ind_slice_equal(value->text, ind_slice_of(yes));
    if (!chosen && !ind_slice_equal(value->text, ind_slice_of(no)))
        ind_wrong(loader, value, "\"%.*s\": expected %s or %s", IND_ARG(value->text), no, yes);
    return chosen;
}

/* ---- What a device says ---- */

static void say_every(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_span(loader, value, &reading_of(into)->saying->every);
}

static void say_from(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_span(loader, value, &reading_of(into)->saying->from);
}

static void say_until(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_span(loader, value, &reading_of(into)->saying->until);
}

static void say_as(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_saying *saying = reading_of(into)->saying;
    if (!ind_expect_text(loader, value, "a facility and a severity such as local4.warning"))
        return;
    const char *dot = memchr(value->text.at, '.', value->text.length);
    size_t first = dot ? (size_t)(dot - value->text.at) : 0;
    int facility = dot ? ind_facility_read((struct ind_slice){value->text.at, first}) : -1;
    int severity = dot ? ind_severity_read(ind_slice_from(value->text, first + 1)) : -1;
    if (facility < 0 || severity < 0)
        ind_wrong(loader, value, "\"%.*s\" is not a facility and severity; write them as local4.warning",
                  IND_ARG(value->text));
    saying->facility = facility < 0 ? 0 : (unsigned)facility;
    saying->severity = severity < 0 ? 0 : (unsigned)severity;
}

static void say_app(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_text(loader, value, "an app name", &reading_of(into)->saying->app);
}

static void say_procid(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_text(loader, value, "a process id", &reading_of(into)->saying->procid);
}

static void say_msgid(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_text(loader, value, "a message id", &reading_of(into)->saying->msgid);
}

static void say_text(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    enum { LONGEST = 4096 };
    read_text(loader, value, "what is said", &reading_of(into)->saying->text);
    if (value->text.length > LONGEST)
        ind_wrong(loader, value, "a text has %d bytes at most", LONGEST);
}

static void read_says(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"every", say_every}, {"from", say_from}, {"until", say_until},
                                          {"as", say_as},       {"app", say_app},   {"procid", say_procid},
                                          {"msgid", say_msgid}, {"text", say_text}};
    struct reading *reading = into;
    struct ind_actor *actor = reading->actor;
    if (!ind_expect_list(loader, value, "what the device says"))
        return;
    for (size_t i = 0; i < value->part_count; i++) {
        if (!ind_grow(loader, &actor->says, &actor->says_count, sizeof *actor->says))
            return;
        reading->saying = &actor->says[actor->says_count - 1];
        *reading->saying = (struct ind_saying){
            .until = INT64_MAX, .facility = IND_FACILITY_USER, .severity = IND_SEVERITY_NOTICE};
        size_t mistakes = loader->diagnostics->mistakes;
        (void)ind_read_map(loader, value->parts[i], keys, sizeof keys / sizeof *keys, reading);
        if (!reading->saying->text.length && loader->diagnostics->mistakes == mistakes)
            ind_wrong(loader, value->parts[i], "something said without a text; add \"text: …\"");
    }
}

/* ---- Devices ---- */

static void actor_name(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_actor *actor = reading_of(into)->actor;
    read_text(loader, value, "the device's name", &actor->name);
}

static void actor_from(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_address address;
    read_text(loader, value, "an address of this machine", &reading_of(into)->actor->from);
    if (value->kind == IND_NODE_SCALAR && !ind_address_read(value->text, &address))
        ind_wrong(loader, value, "\"%.*s\" is not an address; write one such as 127.0.2.9",
                  IND_ARG(value->text));
}

static void actor_host(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_text(loader, value, "the name by which the device calls itself, or none",
              &reading_of(into)->actor->host);
}

static void actor_form(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_actor *actor = reading_of(into)->actor;
    actor->traps = value->kind == IND_NODE_SCALAR && ind_slice_equal(value->text, IND_SLICE("trap"));
    actor->old_form = !actor->traps && read_choice(loader, value, "rfc5424", "rfc3164");
}

static void actor_transport(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    reading_of(into)->actor->transport =
        read_choice(loader, value, "udp", "tcp") ? IND_FLEET_TCP : IND_FLEET_UDP;
}

static void actor_framing(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    reading_of(into)->actor->lines = read_choice(loader, value, "count", "lines");
}

static void actor_zone(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct reading *reading = into;
    reading->actor->zone = keep_zone(reading, ind_read_zone(loader, value));
}

/* "5 h behind", "3 min ahead", "never set". */
static void actor_clock(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_actor *actor = reading_of(into)->actor;
    if (!ind_expect_text(loader, value, "a clock such as \"5 h behind\""))
        return;
    struct ind_slice text = value->text, behind = IND_SLICE(" behind"), ahead = IND_SLICE(" ahead");
    if (ind_slice_equal(text, IND_SLICE("never set"))) {
        actor->clock = IND_CLOCK_NEVER_SET;
        return;
    }
    bool is_behind = text.length > behind.length &&
                     ind_slice_equal(ind_slice_from(text, text.length - behind.length), behind);
    bool is_ahead = text.length > ahead.length &&
                    ind_slice_equal(ind_slice_from(text, text.length - ahead.length), ahead);
    text.length -= is_behind ? behind.length : is_ahead ? ahead.length : 0;
    actor->clock = IND_CLOCK_OFF;
    if (!(is_behind || is_ahead) || !ind_read_span(text, &actor->clock_off))
        ind_wrong(loader, value,
                  "\"%.*s\" is not a clock; write one such as \"5 h behind\", \"3 min ahead\" or "
                  "\"never set\"",
                  IND_ARG(value->text));
    if (is_behind)
        actor->clock_off = -actor->clock_off;
}

static void read_lasts(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_span(loader, value, &reading_of(into)->file->fleet.lasts);
}

static void read_devices(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {
        {"name", actor_name}, {"from", actor_from},           {"host", actor_host},
        {"form", actor_form}, {"transport", actor_transport}, {"framing", actor_framing},
        {"zone", actor_zone}, {"clock", actor_clock},         {"says", read_says}};
    struct reading *reading = into;
    struct ind_fleet *fleet = &reading->file->fleet;
    if (!ind_expect_list(loader, value, "devices"))
        return;
    for (size_t i = 0; i < value->part_count; i++) {
        if (!ind_grow(loader, &fleet->actors, &fleet->actor_count, sizeof *fleet->actors))
            return;
        reading->actor = &fleet->actors[fleet->actor_count - 1];
        (void)ind_read_map(loader, value->parts[i], keys, sizeof keys / sizeof *keys, reading);
        if (!reading->actor->name.length)
            ind_wrong(loader, value->parts[i], "a device without a name; add \"name: …\"");
        if (!reading->actor->host.length)
            reading->actor->host = reading->actor->name;
        else if (ind_slice_equal(reading->actor->host, IND_SLICE("none")))
            reading->actor->host = IND_NOTHING;
        if (!reading->actor->zone)
            reading->actor->zone = keep_zone(reading, ind_zone_of_machine());
    }
}

bool ind_fleet_read(const char *path, struct ind_fleet_file **file, struct ind_diagnostics *diagnostics)
{
    static const struct ind_key keys[] = {{"lasts", read_lasts}, {"devices", read_devices}};
    struct ind_loaded loaded = {0};
    struct reading reading = {.loader = {.loaded = &loaded, .diagnostics = diagnostics}};
    *file = reading.file = calloc(1, sizeof **file);
    if (!*file) {
        ind_diagnostic_add(diagnostics, false, NULL, 0, 0, "out of memory");
        return false;
    }
    reading.file->fleet.lasts = 10 * IND_SECOND;
    reading.file->source = ind_source_read(path);
    if (!reading.file->source) {
        ind_diagnostic_add(diagnostics, false, NULL, 0, 0, "cannot read \"%s\": %s", path, strerror(errno));
        return false;
    }
    reading.file->tree = ind_tree_read(reading.file->source, diagnostics);
    if (reading.file->tree && ind_read_map(&reading.loader, reading.file->tree, keys, 2, &reading) &&
        reading.file->fleet.actor_count == 0)
        ind_wrong(&reading.loader, reading.file->tree, "a fleet without devices; add \"devices:\"");
    ind_diagnostics_sort(diagnostics);
    return diagnostics->mistakes == 0 && reading.file->tree;
}

void ind_fleet_free(struct ind_fleet_file *file)
{
    if (!file)
        return;
    for (size_t i = 0; i < file->fleet.actor_count; i++)
        free(file->fleet.actors[i].says);
    free(file->fleet.actors);
    for (size_t i = 0; i < file->zone_count; i++)
        ind_zone_free(file->zones[i]);
    free(file->zones);
    ind_tree_free(file->tree);
    ind_source_free(file->source);
    free(file);
}

struct ind_fleet *ind_fleet_of(struct ind_fleet_file *file)
{
    return &file->fleet;
}
