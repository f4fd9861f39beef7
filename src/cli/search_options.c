#include "cli/search_call.h"

#include "collect/runtime/clock.h"
#include "config/quantity.h"
#include "config/zones.h"
#include <stdlib.h>

enum { MOST_LAST = 1000000, MOST_CONTEXT = 1000 };

static struct ind_search_options given = {
    .top = IND_NOT_GIVEN, .first = IND_NOT_GIVEN, .last = IND_NOT_GIVEN, .context = IND_NOT_GIVEN};

struct ind_search_options *ind_search_options(void)
{
    return &given;
}

struct poptOption *ind_search_option_table(void)
{
    static struct poptOption table[] = {
        {"when", '\0', POPT_ARG_STRING, &given.when, 0,
         "only messages for which this holds (docs/conditions.md)", "CONDITION"},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0,
         "from this time on: 2026-11-23, 2026-11-23T04:45, 22:00 (the last one), today, \"yesterday 08:00\", "
         "mon "
         "(the last one), now, or an age such as 24h, 1h30m or 30d",
         "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "before this time; a day includes all of it",
         "TIME"},
        {"around", '\0', POPT_ARG_STRING, &given.around, 0, "what was before and after this time", "TIME"},
        {"within", '\0', POPT_ARG_STRING, &given.within, 0,
         "how long before and after --around: 2min, \"30 s\"; without it 1min", "SPAN"},
        {"sent", '\0', POPT_ARG_NONE, &given.sent, 0,
         "times are those that the devices claim, where they do; without it when messages were received",
         NULL},
        {"first", '\0', POPT_ARG_LONG, &given.first, 0, "only the first N of what is found, by time", "N"},
        {"last", '\0', POPT_ARG_LONG, &given.last, 0, "only the last N of what is found, by time", "N"},
        {"reverse", '\0', POPT_ARG_NONE, &given.reverse, 0, "the latest first", NULL},
        {"context", '\0', POPT_ARG_LONG, &given.context, 0,
         "with N messages of the same device before and after each that is found, within the same span of "
         "time",
         "N"},
        {"count", '\0', POPT_ARG_NONE, &given.count, 0, "only how many", NULL},
        {"by", '\0', POPT_ARG_STRING, &given.by, 0,
         "how many of each, the most frequent first: facility, severity, host, device, sender, listener, "
         "transport, certificate, app, procid, msgid, text, original, pattern, \"label NAME\", \"data ID "
         "NAME\", "
         "\"field "
         "NAME\" or only NAME; with /24 behind it addresses by network (IPv6 by /64); by minute, "
         "hour, day or weekday in order of time; several with commas",
         "FIELD[,FIELD]"},
        {"every", '\0', POPT_ARG_STRING, &given.every, 0,
         "how many in each step of time: \"5 min\", hour, day, week, month; with --by of each", "STEP"},
        {"sum", '\0', POPT_ARG_STRING, &given.sum, 0, "with --by: the sum of the numbers in a field",
         "FIELD"},
        {"distinct", '\0', POPT_ARG_STRING, &given.distinct, 0,
         "with --by: how many different values a field has", "FIELD"},
        {"share", '\0', POPT_ARG_NONE, &given.share, 0, "with --by: how many of a hundred, too", NULL},
        {"total", '\0', POPT_ARG_NONE, &given.total, 0, "with --by: the sum of all groups at the end", NULL},
        {"sort", '\0', POPT_ARG_STRING, &given.sort, 0,
         "put groups in order by count (the default), name, sum or distinct", "ORDER"},
        {"top", '\0', POPT_ARG_LONG, &given.top, 0, "only the first N groups", "N"},
        {"against", '\0', POPT_ARG_STRING, &given.against, 0,
         "with --by: compare with another span, FROM..TO: what is new, gone, more or less", "FROM..TO"},
        {"factor", '\0', POPT_ARG_STRING, &given.factor, 0,
         "with --against: how many times more or less is told; without it 2", "NUMBER"},
        {"once", '\0', POPT_ARG_NONE, &given.once, 0,
         "a message that several routes stored is found once: so it is anyway where the whole store is "
         "counted",
         NULL},
        {"copies", '\0', POPT_ARG_NONE, &given.copies, 0, "each of its copies is counted", NULL},
        {"why", '\0', POPT_ARG_NONE, &given.why, 0,
         "say how much was read, and what the catalog and the index of archives left out", NULL},
        {"zone", '\0', POPT_ARG_STRING, &given.zone, 0,
         "print and read times in this zone: local (this machine's), UTC, a name or an offset; without it, "
         "lines are printed as times: has it, and what groups and TIME mean is zone: of the configuration",
         "ZONE"},
        {"to", '\0', POPT_ARG_STRING, &given.to, 0,
         "write what is found to a file, whole or not at all; compressed where its name ends in .zst or .gz",
         "FILE"},
        {"force", '\0', POPT_ARG_NONE, &given.force, 0, "with --to: over a file that is there already", NULL},
        {"layout", '\0', POPT_ARG_STRING, &given.layout, 0,
         "print lines as plain (the default), json, rfc5424, raw, or by a template such as \"{time} {device} "
         "{text}\"; \\t and \\n in one are a tab and a line's end",
         "L"},
        {"columns", '\0', POPT_ARG_STRING, &given.columns, 0,
         "print these only, as columns: time, sent, lag, data, or what --by takes; several with commas",
         "FIELD[,FIELD]"},
        {"fold", '\0', POPT_ARG_NONE, &given.fold, 0,
         "on a terminal: long lines go on below, broken at words", NULL},
        {"csv", '\0', POPT_ARG_NONE, &given.csv, 0, "as CSV (RFC 4180), with the names of the columns", NULL},
        {"as", '\0', POPT_ARG_STRING, &given.as, 0,
         "what the lines of the files named are: raw (messages as they were sent), or stored lines in plain, "
         "json or rfc5424; without it the journal of the store that a file lies in tells, and what lies in "
         "none is raw",
         "LAYOUT"},
        POPT_TABLEEND};
    return table;
}

