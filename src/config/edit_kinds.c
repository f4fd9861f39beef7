/* config/edit_kinds.c: what each kind of edit does, read and described. */
#include "config/edit_private.h"
#include "config/quantity.h"
#include "config/zones.h"
#include "core/message/names.h"

#include <stdlib.h>

const char *const ind_edit_kind_names[IND_EDIT_KINDS] = {"mask", "label", "drop",   "set",  "forget",
                                                         "time", "thin",  "repeat", "limit"};

/* ---- mask ---- */

static void add_regex(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    struct ind_mistake mistake = {0};
    size_t count = 0;
    struct ind_regex *regex = NULL;
    if (!ind_expect_text(loader, value, "a regular expression"))
        return;
    if (!ind_mask_regex_read(value->text, &regex, &mistake)) {
        ind_regex_free(regex);
        ind_wrong_inside(loader, value, &mistake, false);
        return;
    }
    while (edit->regexes && edit->regexes[count])
        count++;
    struct ind_regex **grown = realloc(edit->regexes, (count + 2) * sizeof *grown);
    if (!grown) {
        ind_regex_free(regex);
        ind_no_memory(loader);
        return;
    }
    edit->regexes = grown;
    grown[count] = regex;
    grown[count + 1] = NULL;
}

static void read_matches(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    add_regex(loader, value, into);
}

static void mask_kind(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    static const struct ind_key keys[] = {{"matches", read_matches}};
    const char *names[IND_MASK_KINDS];
    if (value->kind == IND_NODE_MAP) {
        ind_read_map(loader, value, keys, 1, edit);
        return;
    }
    if (!ind_expect_text(loader, value, "a kind such as phone, or {matches: 'REGEX'}"))
        return;
    unsigned kind = ind_mask_kind_read(value->text);
    edit->kinds |= kind;
    if (kind)
        return;
    for (unsigned i = 0; i < IND_MASK_KINDS; i++)
        names[i] = ind_mask_kind_name(i);
    const char *near = ind_near(value->text, names, IND_MASK_KINDS);
    ind_wrong(loader, value, "unknown kind \"%.*s\"; %s%s%s", IND_ARG(value->text),
              near ? "did you mean \""
                   : "expected phone, email, ipv4, ipv6, mac, card, secret, or {matches: 'REGEX'}",
              near ? near : "", near ? "\"?" : "");
}

static void load_mask(struct ind_loader *loader, const struct ind_node *value, struct ind_edit_text *text)
{
    struct ind_edit *edit = text->edit;
    edit->stars = !text->with;
    if (value->kind != IND_NODE_LIST)
        mask_kind(loader, value, edit);
    for (size_t i = 0; value->kind == IND_NODE_LIST && i < value->part_count; i++)
        mask_kind(loader, value->parts[i], edit);
    if (value->kind == IND_NODE_LIST && value->part_count == 0)
        ind_wrong(loader, value, "what is to be masked? name one or more kinds, such as [phone, email]");
    if (text->with && ind_expect_text(loader, text->with, "the text to put there")) {
        const char *kept = ind_keep(loader, text->with->text);
        edit->with = (struct ind_slice){kept, text->with->text.length};
    }
}

static void add_place(struct ind_loader *loader, const struct ind_node *value, unsigned *places)
{
    if (!ind_expect_text(loader, value, "text, data, app, procid, msgid or host"))
        return;
    for (unsigned i = 0; i < IND_IN_TEXTS; i++)
        if (ind_slice_equal(value->text, ind_slice_of(ind_place_name(i)))) {
            *places |= 1u << i;
            return;
        }
    ind_wrong(loader, value, "unknown \"%.*s\"; masks look in text, data, app, procid, msgid and host",
              IND_ARG(value->text));
}

void ind_load_edit_places(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    if (value->kind != IND_NODE_LIST)
        add_place(loader, value, &edit->places);
    for (size_t i = 0; value->kind == IND_NODE_LIST && i < value->part_count; i++)
        add_place(loader, value->parts[i], &edit->places);
}

/* ---- label, set, forget ---- */

static const struct ind_template *read_value(struct ind_loader *loader, const struct ind_node *value)
{
    struct ind_mistake mistake = {0};
    if (!ind_expect_text(loader, value, "a text, which may hold placeholders such as {app}"))
        return NULL;
    char *kept = ind_keep(loader, value->text);
    struct ind_template *template = ind_keep_room(loader, sizeof *template);
    if (!kept || !template)
        return NULL;
    if (!ind_template_read((struct ind_slice){kept, value->text.length}, IND_TEMPLATE_LINE, template,
                           &mistake))
        ind_wrong_inside(loader, value, &mistake, false);
    return template;
}

