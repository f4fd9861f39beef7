/* What of devices: how many messages over time, who changed, who is silent or new, and all of them. */
#include "report/sections_private.h"

#include "core/message/names.h"

#include <stdlib.h>
#include <string.h>

/* Severe is what an operator has to see to: RFC 5424 section 6.2.1 up to "error". */
static uint64_t severe_of(const uint64_t by_severity[IND_REPORT_SEVERITIES])
{
    uint64_t sum = 0;
    for (unsigned i = 0; i <= IND_SEVERITY_ERROR; i++)
        sum += by_severity[i];
    return sum;
}

/* ---- Lists ---- */

static int by_number(uint64_t a, uint64_t b)
{
    return a < b ? 1 : a > b ? -1 : 0; /* the greatest first */
}

static int by_trouble(const struct ind_report_device *a, const struct ind_report_device *b)
{
    const int severe = by_number(severe_of(a->by_severity), severe_of(b->by_severity));
    const int messages = by_number(a->messages[IND_REPORT_NOW], b->messages[IND_REPORT_NOW]);
    return severe ? severe : messages ? messages : strcmp(a->name, b->name);
}

/* By how many messages more or fewer. */
static uint64_t difference(const struct ind_report_device *device)
{
    const uint64_t now = device->messages[IND_REPORT_NOW], usual = device->usual;
    return now > usual ? now - usual : usual - now;
}

static int by_difference(const struct ind_report_device *a, const struct ind_report_device *b)
{
    const int by = by_number(difference(a), difference(b));
    return by ? by : strcmp(a->name, b->name);
}

/* Those that are silent before those that are new, and of these the one that was heard last. */
static int by_silence(const struct ind_report_device *a, const struct ind_report_device *b)
{
    const bool gone[] = {a->change == IND_REPORT_GONE, b->change == IND_REPORT_GONE};
    if (gone[0] != gone[1])
        return gone[0] ? -1 : 1;
    if (a->last != b->last)
        return a->last > b->last ? -1 : 1;
    return strcmp(a->name, b->name);
}

/* qsort knows no context: a function each. */
#define COMPARE(name, order)                                                                                 \
    static int name(const void *a, const void *b)                                                            \
    {                                                                                                        \
        return order(*(struct ind_report_device *const *)a, *(struct ind_report_device *const *)b);          \
    }
COMPARE(compare_by_trouble, by_trouble)
COMPARE(compare_by_difference, by_difference)
COMPARE(compare_by_silence, by_silence)

/* Those that `wanted` says so of, in order; new. NULL where memory is out, or there are none. */
static struct ind_report_device **list(struct ind_report_page *page,
                                       bool (*wanted)(const struct ind_report_device *device),
                                       int (*order)(const void *a, const void *b), size_t *count)
{
    const struct ind_report *report = page->report;
    struct ind_report_device **all = calloc(report->device_count + 1, sizeof(struct ind_report_device *));
    struct ind_report_device *device, *next;
    *count = 0;
    if (!all) {
        page->failed = true;
        return NULL;
    }
    HASH_ITER(hh, report->devices, device, next)
    {
        if (wanted(device))
            all[(*count)++] = device;
    }
    qsort(all, *count, sizeof *all, order);
    return all;
}

static const char *against_what(const struct ind_report *report)
{
    return report->by_weeks ? "usually on such days" : "in the span before";
}

static void add_usual(struct ind_report_page *page, struct ind_report_section *section,
                      const struct ind_report_device *device)
{
    if (ind_report_is_comparable(page->report))
        ind_section_number(page, section, device->usual);
    else
        ind_section_time(page, section, IND_TIME_NONE);
}

/* ---- Over time ---- */

static size_t add_severity_columns(struct ind_report_column *columns, size_t count, bool unknown)
{
    static const char *const titles[] = {"emergency", "alert", "critical", "error",  "warning",
                                         "notice",    "info",  "debug",    "unknown"};
    for (size_t i = 0; i + !unknown < IND_REPORT_SEVERITIES; i++)
        columns[count++] = (struct ind_report_column){titles[i], titles[i], IND_REPORT_NUMBER, false, true};
    return count;
}

static void say_volume(struct ind_report_page *page, struct ind_report_section *section)
{
    const struct ind_report *report = page->report;
    const uint64_t now = report->totals[IND_REPORT_NOW], severe = severe_of(report->by_severity);
    char number[3][IND_AMOUNT_WIDTH], against[120] = "";
    const bool comparable = ind_report_is_comparable(report);
    const bool more = report->usual && now / 2 >= report->usual, less = now <= report->usual / 2;
    if (!report->heard) {
        ind_section_say(page, section, true,
                        "Nothing was filed in that time, nor is anything known of before.");
        return;
    }
    if (comparable)
        snprintf(against, sizeof against, ", against %s %s", ind_report_grouped(report->usual, number[0]),
                 against_what(report));
    ind_section_say(page, section, now == 0 || (comparable && (more || less)),
                    "%s message%s%s; %s of them are errors or worse.", ind_report_grouped(now, number[1]),
                    ind_report_plural(now), against, ind_report_grouped(severe, number[2]));
}

