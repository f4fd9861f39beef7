/* What the catalog knows, added up: hour by hour, device and PRI. A file one of whose hours lies in two spans
 * or steps, or of which the condition cannot be decided, has to be read. */
#include "report/report_private.h"

#include "store/archive/catalog_read.h"
#include "store/search/known.h"

#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

#define HOUR (3600 * (ind_time)IND_SECOND)
enum { LONGEST = 200 * 366 * 24 }; /* hours */

/* Of one hour: in which spans it is, and in which step. */
struct hour {
    uint8_t spans; /* a bit each */
    bool divided;  /* a boundary of one lies in it */
    uint32_t step;
};

/* Of a device of the catalog. */
struct known_device {
    struct ind_report_device *device;
    uint8_t verdicts[IND_VOLUME_PRIS + 1]; /* 1 + enum ind_verdict; 0: not asked yet */
};

struct counting {
    struct ind_report *report;
    struct ind_search_file *files;
    size_t file_count;
    bool *leave_out;
    int folder;
    struct ind_search_settings settings;
    struct ind_known *known;
    struct hour *hours; /* from `first` on */
    int64_t first;
    size_t hour_count;
    struct known_device **devices; /* by their numbers */
    size_t device_count;
    const struct ind_catalog_counts *counts; /* of the file */
    uint64_t looked_at, take_back;           /* rows of it; so many are to be taken back */
    bool has_to_be_read, failed;
};

/* ---- Hours ---- */

static void mark_boundary(struct counting *counting, ind_time time)
{
    const int64_t hour = ind_volume_hour(time);
    if (time % HOUR && hour >= counting->first && hour < counting->first + (int64_t)counting->hour_count)
        counting->hours[hour - counting->first].divided = true;
}

static bool make_hours(struct counting *counting)
{
    const struct ind_report *report = counting->report;
    int64_t first = INT64_MAX, last = INT64_MIN;
    for (size_t i = 0; i < report->span_count; i++) {
        const int64_t begin = ind_volume_hour(report->spans[i].since);
        const int64_t end = ind_volume_hour(report->spans[i].until - 1);
        first = begin < first ? begin : first;
        last = end > last ? end : last;
    }
    if (last - first >= LONGEST)
        return false;
    counting->first = first;
    counting->hour_count = (size_t)(last - first + 1);
    counting->hours = calloc(counting->hour_count, sizeof *counting->hours);
    if (!counting->hours)
        return false;
    for (size_t i = 0; i < report->span_count; i++) { /* an hour belongs where it begins */
        const struct ind_report_span *span = &report->spans[i];
        for (int64_t hour = ind_volume_hour(span->since + HOUR - 1); hour * HOUR < span->until; hour++)
            counting->hours[hour - first].spans |= (uint8_t)(1u << i);
        mark_boundary(counting, span->since);
        mark_boundary(counting, span->until);
    }
    for (size_t i = 0; i < report->step_count; i++) {
        const ind_time end =
            i + 1 < report->step_count ? report->steps[i + 1].begin : report->asked.span.until;
        for (int64_t hour = ind_volume_hour(report->steps[i].begin); hour * HOUR < end; hour++)
            counting->hours[hour - first].step = (uint32_t)i;
        mark_boundary(counting, report->steps[i].begin);
    }
    return true;
}

/* ---- Rows ---- */

static struct known_device *make_device(struct counting *counting, uint32_t number)
{
    if (number >= counting->device_count) {
        const size_t count = 2 * (size_t)number + 64;
        struct known_device **grown = realloc(counting->devices, count * sizeof(struct known_device *));
        if (!grown)
            return NULL;
        memset(grown + counting->device_count, 0,
               (count - counting->device_count) * sizeof(struct known_device *));
        counting->devices = grown;
        counting->device_count = count;
    }
    struct known_device *known = calloc(1, sizeof *known);
    if (known)
        known->device = ind_report_device_named(counting->report,
                                                number == IND_DEVICE_OTHERS
                                                    ? IND_SLICE("(others)")
                                                    : ind_catalog_name(counting->counts->names, number));
    if (known && !known->device) {
        free(known);
        known = NULL;
    }
    return counting->devices[number] = known;
}

static enum ind_verdict ask(struct counting *counting, uint8_t *kept, const struct ind_volume *volume)
{
    const struct ind_slice name = ind_catalog_name(counting->counts->names, volume->device);
    *kept = (uint8_t)(1 + ind_known_row(counting->known, volume, name));
    return (enum ind_verdict)(*kept - 1);
}

static void add_row(struct counting *counting, const struct hour *at, struct ind_report_device *device,
                    const struct ind_volume *volume)
{
    struct ind_report *report = counting->report;
    const unsigned severity = volume->pri < IND_VOLUME_PRIS ? volume->pri % 8 : IND_REPORT_NO_SEVERITY;
    /* Taken back: what is added is one short of a turn of the number. */
    const uint64_t messages = counting->take_back ? -volume->messages : volume->messages;
    for (unsigned spans = at->spans, span = 0; spans; spans >>= 1, span++)
        if (spans & 1)
            ind_report_add(report, device, span, at->step, severity, messages);
    if (counting->counts->removed && at->spans >> IND_REPORT_NOW & 1) {
        report->removed += messages;
        report->roughly |= counting->counts->many || at->divided;
    }
}

/* What cannot be read any more is taken as it is known. False once it is clear that the file has to be read.
 */
