/* What stands out: against the median of the same weekdays of past weeks where these are known, else against
 * the span before. */
#include "report/report.h"

#include "core/alert/unusual.h"

/* So many messages are too few to say anything of. */
enum { FEW = 20, TIMES = 2 };

static uint64_t differ_by(uint64_t a, uint64_t b)
{
    return a > b ? a - b : b - a;
}

/* `past` of those spans that are known: twice as much or half as much, and outside of what weeks tell. */
static enum ind_report_change change_of(uint64_t now, uint64_t usual, const struct ind_usual *weeks)
{
    if (differ_by(now, usual) < FEW || (weeks->known && !weeks->unusual))
        return IND_REPORT_SAME;
    if (now / TIMES >= usual)
        return IND_REPORT_MORE;
    return usual / TIMES >= now ? IND_REPORT_LESS : IND_REPORT_SAME;
}

static size_t weeks_of(const struct ind_report *report, const uint64_t messages[IND_REPORT_SPANS],
                       uint64_t past[IND_UNUSUAL_WEEKS])
{
    size_t count = 0;
    for (size_t i = IND_REPORT_WEEK; i < report->span_count; i++)
        if (report->known[i])
            past[count++] = messages[i];
    return count;
}

static uint64_t usual_of(const struct ind_report *report, const uint64_t messages[IND_REPORT_SPANS],
                         struct ind_usual *weeks)
{
    uint64_t past[IND_UNUSUAL_WEEKS];
    *weeks = ind_usual_of(messages[IND_REPORT_NOW], past, weeks_of(report, messages, past));
    return report->by_weeks ? weeks->median : messages[IND_REPORT_BEFORE];
}

static void compare_device(const struct ind_report *report, struct ind_report_device *device)
{
    struct ind_usual weeks;
    const uint64_t now = device->messages[IND_REPORT_NOW];
    device->usual = usual_of(report, device->messages, &weeks);
    if (now == 0) {
        const bool was = device->usual > 0 || device->messages[IND_REPORT_BEFORE] > 0;
        device->change = was || (device->configured && report->heard) ? IND_REPORT_GONE : IND_REPORT_SAME;
    } else if (!ind_report_is_comparable(report)) {
        device->change = IND_REPORT_SAME;
    } else if (!device->heard_early) {
        device->change = IND_REPORT_FIRST;
    } else if (device->usual == 0 && device->messages[IND_REPORT_BEFORE] == 0) {
        device->change = IND_REPORT_NEW;
    } else {
        device->change = change_of(now, device->usual, &weeks);
    }
}

void ind_report_compare(struct ind_report *report)
{
    struct ind_report_device *device, *next;
    struct ind_usual weeks;
    uint64_t past[IND_UNUSUAL_WEEKS];
    HASH_ITER(hh, report->devices, device, next)
    {
        report->heard |= device->messages[IND_REPORT_NOW] > 0 || device->heard_early;
    }
    report->by_weeks = weeks_of(report, report->totals, past) >= IND_UNUSUAL_LEAST;
    report->usual = usual_of(report, report->totals, &weeks);
    HASH_ITER(hh, report->devices, device, next)
    {
        compare_device(report, device);
    }
}
