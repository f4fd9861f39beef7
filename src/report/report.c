#include "report/report_private.h"
#include "report/texts.h"

#include "store/read/snapshot.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define HOUR (3600 * (ind_time)IND_SECOND)

static bool add_configured(struct ind_report *report)
{
    const struct ind_config *config = report->asked.config;
    const size_t count = ind_devices_count(config->devices);
    for (size_t i = 0; i < count; i++) {
        const struct ind_device *one = ind_devices_at(config->devices, i);
        struct ind_report_device *device =
            ind_report_device_named(report, (struct ind_slice){one->name, one->name_length});
        if (!device)
            return false;
        device->configured = !one->relay;
    }
    return true;
}

/* ---- Spans and steps ---- */

static int64_t local_of(const struct ind_report_asked *asked, ind_time time)
{
    const int64_t seconds = ind_time_seconds(time);
    return seconds + ind_zone_offset(asked->zone, seconds);
}

bool ind_report_has_too_many_steps(const struct ind_report_span *span, const struct ind_every *every)
{
    const int64_t seconds = (span->until - span->since) / IND_SECOND;
    return every->unit == IND_EVERY_SECONDS && seconds / every->seconds > IND_REPORT_STEPS - 4;
}

/* One that is not over yet is compared with as much of those before, in whole hours. */
static void make_spans(struct ind_report *report)
{
    const struct ind_report_asked *asked = &report->asked;
    const struct ind_report_span *span = &asked->span;
    report->spans[IND_REPORT_NOW] = *span;
    report->spans[IND_REPORT_BEFORE] = ind_report_span_before(span, 1, asked->zone);
    report->span_count = 2;
    for (unsigned week = 1; week <= IND_REPORT_WEEKS && ind_report_span_has_weekdays(span); week++)
        report->spans[report->span_count++] = ind_report_span_weeks_before(span, week, asked->zone);
    if (asked->now >= span->until || asked->now <= span->since)
        return;
    const ind_time gone = (asked->now - span->since) / HOUR * HOUR;
    for (size_t i = 1; i < report->span_count; i++)
        if (report->spans[i].since + gone < report->spans[i].until)
            report->spans[i].until = report->spans[i].since + gone;
}

static bool make_steps(struct ind_report *report)
{
    const struct ind_report_asked *asked = &report->asked;
    const struct ind_report_span *span = &asked->span;
    const int64_t end = local_of(asked, span->until - 1);
    size_t count = 0;
    int64_t begin = ind_every_begin(&asked->every, local_of(asked, span->since));
    for (int64_t at = begin; at <= end && count < IND_REPORT_STEPS; at = ind_every_next(&asked->every, at))
        count++;
    report->steps = calloc(count + 1, sizeof *report->steps);
    if (!report->steps)
        return false;
    for (; report->step_count < count; begin = ind_every_next(&asked->every, begin)) {
        const ind_time time = ind_zone_to_utc(asked->zone, begin) * IND_SECOND;
        report->steps[report->step_count++].begin = time > span->since ? time : span->since;
    }
    return true;
}

/* ---- All of it ---- */

static void compare(struct ind_report *report)
{
    for (size_t i = 0; i < report->span_count; i++)
        report->known[i] = report->totals[i] > 0;
    ind_report_compare(report);
}

static bool count_files(struct ind_report *report, const struct ind_snapshot *snapshot)
{
    struct ind_search_file *all = calloc(2 * snapshot->count + 1, sizeof *all),
                           *to_read = all + snapshot->count;
    size_t count = 0, left;
    if (!all)
        return false;
    for (size_t i = 0; i < snapshot->count; i++) {
        const struct ind_snapshot_file *file = &snapshot->files[i];
        if (!file->twice)
            all[count++] = (struct ind_search_file){.name = file->path, .snapshot = snapshot, .stored = file};
    }
    if (count)
        memcpy(to_read, all, count * sizeof *all);
    left = count;
    bool good =
        ind_report_from_catalog(report, to_read, &left) && ind_report_from_files(report, to_read, left);
    if (good)
        compare(report);
    if (good && !report->asked.without_texts) {
        report->texts = calloc(1, sizeof *report->texts);
        good = report->texts && ind_report_read_texts(report, all, count, report->texts);
    }
    free(all);
    return good;
}

bool ind_report_count(const struct ind_report_asked *asked, struct ind_report *report)
{
    struct ind_snapshot snapshot = {.folder = -1};
    *report = (struct ind_report){.asked = *asked};
    make_spans(report);
    bool good = make_steps(report) && add_configured(report);
    if (!good) {
        asked->report(asked->context, "out of memory");
        return false;
    }
    if (!ind_snapshot_take(asked->config->store, NULL, NULL, &snapshot)) {
        char text[4200];
        snprintf(text, sizeof text, "cannot read the store %s: %s", asked->config->store, strerror(errno));
        asked->report(asked->context, text);
        good = false;
    } else {
        report->unread += snapshot.unreadable;
        good = count_files(report, &snapshot);
        if (!good)
            asked->report(asked->context, "memory, or the disk for temporary files, ran out");
    }
    ind_snapshot_free(&snapshot);
    return good;
}

void ind_report_free(struct ind_report *report)
{
    struct ind_report_device *device, *next;
    HASH_ITER(hh, report->devices, device, next)
    {
        HASH_DEL(report->devices, device);
        free(device);
    }
    if (report->texts)
        ind_report_texts_free(report->texts);
    free(report->texts);
    report->texts = NULL;
    free(report->steps);
    report->steps = NULL;
}
