#include "cli/search_call.h"

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
         "transport, certificate, app, procid, msgid, text, original, pattern, event, \"label NAME\", \"data "
         "ID "
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

static bool numbers_are_good(const struct ind_search_options *options)
{
    if (ind_is_given(options->top) && options->top < 1)
        ind_complain("--top: a number from 1 on");
    else if ((ind_is_given(options->first) && options->first < 1) ||
             (ind_is_given(options->last) && (options->last < 1 || options->last > MOST_LAST)))
        ind_complain("--first and --last: a number from 1 on, of --last up to %d", MOST_LAST);
    else if (ind_is_given(options->context) && (options->context < 1 || options->context > MOST_CONTEXT))
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
        FIRST_GIVEN({"first", ind_is_given(options->first)}, {"last", ind_is_given(options->last)},
                    {"context", ind_is_given(options->context)}, {"reverse", options->reverse},
                    {"columns", options->columns != NULL}, {"layout", options->layout != NULL});
    const char *of_groups = FIRST_GIVEN({"top", ind_is_given(options->top)}, {"sum", options->sum != NULL},
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
    if (ind_is_given(options->first) && ind_is_given(options->last))
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
    else if (ind_is_given(options->context) && options->once)
        ind_complain("--context shows lines with all copies; leave out --once");
    else if (ind_is_given(options->context) && (ind_is_given(options->first) || ind_is_given(options->last)))
        ind_complain("--context shows more than is found: leave out --%s",
                     ind_is_given(options->first) ? "first" : "last");
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