void ind_section_volume(struct ind_report_page *page)
{
    const struct ind_report *report = page->report;
    const bool unknown = report->by_severity[IND_REPORT_NO_SEVERITY] > 0;
    struct ind_report_column columns[IND_REPORT_COLUMNS] = {
        {"from", "from", IND_REPORT_TIME, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, true, false},
        {"severe", "errors or worse", IND_REPORT_NUMBER, false, false}};
    const size_t count = add_severity_columns(columns, 3, unknown);
    struct ind_report_section *section = ind_section_new(page, "volume", "Volume", columns, count);
    section->chart = IND_REPORT_STACKED;
    section->in_order = true;
    for (size_t i = 0; i < report->step_count && report->heard && report->steps[i].begin <= report->asked.now;
         i++) {
        const uint64_t *numbers = report->steps[i].by_severity;
        uint64_t sum = 0;
        for (size_t s = 0; s < IND_REPORT_SEVERITIES; s++)
            sum += numbers[s];
        ind_section_time(page, section, report->steps[i].begin);
        ind_section_number(page, section, sum);
        ind_section_number(page, section, severe_of(numbers));
        for (size_t s = 0; s + !unknown < IND_REPORT_SEVERITIES; s++)
            ind_section_number(page, section, numbers[s]);
    }
    say_volume(page, section);
}

/* ---- Changes ---- */

static bool has_changed(const struct ind_report_device *device)
{
    return device->change == IND_REPORT_MORE || device->change == IND_REPORT_LESS;
}

void ind_section_changes(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"device", "device", IND_REPORT_TEXT, false, false},
        {"change", "change", IND_REPORT_TEXT, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, true, false},
        {"usual", "usual", IND_REPORT_NUMBER, false, false}};
    struct ind_report_section *section =
        ind_section_new(page, "changes", "More or less than usual", columns, 4);
    size_t count, more = 0;
    const struct ind_report *report = page->report;
    struct ind_report_device **devices = list(page, has_changed, compare_by_difference, &count);
    section->chart = IND_REPORT_BARS;
    for (size_t i = 0; devices && i < count; i++) {
        more += devices[i]->change == IND_REPORT_MORE;
        ind_section_text(page, section, devices[i]->name);
        ind_section_text(page, section, devices[i]->change == IND_REPORT_MORE ? "more" : "less");
        ind_section_number(page, section, devices[i]->messages[IND_REPORT_NOW]);
        ind_section_number(page, section, devices[i]->usual);
    }
    if (!ind_report_is_comparable(report))
        ind_section_say(page, section, false, "Nothing is known of the span before to compare with.");
    else if (count == 0)
        ind_section_say(page, section, false, "No device sent twice or half as much as %s.",
                        against_what(report));
    else
        ind_section_say(page, section, true,
                        "%zu device%s sent at least twice as much as %s, %zu at most half.", more,
                        ind_report_plural(more), against_what(report), count - more);
    free(devices);
}

static bool is_silent_or_new(const struct ind_report_device *device)
{
    return device->change == IND_REPORT_GONE || device->change == IND_REPORT_FIRST ||
           device->change == IND_REPORT_NEW;
}

void ind_section_silent(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"device", "device", IND_REPORT_TEXT, false, false},
        {"change", "change", IND_REPORT_TEXT, false, false},
        {"last", "heard last", IND_REPORT_TIME, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, false, false},
        {"usual", "usual", IND_REPORT_NUMBER, false, false}};
    static const char *const words[] = {
        [IND_REPORT_FIRST] = "first heard", [IND_REPORT_NEW] = "heard again", [IND_REPORT_GONE] = "silent"};
    struct ind_report_section *section =
        ind_section_new(page, "silent", "Silent and new devices", columns, 5);
    size_t count, silent = 0, first = 0;
    struct ind_report_device **devices = list(page, is_silent_or_new, compare_by_silence, &count);
    for (size_t i = 0; devices && i < count; i++) {
        const struct ind_report_device *device = devices[i];
        silent += device->change == IND_REPORT_GONE;
        first += device->change == IND_REPORT_FIRST;
        ind_section_text(page, section, device->name);
        ind_section_text(page, section, words[device->change]);
        ind_section_time(page, section, device->last);
        ind_section_number(page, section, device->messages[IND_REPORT_NOW]);
        add_usual(page, section, device);
    }
    if (count == 0)
        ind_section_say(page, section, false, "No device fell silent, and none is new.");
    else
        ind_section_say(page, section, true, "%zu device%s silent, %zu heard for the first time.", silent,
                        silent == 1 ? " is" : "s are", first);
    free(devices);
}

/* ---- All ---- */

static bool was_heard(const struct ind_report_device *device)
{
    return device->messages[IND_REPORT_NOW] > 0;
}

void ind_section_devices(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"device", "device", IND_REPORT_TEXT, false, false},
        {"severe", "errors or worse", IND_REPORT_NUMBER, false, false},
        {"warning", "warnings", IND_REPORT_NUMBER, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, true, false},
        {"usual", "usual", IND_REPORT_NUMBER, false, false}};
    struct ind_report_section *section = ind_section_new(page, "devices", "Devices", columns, 5);
    size_t count, severe = 0;
    uint64_t critical = 0;
    struct ind_report_device **devices = list(page, was_heard, compare_by_trouble, &count);
    section->chart = IND_REPORT_BARS;
    for (size_t i = 0; devices && i < count; i++) {
        const struct ind_report_device *device = devices[i];
        const uint64_t of_device = severe_of(device->by_severity);
        severe += of_device > 0;
        critical +=
            device->by_severity[IND_SEVERITY_CRITICAL] + device->by_severity[1] + device->by_severity[0];
        ind_section_text(page, section, device->name);
        ind_section_number(page, section, of_device);
        ind_section_number(page, section, device->by_severity[IND_SEVERITY_WARNING]);
        ind_section_number(page, section, device->messages[IND_REPORT_NOW]);
        add_usual(page, section, device);
    }
    if (count == 0)
        ind_section_say(page, section, true, "No device was heard.");
    else if (severe)
        ind_section_say(page, section, critical > 0,
                        "%zu of %zu devices sent errors or worse; most of them %s.", severe, count,
                        devices[0]->name);
    else
        ind_section_say(page, section, false, "%zu device%s heard; none sent an error.", count,
                        count == 1 ? " was" : "s were");
    free(devices);
}
