#include "cli/cli.h"
#include "cli/report_text.h"
#include "collect/runtime/clock.h"
#include "config/zones.h"
#include "report/sections.h"
#include "store/disk/fs.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { TEXT_ROWS = 10, PAGE_ROWS = 200 };

static struct {
    char *span, *since, *until, *when, *every, *zone, *csv, *html;
    long top;
    int log, quick;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"for", '\0', POPT_ARG_STRING, &given.span, 0,
         "what span: 2026, 2026-11, 2026-W48, 2026-11-23, yesterday (the default), today, mon, \"last "
         "week\", "
         "\"this month\"",
         "SPAN"},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0, "a span from this time on, as for search", "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "and before this time; without it now", "TIME"},
        {"when", '\0', POPT_ARG_STRING, &given.when, 0,
         "only messages for which this holds (docs/conditions.md)", "CONDITION"},
        {"every", '\0', POPT_ARG_STRING, &given.every, 0,
         "in what steps of time: hour, day, week, month, or \"15 min\"; without it as the span has it",
         "STEP"},
        {"zone", '\0', POPT_ARG_STRING, &given.zone, 0,
         "the clock on which days begin: local (this machine's), UTC, a name or an offset; without it zone: "
         "of "
         "the configuration",
         "ZONE"},
        {"top", '\0', POPT_ARG_LONG, &given.top, 0,
         "rows of a table; 0: all. Without it 10, and in CSV and JSON all", "N"},
        {"csv", '\0', POPT_ARG_STRING, &given.csv, 0,
         "a file of CSV (RFC 4180) for each table, into this folder", "FOLDER"},
        {"quick", '\0', POPT_ARG_NONE, &given.quick, 0,
         "leave out what texts have to be read for: events, logins, ports, interfaces and clocks", NULL},
        {"html", '\0', POPT_ARG_STRING, &given.html, 0,
         "a page with charts that needs no network, into this file", "FILE"},
        {"log", '\0', POPT_ARG_NONE, &given.log, 0, "with --html: charts begin with a logarithmic scale",
         NULL},
        POPT_TABLEEND};
    given.top = -1;
    return table;
}

/* ---- The span ---- */

static bool read_free_span(const struct ind_zone *zone, ind_time now, struct ind_report_span *span)
{
    *span = (struct ind_report_span){.until = now, .unit = IND_REPORT_SPAN_FREE};
    if (given.span) {
        ind_complain("--for says the whole span; leave out --%s", given.since ? "since" : "until");
        return false;
    }
    if (!given.since) {
        ind_complain("--until needs --since: a span has a beginning");
        return false;
    }
    if (!ind_moment_option("since", given.since, zone, false, &span->since) ||
        (given.until && !ind_moment_option("until", given.until, zone, true, &span->until)))
        return false;
    if (span->since < span->until)
        return true;
    ind_complain("--until lies before --since: nothing is between them");
    return false;
}

static bool read_span(const struct ind_zone *zone, ind_time now, struct ind_report_span *span)
{
    if (given.since || given.until)
        return read_free_span(zone, now, span);
    const char *text = given.span ? given.span : "yesterday";
    if (ind_report_span_read(ind_slice_of(text), now, zone, span))
        return true;
    ind_complain("--for: \"%s\" is no span; " IND_REPORT_SPAN_HINT, text);
    return false;
}

static bool read_every(const struct ind_report_span *span, struct ind_every *every)
{
    const ind_time days = (span->until - span->since) / (IND_DAY_SECONDS * (ind_time)IND_SECOND);
    const char *usual = days <= 2 ? "hour" : days <= 92 ? "day" : days <= 800 ? "week" : "month";
    if (span->unit == IND_REPORT_SPAN_YEAR)
        usual = "month";
    const char *text = given.every ? given.every : usual;
    if (!ind_every_read(ind_slice_of(text), every)) {
        ind_complain(
            "--every: \"%s\" is no step of time; write hour, day, week, month, or one that a day is a "
            "multiple of, such as \"15 min\"",
            text);
        return false;
    }
    if (!ind_report_has_too_many_steps(span, every))
        return true;
    ind_complain("--every %s gives more than %d steps; take a longer one", text, IND_REPORT_STEPS);
    return false;
}

/* ---- What goes out ---- */

static bool write_csv_file(const struct ind_report_section *section, size_t top)
{
    char path[4200];
    snprintf(path, sizeof path, "%s/%s.csv", given.csv, section->id);
    FILE *file = fopen(path, "we");
    bool good = file != NULL;
    if (good) {
        ind_report_write_csv(section, top, file);
        good = !ferror(file);
        good &= fclose(file) == 0;
    }
    if (!good)
        ind_complain("cannot write %s: %s", path, strerror(errno));
    return good;
}