static bool look_at_row(void *context, const struct ind_volume *volume)
{
    static const struct hour before = {0};
    struct counting *counting = context;
    const bool removed = counting->counts->removed;
    if (counting->take_back && counting->looked_at == counting->take_back)
        return false;
    if (volume->hour == IND_HOUR_UNKNOWN)
        return removed || !(counting->has_to_be_read = true);
    const int64_t place = volume->hour - counting->first;
    counting->looked_at++;
    if (place >= (int64_t)counting->hour_count)
        return true;
    const struct hour *at = place >= 0 ? &counting->hours[place] : &before;
    struct known_device *known =
        volume->device < counting->device_count ? counting->devices[volume->device] : NULL;
    if (!known && !(known = make_device(counting, volume->device)))
        return !(counting->failed = true);
    uint8_t *kept = &known->verdicts[volume->pri < IND_VOLUME_PRIS ? volume->pri : IND_VOLUME_PRIS];
    const enum ind_verdict verdict = *kept ? (enum ind_verdict)(*kept - 1) : ask(counting, kept, volume);
    if (verdict == IND_NO)
        return true;
    /* A row without a device is as much known as reading would tell of a file that is gone. */
    const bool decided = verdict == IND_YES || (removed && counting->settings.when == IND_CONDITION_ALWAYS);
    if (!removed && (at->divided || (!decided && at->spans))) {
        counting->looked_at--;
        return !(counting->has_to_be_read = true);
    }
    if (!decided) {
        counting->report->not_told += at->spans >> IND_REPORT_NOW & 1 ? volume->messages : 0;
        return true;
    }
    const ind_time time = volume->hour * HOUR;
    const struct ind_report_span *span = &counting->report->asked.span;
    known->device->heard_early |= time < span->since;
    if (time < span->until && (known->device->last == IND_TIME_NONE || time > known->device->last))
        known->device->last = time;
    add_row(counting, at, known->device, volume);
    return true;
}

/* ---- Files ---- */

/* What was added of a file that has to be read after all. When a device was heard stays: reading says the
 * same. */
static void take_back(struct counting *counting)
{
    counting->take_back = counting->looked_at;
    counting->looked_at = 0;
    if (counting->take_back)
        (void)ind_volumes_each(counting->counts->packed, look_at_row, counting);
}

static bool take_file(void *context, const struct ind_catalog_counts *counts)
{
    struct counting *counting = context;
    const struct ind_search_file *file =
        ind_search_archive(counting->files, counting->file_count, counts->archive);
    if (counts->removed ? file != NULL : !file || !ind_catalog_is_as_counted(counting->folder, counts))
        return true;
    counting->counts = counts;
    counting->looked_at = counting->take_back = 0;
    counting->has_to_be_read = !counts->removed && ind_volumes_are_folded(counts->packed);
    const bool whole = !counting->has_to_be_read && ind_volumes_each(counts->packed, look_at_row, counting);
    if (counting->failed)
        return false;
    if (!whole || counting->has_to_be_read) {
        take_back(counting);
        return true;
    }
    if (!file)
        return true;
    counting->leave_out[file - counting->files] = true;
    counting->report->archives++;
    return true;
}

static bool begin(struct counting *counting)
{
    const struct ind_report_asked *asked = &counting->report->asked;
    counting->settings =
        (struct ind_search_settings){.config = asked->config,
                                     .conditions = asked->conditions,
                                     .when = asked->when,
                                     .since = IND_TIME_NONE,
                                     .until = IND_TIME_NONE,
                                     .by = {{.what = IND_FIELD_DEVICE}, {.what = IND_FIELD_SEVERITY}},
                                     .by_count = 2,
                                     .sum = {.what = IND_BY_NOTHING},
                                     .distinct = {.what = IND_BY_NOTHING},
                                     .zone = asked->zone,
                                     .now = asked->now};
    counting->leave_out = calloc(counting->file_count + 1, sizeof *counting->leave_out);
    counting->known = ind_known_new(&counting->settings);
    counting->folder = open(asked->config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    return counting->leave_out && counting->known && counting->folder >= 0 && make_hours(counting);
}

static void end(struct counting *counting)
{
    for (size_t i = 0; i < counting->device_count; i++)
        free(counting->devices[i]);
    free(counting->devices);
    free(counting->hours);
    free(counting->leave_out);
    ind_known_free(counting->known);
    if (counting->folder >= 0)
        close(counting->folder);
}

/* What was counted before the catalog broke off is counted by reading. */
static void forget(struct ind_report *report)
{
    struct ind_report_device *device, *next;
    HASH_ITER(hh, report->devices, device, next)
    {
        memset(device->messages, 0, sizeof device->messages);
        memset(device->by_severity, 0, sizeof device->by_severity);
        device->last = IND_TIME_NONE;
        device->heard_early = false;
    }
    for (size_t i = 0; i < report->step_count; i++)
        memset(report->steps[i].by_severity, 0, sizeof report->steps[i].by_severity);
    memset(report->totals, 0, sizeof report->totals);
    memset(report->by_severity, 0, sizeof report->by_severity);
    report->archives = report->removed = report->not_told = 0;
    report->roughly = false;
}

bool ind_report_from_catalog(struct ind_report *report, struct ind_search_file *files, size_t *count)
{
    struct counting counting = {.report = report, .files = files, .file_count = *count, .folder = -1};
    bool good = begin(&counting);
    if (good) {
        report->why_read = ind_known_why_not(counting.known);
        report->catalog = ind_catalog_each_counts(report->asked.config, counting.folder, true, NULL,
                                                  take_file, &counting) &&
                          !counting.failed;
        good = !counting.failed;
        if (!report->catalog)
            forget(report);
        size_t kept = 0;
        for (size_t i = 0; report->catalog && i < *count; i++)
            if (!counting.leave_out[i])
                files[kept++] = files[i];
        *count = report->catalog ? kept : *count;
    }
    end(&counting);
    return good;
}
