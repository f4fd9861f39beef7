/* What the options of a search come to. */
#include "cli/search_call.h"

#include "collect/runtime/clock.h"
#include "config/quantity.h"
#include "config/zones.h"
#include <stdlib.h>

/* ---- Fields ---- */

/* The field that a name most likely means; NULL where it is like none. */
static const char *field_near(struct ind_slice name)
{
    const char *names[IND_BY_END];
    struct ind_search_by by;
    size_t count = 0;
    for (unsigned i = 0; i < IND_BY_END; i++)
        if (ind_search_by_name(i).length && ind_search_by_read(ind_search_by_name(i), &by))
            names[count++] = ind_search_by_name(i).at;
    return ind_near(name, names, count);
}

static void complain_of_field(const char *option, struct ind_slice name)
{
    const char *near = field_near(name);
    if (near)
        ind_complain(
            "--%s: unknown field \"%.*s\"; did you mean \"%s\"? A field of the text is \"field %.*s\"",
            option, IND_ARG(name), near, IND_ARG(name));
    else
        ind_complain("--%s: unknown field \"%.*s\"", option, IND_ARG(name));
}

/* A name that is no other field is one of the text, unless it is nearly one. */
static bool is_field_of_text(struct ind_slice name)
{
    struct ind_search_by by;
    for (size_t i = 0; i < name.length; i++)
        if (!ind_is_alpha(name.at[i]) && !ind_is_digit(name.at[i]) && !strchr("_-./", name.at[i]))
            return false;
    const char *slash = name.length ? memchr(name.at, '/', name.length) : NULL;
    const struct ind_slice bare = {name.at, slash ? (size_t)(slash - name.at) : name.length};
    return bare.length > 0 && !field_near(bare) && ind_field_read(bare) < 0 && !ind_search_by_read(bare, &by);
}

/* As "field NAME", which the field then borrows from. */
static bool read_field_of_text(struct ind_search_read *read, struct ind_slice name, struct ind_search_by *by)
{
    static const char word[] = "field ";
    const size_t room = name.length + sizeof word;
    char *text = read->kept_count < IND_SEARCH_KEPT ? malloc(room) : NULL;
    if (!text)
        return false;
    read->kept[read->kept_count++] = text;
    snprintf(text, room, "%s%.*s", word, IND_ARG(name));
    if (!ind_search_by_read(ind_slice_of(text), by))
        return false;
    by->text = ind_slice_from(by->text, sizeof word - 1);
    return true;
}

static bool read_field(struct ind_search_read *read, const char *option, struct ind_slice name, bool column,
                       struct ind_search_by *by)
{
    if ((column ? ind_search_column_read(name, by) : ind_search_by_read(name, by)) ||
        (is_field_of_text(name) && read_field_of_text(read, name, by)))
        return true;
    complain_of_field(option, name);
    return false;
}

/* Names with commas between. */
static bool read_fields(struct ind_search_read *read, const char *option, char *text, bool column,
                        struct ind_search_by *list, size_t room, size_t *count)
{
    for (char *rest = text; rest && *rest;) {
        const size_t length = strcspn(rest, ",");
        struct ind_slice name = {rest, length};
        while (name.length && name.at[0] == ' ')
            name = ind_slice_from(name, 1);
        while (name.length && name.at[name.length - 1] == ' ')
            name.length--;
        if (*count == room) {
            ind_complain("--%s takes at most %zu fields", option, room);
            return false;
        }
        if (!read_field(read, option, name, column, &list[*count]))
            return false;
        ++*count;
        rest += length + (rest[length] == ',');
    }
    return true;
}

static bool read_one_field(struct ind_search_read *read, const char *option, const char *text,
                           struct ind_search_by *by)
{
    *by = (struct ind_search_by){.what = IND_BY_NOTHING};
    if (!text)
        return true;
    if (!read_field(read, option, ind_slice_of(text), false, by))
        return false;
    if (!ind_search_by_is_time(by))
        return true;
    ind_complain("--%s: \"%s\" is a time; name a field", option, text);
    return false;
}