/* "field NAME", "label NAME": the name; empty where it is none such. */
static struct ind_slice named(struct ind_loader *loader, struct ind_slice text, struct ind_slice word)
{
    if (!ind_slice_starts(text, word) || text.length == word.length)
        return IND_NOTHING;
    struct ind_slice name = ind_slice_from(text, word.length);
    return (struct ind_slice){ind_keep(loader, name), name.length};
}

static bool is_pri(const struct ind_change_text *change)
{
    return change->in == IND_IN_FACILITY || change->in == IND_IN_SEVERITY;
}

/* A facility or severity written out must be one. */
static void check_pri(struct ind_loader *loader, const struct ind_node *value,
                      const struct ind_change_text *change)
{
    const struct ind_template *template = change->template;
    if (!is_pri(change) || !template || template->count != 1 || template->parts[0].put != IND_PUT_LITERAL)
        return;
    bool facility = change->in == IND_IN_FACILITY;
    struct ind_slice near = facility ? ind_facility_near(value->text) : ind_severity_near(value->text);
    if ((facility ? ind_facility_read(value->text) : ind_severity_read(value->text)) < 0)
        ind_wrong(loader, value, "unknown %s \"%.*s\"%s%.*s%s", facility ? "facility" : "severity",
                  IND_ARG(value->text), near.length ? "; did you mean \"" : "", IND_ARG(near),
                  near.length ? "\"?" : "");
}

static bool read_place(struct ind_loader *loader, const struct ind_node *key, bool forget,
                       struct ind_change_text *change)
{
    static const enum ind_place_in_message to_set[] = {IND_IN_TEXT, IND_IN_HOST, IND_IN_APP, IND_IN_FACILITY,
                                                       IND_IN_SEVERITY};
    static const enum ind_place_in_message to_forget[] = {IND_IN_DATA, IND_IN_HOST, IND_IN_APP, IND_IN_PROCID,
                                                          IND_IN_MSGID};
    const enum ind_place_in_message *places = forget ? to_forget : to_set;
    change->in = IND_IN_FIELD;
    change->name = named(loader, key->text, IND_SLICE("field "));
    if (change->name.length)
        return true;
    for (size_t i = 0; i < 5; i++)
        if (ind_slice_equal(key->text, ind_slice_of(ind_place_name(places[i])))) {
            change->in = places[i];
            return true;
        }
    change->in = IND_IN_DATA;
    change->name = forget ? named(loader, key->text, IND_SLICE("data ")) : IND_NOTHING;
    if (change->name.length == 0)
        return false;
    const char *blank = memchr(change->name.at, ' ', change->name.length);
    if (blank) {
        change->param = ind_slice_from(change->name, (size_t)(blank - change->name.at) + 1);
        change->name.length = (size_t)(blank - change->name.at);
    }
    return true;
}

static void keep_changes(struct ind_loader *loader, struct ind_edit *edit,
                         const struct ind_change_text *changes)
{
    struct ind_change_text *kept =
        edit->change_count ? ind_keep_room(loader, edit->change_count * sizeof *kept) : NULL;
    if (kept)
        memcpy(kept, changes, edit->change_count * sizeof *kept);
    edit->changes = kept;
    edit->change_count = kept ? edit->change_count : 0;
}

enum { MOST_CHANGES = 64 };

static void load_set(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    struct ind_change_text changes[MOST_CHANGES] = {{0}};
    bool label = edit->kind == IND_EDIT_LABEL;
    if (value->kind != IND_NODE_MAP || value->part_count == 0 || value->part_count > 2 * MOST_CHANGES) {
        ind_wrong(loader, value, "expected %s, at most %d",
                  label ? "labels and their values, such as {site: harbour}"
                        : "what is set and to what, such as {severity: info}",
                  MOST_CHANGES);
        return;
    }
    for (size_t i = 0; i + 1 < value->part_count; i += 2) {
        const struct ind_node *key = value->parts[i], *to = value->parts[i + 1];
        struct ind_change_text *change = &changes[edit->change_count];
        if (label) {
            change->in = IND_IN_LABEL;
            change->name = (struct ind_slice){ind_keep(loader, key->text), key->text.length};
        } else if (!read_place(loader, key, false, change)) {
            ind_wrong(loader, key,
                      "\"%.*s\" cannot be set; text, host, app, severity, facility and \"field NAME\" can; "
                      "labels have an edit of their own: label: {NAME: VALUE}",
                      IND_ARG(key->text));
            continue;
        }
        change->template = read_value(loader, to);
        check_pri(loader, to, change);
        edit->change_count++;
    }
    keep_changes(loader, edit, changes);
}