/* ---- What goes together ---- */

/* The first of some options that was given; NULL where none was. */
struct one {
    const char *name;
    bool given;
};

static const char *first_given(const struct one *list, size_t count)
{
    for (size_t i = 0; i < count; i++)
        if (list[i].given)
            return list[i].name;
    return NULL;
}

#define FIRST_GIVEN(...)                                                                                     \
    first_given((const struct one[]){__VA_ARGS__},                                                           \
                sizeof((const struct one[]){__VA_ARGS__}) / sizeof(struct one))

static bool has(long number)
{
    return number != IND_NOT_GIVEN;
}

static bool numbers_are_good(const struct ind_search_options *options)
{
    if (has(options->top) && options->top < 1)
        ind_complain("--top: a number from 1 on");
    else if ((has(options->first) && options->first < 1) ||
             (has(options->last) && (options->last < 1 || options->last > MOST_LAST)))
        ind_complain("--first and --last: a number from 1 on, of --last up to %d", MOST_LAST);
    else if (has(options->context) && (options->context < 1 || options->context > MOST_CONTEXT))
        ind_complain("--context: a number from 1 to %d", MOST_CONTEXT);
    else
        return true;
    return false;
}

/* Of lines, and of groups or numbers. */
static bool forms_fit(const struct ind_search_options *options)
{
    const bool groups = options->by || options->every;
    const char *counts = options->by ? "by" : options->every ? "every" : options->count ? "count" : NULL;
    const char *of_lines =
        FIRST_GIVEN({"first", has(options->first)}, {"last", has(options->last)},
                    {"context", has(options->context)}, {"reverse", options->reverse},
                    {"columns", options->columns != NULL}, {"layout", options->layout != NULL});
    const char *of_groups = FIRST_GIVEN({"top", has(options->top)}, {"sum", options->sum != NULL},
                                        {"distinct", options->distinct != NULL}, {"share", options->share},
                                        {"total", options->total}, {"sort", options->sort != NULL},
                                        {"against", options->against != NULL});
    if (counts && of_lines)
        ind_complain("--%s is of lines, and --%s prints none; leave one out", of_lines, counts);
    else if (of_groups && !groups)
        ind_complain("--%s goes with --by", of_groups);
    else if (options->count && groups)
        ind_complain(
            "--count and --%s do not go together: --%s counts each group, --count all; leave one out", counts,
            counts);
    else if (options->csv && options->count)
        ind_complain("--csv is of lines and groups, and --count prints a number; leave one out");
    else if (options->layout && (options->columns || options->csv))
        ind_complain("--layout and --%s both say how lines are printed; leave one out",
                     options->columns ? "columns" : "csv");
    else if (options->csv && options->json)
        ind_complain("--csv and --json say the opposite; leave one out");
    else
        return true;
    return false;
}

