/* What is read, since the catalog does not tell it: by the search, a span at a time. */
#include "report/report_private.h"

#include "core/message/names.h"

#include <stdlib.h>
#include <string.h>

enum { BY_STEP, BY_DEVICE, BY_SEVERITY };

static size_t step_of(const struct ind_report *report, const char *text)
{
    int64_t local;
    size_t low = 0;
    if (!ind_every_read_begin(text, &local))
        return report->step_count;
    const ind_time time = ind_zone_to_utc(report->asked.zone, local) * IND_SECOND;
    for (size_t high = report->step_count; low + 1 < high;) {
        const size_t middle = (low + high) / 2;
        if (report->steps[middle].begin <= time)
            low = middle;
        else
            high = middle;
    }
    return low;
}

static bool add_group(struct ind_report *report, size_t span, const struct ind_search_group *group)
{
    const bool now = span == IND_REPORT_NOW;
    const char *name = ind_group_value(group, now ? BY_DEVICE : 0);
    struct ind_report_device *device = ind_report_device(report, ind_slice_of(name));
    size_t step = 0;
    int severity = -1;
    if (!device)
        return false;
    if (now) {
        step = step_of(report, ind_group_value(group, BY_STEP));
        severity = ind_severity_read(ind_slice_of(ind_group_value(group, BY_SEVERITY)));
    }
    ind_report_add(report, device, span, step, severity < 0 ? IND_REPORT_NO_SEVERITY : (unsigned)severity,
                   group->count);
    ind_time last = report->spans[span].until - 1;
    if (now && step < report->step_count)
        last = report->steps[step].begin;
    if (last < report->asked.span.until && (device->last == IND_TIME_NONE || last > device->last))
        device->last = last;
    device->heard_early |= !now && report->spans[span].since < report->asked.span.since;
    return true;
}

static bool add_result(struct ind_report *report, size_t span, const struct ind_search_result *result)
{
    bool good = !result->failed;
    for (size_t i = 0; good && i < result->group_count; i++)
        good = add_group(report, span, result->groups[i]);
    report->too_many |= result->groups_cut;
    if (span == IND_REPORT_NOW)
        report->unread += result->unread_files;
    return good;
}

struct ind_search_settings ind_report_settings(const struct ind_report *report, size_t span,
                                               const struct ind_search_file *files, size_t count)
{
    const struct ind_report_asked *asked = &report->asked;
    return (struct ind_search_settings){.config = asked->config,
                                        .conditions = asked->conditions,
                                        .when = asked->when,
                                        .since = report->spans[span].since,
                                        .until = report->spans[span].until,
                                        .files = files,
                                        .file_count = count,
                                        .sum = {.what = IND_BY_NOTHING},
                                        .distinct = {.what = IND_BY_NOTHING},
                                        .zone = asked->zone,
                                        .now = asked->now,
                                        .temporary = asked->temporary,
                                        .report = asked->report,
                                        .progress = asked->progress,
                                        .context = asked->context};
}

static bool read_span(struct ind_report *report, size_t span, const struct ind_search_file *files,
                      size_t count)
{
    const struct ind_report_asked *asked = &report->asked;
    struct ind_search_settings settings = ind_report_settings(report, span, files, count);
    settings.order = IND_BY_NAME;
    struct ind_search_result result;
    if (settings.since >= settings.until)
        return true;
    if (span == IND_REPORT_NOW)
        settings.by[settings.by_count++] =
            (struct ind_search_by){.what = IND_BY_EVERY, .every = asked->every, .text = IND_SLICE("from")};
    settings.by[settings.by_count++] =
        (struct ind_search_by){.what = IND_FIELD_DEVICE, .text = IND_SLICE("device")};
    if (span == IND_REPORT_NOW)
        settings.by[settings.by_count++] =
            (struct ind_search_by){.what = IND_FIELD_SEVERITY, .text = IND_SLICE("severity")};
    ind_search_run(&settings, &result);
    const bool good = add_result(report, span, &result);
    ind_search_free(&result);
    return good;
}

bool ind_report_from_files(struct ind_report *report, const struct ind_search_file *files, size_t count)
{
    bool good = true;
    report->read = count;
    for (size_t span = 0; good && count && span < report->span_count; span++)
        good = read_span(report, span, files, count);
    return good;
}
