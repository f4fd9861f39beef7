/* The numbers of a report: by device, severity and step. */
#include "report/report_private.h"

#include "core/base/escape.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_DEVICES = 200000 };

struct ind_report_device *ind_report_device(struct ind_report *report, struct ind_slice name)
{
    struct ind_report_device *device = NULL;
    HASH_FIND(hh, report->devices, name.at, (unsigned)name.length, device);
    if (device)
        return device;
    if (report->device_count == MOST_DEVICES) { /* strangers make up names */
        const struct ind_slice rest = IND_SLICE("(others)");
        report->too_many = true;
        HASH_FIND(hh, report->devices, rest.at, (unsigned)rest.length, device);
        if (device)
            return device;
        name = rest;
    }
    device = calloc(1, sizeof *device + name.length + 1);
    if (!device)
        return NULL;
    memcpy(device->name, name.at, name.length);
    device->last = IND_TIME_NONE;
    HASH_ADD_KEYPTR(hh, report->devices, device->name, name.length, device);
    if (!device->hh.tbl) {
        free(device);
        return NULL;
    }
    report->device_count++;
    return device;
}

struct ind_report_device *ind_report_device_named(struct ind_report *report, struct ind_slice name)
{
    char text[IND_BY_WRITTEN_MOST];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    if (name.length)
        ind_escape_text(&out, ind_slice_begin(name, IND_BY_MOST));
    else
        ind_buffer_byte(&out, '-');
    return ind_report_device(report, ind_buffer_view(&out));
}

void ind_report_add(struct ind_report *report, struct ind_report_device *device, size_t span, size_t step,
                    unsigned severity, uint64_t messages)
{
    report->totals[span] += messages;
    device->messages[span] += messages;
    if (span != IND_REPORT_NOW)
        return;
    report->by_severity[severity] += messages;
    device->by_severity[severity] += messages;
    if (step < report->step_count)
        report->steps[step].by_severity[severity] += messages;
}