static bool spans_fit(const struct ind_search_options *options)
{
    if (has(options->first) && has(options->last))
        ind_complain("--first and --last say the opposite; leave one out");
    else if (options->around && (options->since || options->until))
        ind_complain("--around tells a span, as --since and --until do; leave one out");
    else if (options->within && !options->around)
        ind_complain("--within goes with --around");
    else if (options->factor && !options->against)
        ind_complain("--factor goes with --against");
    else if (options->against && (options->every || options->total || options->share))
        ind_complain("--against compares two spans: leave out --%s", options->every   ? "every"
                                                                     : options->total ? "total"
                                                                                      : "share");
    else if (has(options->context) && options->once)
        ind_complain("--context shows lines with all copies; leave out --once");
    else if (has(options->context) && (has(options->first) || has(options->last)))
        ind_complain("--context shows more than is found: leave out --%s",
                     has(options->first) ? "first" : "last");
    else
        return true;
    return false;
}

bool ind_search_options_fit(const struct ind_search_options *options, const char *const *arguments)
{
    if (!numbers_are_good(options) || !forms_fit(options) || !spans_fit(options))
        return false;
    if (options->force && !options->to)
        ind_complain("--force goes with --to");
    else if (options->once && options->copies)
        ind_complain("--once and --copies say the opposite; leave one out");
    else if (options->copies && !options->by && !options->every && !options->count)
        ind_complain(
            "--copies goes with --count or --by: lines are printed with all copies unless --once is given");
    else if (options->as && ind_layout_read(ind_slice_of(options->as)) < 0)
        ind_complain("--as: unknown layout \"%s\"; expected raw, plain, json or rfc5424", options->as);
    else if (options->as && !*arguments)
        ind_complain(
            "--as says what the lines of named files are: name them; of the store its journal knows");
    else
        return true;
    return false;
}

/* ---- Fields ---- */

static void complain_of_field(const char *option, struct ind_slice name)
{
    const char *names[IND_BY_END];
    struct ind_search_by by;
    size_t count = 0;
    for (unsigned i = 0; i < IND_BY_END; i++)
        if (ind_search_by_name(i).length && ind_search_by_read(ind_search_by_name(i), &by))
            names[count++] = ind_search_by_name(i).at;
    const char *near = ind_near(name, names, count);
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
    const char *names[IND_BY_END];
    struct ind_search_by by;
    size_t count = 0;
    for (size_t i = 0; i < name.length; i++)
        if (!ind_is_alpha(name.at[i]) && !ind_is_digit(name.at[i]) && !strchr("_-./", name.at[i]))
            return false;
    for (unsigned i = 0; i < IND_BY_END; i++)
        if (ind_search_by_name(i).length && ind_search_by_read(ind_search_by_name(i), &by))
            names[count++] = ind_search_by_name(i).at;
    const char *slash = name.length ? memchr(name.at, '/', name.length) : NULL;
    const struct ind_slice bare = {name.at, slash ? (size_t)(slash - name.at) : name.length};
    return bare.length > 0 && !ind_near(bare, names, count) && ind_field_read(bare) < 0 &&
           !ind_search_by_read(bare, &by);
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
    settings->top = has(options->top) ? (size_t)options->top : 0;
    if (!read_every(options, settings) ||
        !read_fields(read, "by", options->by, false, settings->by, IND_SEARCH_FIELDS, &settings->by_count) ||
        !read_one_field(read, "sum", options->sum, &settings->sum) ||
        !read_one_field(read, "distinct", options->distinct, &settings->distinct) ||
        !read_order(options, settings))
        return false;
    read->factor = 2;
    char *end = NULL;
    if (options->factor && ((read->factor = strtod(options->factor, &end)) < 1 || *end)) {
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
    read->zone = strcmp(options->zone, "local") == 0 ? ind_zone_of_machine() : ind_zone_named(options->zone);
    if (!read->zone)
        ind_complain(
            "--zone: unknown time zone \"%s\"; write local, or one such as Europe/Lisbon, UTC or +01:00",
            options->zone);
    settings->zone = read->zone;
    settings->times = strcmp(options->zone, "UTC") == 0 ? NULL : read->zone;
    settings->as_stored = false;
    return read->zone != NULL;
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
    settings->context_lines = has(options->context) ? (size_t)options->context : 0;
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