static bool write_csv(const struct ind_report_page *page, size_t top)
{
    bool good = mkdir(given.csv, 0777) == 0 || errno == EEXIST;
    if (!good)
        ind_complain("cannot make the folder %s: %s", given.csv, strerror(errno));
    for (size_t i = 0; good && i < page->count; i++)
        good = write_csv_file(&page->sections[i], top);
    return good;
}

static bool write_json(const struct ind_report_page *page, size_t top)
{
    json_t *object = ind_report_json(page, top);
    const bool good = json_dumpf(object, stdout, JSON_COMPACT) == 0;
    putchar('\n');
    json_decref(object);
    return good;
}

/* Whole or not at all. */
static bool write_html(const struct ind_report_page *page, size_t top)
{
    char path[4200];
    const int length = snprintf(path, sizeof path, "%s.part", given.html);
    FILE *file = length > 0 && (size_t)length < sizeof path ? fopen(path, "we") : NULL;
    bool good = file != NULL;
    if (good) {
        good = ind_report_write_html(page, top, given.log != 0, file);
        good &= fclose(file) == 0;
        good = good && rename(path, given.html) == 0;
    }
    if (!good) {
        ind_complain("cannot write %s: %s", given.html, strerror(errno));
        if (file)
            (void)unlink(path);
    }
    return good;
}

static int give(const struct ind_call *call, const struct ind_report *report)
{
    struct ind_report_page page;
    bool good = ind_report_page_make(report, &page);
    const size_t all = given.top < 0 ? 0 : (size_t)given.top;
    if (!good)
        ind_complain("out of memory");
    if (good && given.csv)
        good = write_csv(&page, all);
    if (good && given.html)
        good = write_html(&page, given.top < 0 ? PAGE_ROWS : all);
    if (good && call->json)
        good = write_json(&page, all);
    else if (good && (given.csv || given.html))
        ind_report_print_summary(&page, stdout);
    else if (good)
        ind_report_print_text(&page, given.top < 0 ? TEXT_ROWS : all, stdout);
    ind_report_page_free(&page);
    if (!good || report->unread)
        return IND_EXIT_FAILED;
    return report->totals[IND_REPORT_NOW] ? IND_EXIT_DONE : IND_EXIT_NO;
}

static int make(const struct ind_call *call, const struct ind_config *config, const struct ind_zone *zone)
{
    struct ind_report report = {0};
    struct ind_report_asked asked = {.config = config,
                                     .when_text = given.when,
                                     .without_texts = given.quick != 0,
                                     .zone = zone,
                                     .zone_text = given.zone ? given.zone : config->zone_text,
                                     .now = ind_now(),
                                     .temporary = ind_temporary_folder(),
                                     .report = ind_complain_text,
                                     .progress = ind_progress_of};
    int code = IND_EXIT_CALL;
    if (!read_span(zone, asked.now, &asked.span) || !read_every(&asked.span, &asked.every) ||
        !ind_has_store(config) || !ind_condition_option(config, given.when, &asked.conditions, &asked.when))
        return code;
    const bool good = ind_report_count(&asked, &report);
    ind_progress_end();
    code = good ? give(call, &report) : IND_EXIT_FAILED;
    ind_report_free(&report);
    ind_conditions_free(asked.conditions);
    return code;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_zone *zone = NULL;
    int code = IND_EXIT_CALL;
    if (*call->rest) {
        ind_complain("report takes no argument \"%s\"; the span is --for %s", *call->rest, *call->rest);
        return code;
    }
    if (!ind_load(call, false, &loaded))
        return code;
    ind_fs_raise_file_limit();
    if (!given.zone || ind_zone_option(given.zone, &zone))
        code = make(call, loaded.config, zone ? zone : loaded.config->zone);
    ind_zone_free(zone);
    ind_loaded_free(&loaded);
    return code;
}

const struct ind_command ind_command_report = {
    .name = "report",
    .summary = "what came in a day, week, month or year, and what stands out in it",
    .arguments = "[--for SPAN] [--when CONDITION] [--every STEP]",
    .about = "How many messages came, of what severity and from whom, against the same weekdays of the last "
             "weeks,\n"
             "or the span before; which devices are silent or new; alerts; archives and the disk. It is "
             "counted from\n"
             "the catalog where that knows, else by reading. Exit code 1 where there was no message.\n\n"
             "Examples:\n"
             "  indagator report -c indagator.yaml\n"
             "  indagator report -c indagator.yaml --for 'last week' --when 'severity at least warning'\n"
             "  indagator report -c indagator.yaml --for 2026-11 --csv november\n",
    .options = options,
    .run = run,
};
