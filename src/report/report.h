/* report/report.h: how many messages there were in a span of time, of what and from whom, and the same of the
 * spans that it is compared with: counted from the catalog where that knows, else from the files.
 *
 * Counted are stored lines: what two routes store counts twice (as `search --copies` does). */
#ifndef IND_REPORT_REPORT_H
#define IND_REPORT_REPORT_H

#include "config/config.h"
#include "report/span.h"
#include "store/search/by.h"

#include <uthash.h>

enum {
    IND_REPORT_WEEKS = 4,      /* that weekdays are compared with */
    IND_REPORT_SEVERITIES = 9, /* the eight of RFC 5424, and not known */
    IND_REPORT_NO_SEVERITY = 8,
    IND_REPORT_SPANS = 2 + IND_REPORT_WEEKS,
    IND_REPORT_STEPS = 20000 /* at most */
};

/* The span itself, the one before it, and the same weekdays of weeks before. */
enum { IND_REPORT_NOW, IND_REPORT_BEFORE, IND_REPORT_WEEK };

struct ind_report_step {
    ind_time begin;
    uint64_t by_severity[IND_REPORT_SEVERITIES];
};

/* How a device stands against what it is compared with. */
enum ind_report_change {
    IND_REPORT_SAME,
    IND_REPORT_FIRST, /* it was never heard before */
    IND_REPORT_NEW,   /* heard before, but not in what it is compared with */
    IND_REPORT_GONE,  /* it was heard there, or is configured, and now is not */
    IND_REPORT_MORE,
    IND_REPORT_LESS
};

struct ind_report_device {
    UT_hash_handle hh;
    uint64_t messages[IND_REPORT_SPANS];
    uint64_t by_severity[IND_REPORT_SEVERITIES]; /* of the span itself */
    uint64_t usual;                              /* what it is compared with */
    ind_time last;    /* the hour, or step, in which it was heard last up to the end of the span */
    bool heard_early; /* before the span */
    bool configured;
    enum ind_report_change change;
    char name[]; /* as it can be shown; "-": none, or not known */
};

struct ind_report_texts; /* report/texts.h */

struct ind_report_asked {
    const struct ind_config *config;
    struct ind_conditions *conditions; /* the set of `when` */
    ind_condition when;
    const char *when_text; /* as written; NULL: every message */
    bool without_texts;    /* nothing is read but what the catalog does not count */
    const struct ind_zone *zone;
    const char *zone_text; /* its name */
    struct ind_report_span span;
    struct ind_every every;
    ind_time now;
    const char *temporary; /* folder for what has no room in memory */
    void (*report)(void *context, const char *text);
    void (*progress)(void *context, uint64_t bytes, uint64_t all); /* of text that is read */
    void *context;
};

struct ind_report {
    struct ind_report_asked asked;
    struct ind_report_span spans[IND_REPORT_SPANS];
    size_t span_count;
    bool known[IND_REPORT_SPANS]; /* there was anything at all */
    uint64_t totals[IND_REPORT_SPANS];
    uint64_t by_severity[IND_REPORT_SEVERITIES];
    bool heard;     /* there was anything up to the end of the span */
    uint64_t usual; /* what the total is compared with */
    bool by_weeks;  /* that is the median of weeks; else the span before */
    struct ind_report_step *steps;
    size_t step_count;
    struct ind_report_device *devices;
    size_t device_count;

    struct ind_report_texts *texts; /* NULL: not asked for */

    /* How it was counted. */
    bool catalog; /* there was one that serves */
    const char
        *why_read;     /* archives had to be read in spite of it; NULL: nothing but what it does not have */
    uint64_t archives; /* counted by it */
    uint64_t read;     /* files that were read */
    uint64_t unread;   /* files that could not be, or not to their end */
    uint64_t removed;  /* messages of the span that are there no more, known from the catalog */
    bool roughly;      /* some of these are known by their hour, or day, only, which is divided here */
    bool too_many;     /* there were more devices than can be told apart */
    uint64_t not_told; /* messages of removed archives of which the condition cannot be decided */
};

/* Counts all. False where memory or the disk ran out, or there is no store: told. To be freed either way. */
bool ind_report_count(const struct ind_report_asked *asked, struct ind_report *report);
void ind_report_free(struct ind_report *report);

/* Where `every` gives too many steps for a span. */
bool ind_report_has_too_many_steps(const struct ind_report_span *span, const struct ind_every *every);

/* ---- compare.c ---- */

/* Whether there is anything to compare with. */
static inline bool ind_report_is_comparable(const struct ind_report *report)
{
    return report->by_weeks || report->known[IND_REPORT_BEFORE];
}
/* The span whose events are compared: a week before where weekdays are, else the span before. */
static inline size_t ind_report_events_before(const struct ind_report *report)
{
    return report->by_weeks && report->known[IND_REPORT_WEEK] ? IND_REPORT_WEEK : IND_REPORT_BEFORE;
}
/* What each device and all together are compared with, and how they stand. */
void ind_report_compare(struct ind_report *report);

#endif