static bool read_order(const struct ind_search_options *options, struct ind_search_settings *settings)
{
    static const char *const names[] = {[IND_BY_COUNT] = "count",
                                        [IND_BY_NAME] = "name",
                                        [IND_BY_SUM] = "sum",
                                        [IND_BY_DISTINCT] = "distinct"};
    for (int i = IND_BY_COUNT; options->sort && i <= IND_BY_DISTINCT; i++)
        if (strcmp(options->sort, names[i]) == 0) {
            settings->order = (enum ind_search_order)i;
            if ((i == IND_BY_SUM && !options->sum) || (i == IND_BY_DISTINCT && !options->distinct)) {
                ind_complain("--sort %s goes with --%s", names[i], names[i]);
                return false;
            }
            return true;
        }
    if (options->sort)
        ind_complain("--sort: unknown order \"%s\"; expected count, name, sum or distinct", options->sort);
    return !options->sort;
}

static bool read_every(const struct ind_search_options *options, struct ind_search_settings *settings)
{
    if (!options->every)
        return true;
    struct ind_search_by *by = &settings->by[settings->by_count++];
    *by = (struct ind_search_by){.what = IND_BY_EVERY, .text = IND_SLICE("from")};
    if (ind_every_read(ind_slice_of(options->every), &by->every))
        return true;
    ind_complain("--every: \"%s\" is no step of time; write hour, day, week, month, or one that a day is a "
                 "multiple of, such as \"5 min\"",
                 options->every);
    return false;
}

static bool read_groups(struct ind_search_options *options, struct ind_search_read *read)
{
    struct ind_search_settings *settings = &read->settings;
    settings->count_only = options->count != 0;
    settings->top = ind_is_given(options->top) ? (size_t)options->top : 0;
    if (!read_every(options, settings) ||
        !read_fields(read, "by", options->by, false, settings->by, IND_SEARCH_FIELDS, &settings->by_count) ||
        !read_one_field(read, "sum", options->sum, &settings->sum) ||
        !read_one_field(read, "distinct", options->distinct, &settings->distinct) ||
        !read_order(options, settings))
        return false;
    read->factor = 2;
    char *end = NULL;
    if (options->factor && (!((read->factor = strtod(options->factor, &end)) >= 1) || *end)) {
        ind_complain("--factor: a number from 1 on");
        return false;
    }
    return true;
}

/* ---- Lines ---- */

/* Backslash t and backslash n become what they stand for, two backslashes one; in place. */
static void undo_escapes(char *text)
{
    char *to = text;
    for (; *text; text++) {
        const char *found = *text == '\\' && text[1] ? strchr("tn\\", text[1]) : NULL;
        *to++ = found ? "\t\n\\"[found - "tn\\"] : *text;
        text += found != NULL;
    }
    *to = '\0';
}

static bool read_layout(struct ind_search_options *options, struct ind_search_read *read)
{
    struct ind_search_settings *settings = &read->settings;
    struct ind_mistake mistake = {0};
    settings->layout = options->json ? IND_LAYOUT_JSON : IND_LAYOUT_PLAIN;
    if (!options->layout)
        return true;
    int layout = ind_layout_read(ind_slice_of(options->layout));
    if (layout >= 0) {
        settings->layout = (enum ind_layout)layout;
        return true;
    }
    if (!strchr(options->layout, '{')) {
        ind_complain(
            "--layout: unknown layout \"%s\"; expected plain, json, rfc5424, raw, or a template such as "
            "\"{time} {device} {text}\"",
            options->layout);
        return false;
    }
    undo_escapes(options->layout);
    settings->line = &read->template;
    if (!ind_template_read(ind_slice_of(options->layout), IND_TEMPLATE_LINE, &read->template, &mistake))
        ind_complain("--layout: %s", mistake.text);
    return !mistake.made;
}

static bool read_columns(struct ind_search_options *options, struct ind_search_read *read)
{
    static char usual[] = "time,device,facility,severity,app,procid,msgid,text";
    struct ind_search_settings *settings = &read->settings;
    char *columns = options->columns                                               ? options->columns
                    : options->csv && !settings->by_count && !settings->count_only ? usual
                                                                                   : NULL;
    settings->columns = read->columns;
    settings->column_form = options->csv    ? IND_COLUMNS_CSV
                            : options->json ? IND_COLUMNS_JSON
                                            : IND_COLUMNS_TABS;
    return read_fields(read, "columns", columns, true, read->columns, IND_SEARCH_COLUMNS,
                       &settings->column_count);
}