static void load_forget(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    struct ind_change_text changes[MOST_CHANGES] = {{0}};
    bool list = value->kind == IND_NODE_LIST;
    size_t count = list ? value->part_count : 1;
    if (value->kind == IND_NODE_MAP || count == 0 || count > MOST_CHANGES) {
        ind_wrong(loader, value, "expected what is forgotten, such as [\"field user\", data]; at most %d",
                  MOST_CHANGES);
        return;
    }
    for (size_t i = 0; i < count; i++) {
        const struct ind_node *what = list ? value->parts[i] : value;
        if (!ind_expect_text(loader, what, "what is forgotten"))
            continue;
        if (read_place(loader, what, true, &changes[edit->change_count]))
            edit->change_count++;
        else
            ind_wrong(loader, what,
                      "\"%.*s\" cannot be forgotten; \"field NAME\", data, \"data ID\", \"data ID PARAM\", "
                      "host, app, procid and msgid can; a part of the text is hidden with mask:",
                      IND_ARG(what->text));
    }
    keep_changes(loader, edit, changes);
}

/* ---- time ---- */

struct time_text {
    const struct ind_node *zone, *from;
};
IND_KEEP_NODE(time_text, zone)
IND_KEEP_NODE(time_text, from)

static void load_time(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    static const struct ind_key keys[] = {{"zone", keep_zone}, {"from", keep_from}};
    struct time_text text = {NULL, NULL};
    struct ind_config *config = loader->config;
    if (value->kind != IND_NODE_MAP || value->part_count == 0) {
        ind_wrong(loader, value,
                  "expected {zone: Atlantic/Faroe} (of times that name none), or {from: field NAME}");
        return;
    }
    if (!ind_read_map(loader, value, keys, 2, &text))
        return;
    if (text.from && ind_expect_text(loader, text.from, "field NAME")) {
        edit->field = named(loader, text.from->text, IND_SLICE("field "));
        if (edit->field.length == 0)
            ind_wrong(loader, text.from, "which field holds the time? write: from: field NAME");
    }
    struct ind_zone *zone = text.zone ? ind_read_zone(loader, text.zone) : NULL;
    if (!zone)
        return;
    struct ind_zone **zones =
        realloc(config->device_zones, (config->device_zone_count + 1) * sizeof *config->device_zones);
    if (!zones) {
        ind_zone_free(zone);
        ind_no_memory(loader);
        return;
    }
    config->device_zones = zones;
    zones[config->device_zone_count++] = zone;
    edit->zone = zone;
}

/* ---- Those that remember ---- */

static void load_thin(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    const struct ind_slice start = IND_SLICE("one in ");
    if (!ind_expect_text(loader, value, "how many are kept, such as \"one in 10\""))
        return;
    if (!ind_slice_starts(value->text, start) ||
        !ind_read_count(ind_slice_from(value->text, start.length), 2, 1000000000, &edit->number))
        ind_wrong(loader, value,
                  "\"%.*s\" does not say how many are kept; write one such as: thin: one in 10",
                  IND_ARG(value->text));
}

static void load_repeat(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    int64_t span;
    if (!ind_expect_text(loader, value, "a span of time such as 30s"))
        return;
    if (!ind_read_span(value->text, &span) || span < IND_SECOND || span > 86400 * IND_SECOND)
        ind_wrong(loader, value, "\"%.*s\" is not a span from one second to one day; " IND_SPAN_HINT,
                  IND_ARG(value->text));
    else
        edit->span = span;
}

static void load_limit(struct ind_loader *loader, const struct ind_node *value, struct ind_edit *edit)
{
    static const struct {
        const char *text;
        int seconds;
    } units[] = {{" a second", 1}, {" a minute", 60}, {" an hour", 3600}, {" a day", 86400}};
    if (!ind_expect_text(loader, value, "how many, such as \"200 a second\""))
        return;
    for (size_t i = 0; i < sizeof units / sizeof *units; i++) {
        struct ind_slice unit = ind_slice_of(units[i].text), number = value->text;
        if (number.length <= unit.length)
            continue;
        number.length -= unit.length;
        if (ind_slice_equal(ind_slice_from(value->text, number.length), unit) &&
            ind_read_count(number, 1, 1000000000, &edit->number))
            edit->span = units[i].seconds * IND_SECOND;
    }
    if (edit->span == 0)
        ind_wrong(loader, value,
                  "\"%.*s\" is no limit; write one such as 200 a second, 1000 a minute, 5000 an hour or "
                  "100000 a day",
                  IND_ARG(value->text));
}

