/* report/report_private.h: what the files that count share. */
#ifndef IND_REPORT_REPORT_PRIVATE_H
#define IND_REPORT_REPORT_PRIVATE_H

#include "report/report.h"
#include "store/search/search.h"

/* ---- tally.c ---- */

/* The one of that name, as search shows it; new where there is none. NULL where memory is out. */
struct ind_report_device *ind_report_device(struct ind_report *report, struct ind_slice name);
/* The same by a device's own name; "" where it is none. */
struct ind_report_device *ind_report_device_named(struct ind_report *report, struct ind_slice name);
/* Adds to a span; in the span itself, to a step that begins then. */
void ind_report_add(struct ind_report *report, struct ind_report_device *device, size_t span, size_t step,
                    unsigned severity, uint64_t messages);

/* ---- from_catalog.c ---- */

/* Adds what the catalog knows, and takes out of `files` those that need not be read. */
bool ind_report_from_catalog(struct ind_report *report, struct ind_search_file *files, size_t *count);

/* ---- from_files.c ---- */

/* A search of these files in a span, by nothing yet. */
struct ind_search_settings ind_report_settings(const struct ind_report *report, size_t span,
                                               const struct ind_search_file *files, size_t count);
bool ind_report_from_files(struct ind_report *report, const struct ind_search_file *files, size_t count);

#endif