/* ---- Times ---- */

/* --zone; without it what the configuration says. */
static bool read_zone(const struct ind_search_options *options, const struct ind_config *config,
                      struct ind_search_read *read)
{
    struct ind_search_settings *settings = &read->settings;
    settings->zone = config->zone;
    settings->times = config->times;
    if (!options->zone)
        return true;
    if (!ind_zone_option(options->zone, &read->zone))
        return false;
    settings->zone = read->zone;
    settings->times = strcmp(options->zone, "UTC") == 0 ? NULL : read->zone;
    settings->as_stored = false;
    return true;
}

/* An empty span would look like nothing found. */
static bool is_span(ind_time since, ind_time until, const char *from, const char *to)
{
    if (since == IND_TIME_NONE || until == IND_TIME_NONE || since < until)
        return true;
    ind_complain("--since %s is not before --until %s: no message can be found", from, to);
    return false;
}

static bool read_around(const struct ind_search_options *options, struct ind_search_settings *settings)
{
    int64_t within = 60 * IND_SECOND;
    ind_time at;
    if (options->within && !ind_read_span(ind_slice_of(options->within), &within)) {
        ind_complain("--within: \"%s\" is not a span; %s", options->within, IND_SPAN_HINT);
        return false;
    }
    if (!ind_moment_option("around", options->around, settings->zone, false, &at))
        return false;
    settings->since = at - within;
    settings->until = at + within + 1; /* a message at its very end is within it */
    return true;
}

/* "A..B": either may be left out. */
static bool read_against(const struct ind_search_options *options, struct ind_search_read *read)
{
    read->against_since = read->against_until = IND_TIME_NONE;
    if (!options->against)
        return true;
    char *from = strdup(options->against);
    char *dots = from ? strstr(from, "..") : NULL;
    if (!dots) {
        ind_complain("--against: \"%s\" is no span; write two times with .. between them, such as "
                     "2026-11-16..2026-11-22",
                     options->against);
        free(from);
        return false;
    }
    *dots = '\0';
    const struct ind_zone *zone = read->settings.zone;
    const bool good =
        ind_moment_option("against", *from ? from : NULL, zone, false, &read->against_since) &&
        ind_moment_option("against", dots[2] ? dots + 2 : NULL, zone, true, &read->against_until) &&
        is_span(read->against_since, read->against_until, from, dots + 2);
    free(from);
    return good;
}

static bool read_span(const struct ind_search_options *options, struct ind_search_read *read)
{
    struct ind_search_settings *settings = &read->settings;
    settings->by_sent = options->sent != 0;
    if (options->around)
        return read_around(options, settings);
    return ind_moment_option("since", options->since, settings->zone, false, &settings->since) &&
           ind_moment_option("until", options->until, settings->zone, true, &settings->until) &&
           is_span(settings->since, settings->until, options->since, options->until) &&
           read_against(options, read);
}

/* ---- All ---- */

bool ind_search_options_read(struct ind_search_options *options, const struct ind_config *config,
                             struct ind_search_read *read)
{
    *read = (struct ind_search_read){.settings = {.config = config,
                                                  .now = ind_now(),
                                                  .as_stored = true,
                                                  .since = IND_TIME_NONE,
                                                  .until = IND_TIME_NONE,
                                                  .temporary = ind_temporary_folder(),
                                                  .report = ind_complain_text,
                                                  .progress = ind_progress_of}};
    struct ind_search_settings *settings = &read->settings;
    settings->reverse = options->reverse != 0;
    settings->context_lines = ind_is_given(options->context) ? (size_t)options->context : 0;
    return read_zone(options, config, read) && read_span(options, read) &&
           ind_condition_option(config, options->when, &settings->conditions, &settings->when) &&
           read_groups(options, read) && read_layout(options, read) && read_columns(options, read);
}

void ind_search_read_free(struct ind_search_read *read)
{
    ind_conditions_free(read->settings.conditions);
    ind_zone_free(read->zone);
    for (size_t i = 0; i < read->kept_count; i++)
        free(read->kept[i]);
}