static void load_drop(struct ind_loader *loader, const struct ind_node *value)
{
    bool yes = true;
    if (ind_read_yes(loader, value, &yes) && !yes)
        ind_wrong(loader, value, "an edit that drops nothing does nothing; leave it out");
}

void ind_load_edit_kind(struct ind_loader *loader, struct ind_edit_text *text, const struct ind_node *value)
{
    struct ind_edit *edit = text->edit;
    switch (edit->kind) {
    case IND_EDIT_MASK:
        load_mask(loader, value, text);
        return;
    case IND_EDIT_LABEL:
    case IND_EDIT_SET:
        load_set(loader, value, edit);
        return;
    case IND_EDIT_FORGET:
        load_forget(loader, value, edit);
        return;
    case IND_EDIT_TIME:
        load_time(loader, value, edit);
        return;
    case IND_EDIT_THIN:
        load_thin(loader, value, edit);
        return;
    case IND_EDIT_REPEAT:
        load_repeat(loader, value, edit);
        return;
    case IND_EDIT_LIMIT:
        load_limit(loader, value, edit);
        return;
    default:
        load_drop(loader, value);
    }
}

/* ---- For people ---- */

static void describe_changes(const struct ind_edit *edit, struct ind_buffer *buffer)
{
    for (size_t i = 0; i < edit->change_count; i++) {
        const struct ind_change_text *change = &edit->changes[i];
        ind_buffer_text(buffer, i ? ", " : " ");
        if (change->in != IND_IN_LABEL)
            ind_buffer_text(buffer, ind_place_name(change->in));
        if (change->name.length && change->in != IND_IN_LABEL)
            ind_buffer_byte(buffer, ' ');
        ind_buffer_slice(buffer, change->name);
        if (change->param.length) {
            ind_buffer_byte(buffer, ' ');
            ind_buffer_slice(buffer, change->param);
        }
        if (!change->template)
            continue;
        ind_buffer_text(buffer, " = \"");
        ind_buffer_slice(buffer, change->template->source);
        ind_buffer_byte(buffer, '"');
    }
}

static void describe_mask(const struct ind_edit *edit, struct ind_buffer *buffer)
{
    const char *between = " ";
    for (unsigned i = 0; i < IND_MASK_KINDS; i++)
        if (edit->kinds >> i & 1) {
            ind_buffer_text(buffer, between);
            ind_buffer_text(buffer, ind_mask_kind_name(i));
            between = ", ";
        }
    if (edit->regexes)
        ind_buffer_text(buffer, edit->kinds ? " and what matches" : " what matches");
    if (edit->stars)
        return;
    ind_buffer_text(buffer, " with \"");
    ind_buffer_slice(buffer, edit->with);
    ind_buffer_byte(buffer, '"');
}

void ind_edit_describe(const struct ind_edit *edit, struct ind_buffer *buffer)
{
    const int64_t seconds = edit->span / IND_SECOND;
    ind_buffer_text(buffer, ind_edit_kind_names[edit->kind]);
    switch (edit->kind) {
    case IND_EDIT_MASK:
        describe_mask(edit, buffer);
        break;
    case IND_EDIT_TIME:
        ind_buffer_text(buffer, edit->field.length ? " from field " : " read in another zone");
        ind_buffer_slice(buffer, edit->field);
        break;
    case IND_EDIT_THIN:
        ind_buffer_text(buffer, " one in ");
        ind_buffer_number(buffer, edit->number);
        break;
    case IND_EDIT_REPEAT:
        ind_buffer_text(buffer, "s of a text within ");
        ind_span_write_short(buffer, seconds);
        ind_buffer_text(buffer, " are reported once");
        break;
    case IND_EDIT_LIMIT:
        ind_buffer_text(buffer, " to ");
        ind_buffer_number(buffer, edit->number);
        ind_buffer_text(buffer, ind_limit_unit(edit->span));
        break;
    default:
        describe_changes(edit, buffer);
    }
}
