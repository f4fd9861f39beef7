/* report/texts.h: what texts tell, which the catalog does not: events, and what the patterns of the library
 * say of logins, ports and interfaces; whose clock is off. All of it is read. */
#ifndef IND_REPORT_TEXTS_H
#define IND_REPORT_TEXTS_H

#include "report/report.h"

enum { IND_REPORT_EVENT_NAME = 200 };

/* An event, as `search --by event` names it. */
struct ind_report_event {
    UT_hash_handle hh;
    uint64_t now, before;
    unsigned worst; /* severity in the span */
    char name[];
};

/* How many there are of two values. */
struct ind_report_pair {
    char *values[2];
    uint64_t count;
};

struct ind_report_pairs {
    bool asked;                   /* the patterns that tell of it are in use */
    struct ind_report_pair *list; /* the most first */
    size_t count;
    bool cut; /* there are more than can be told apart */
};

enum ind_report_topic {
    IND_REPORT_LOGINS,     /* that failed: address and user */
    IND_REPORT_PORTS,      /* that were denied: port and protocol */
    IND_REPORT_INTERFACES, /* that changed their state: device and interface */
    IND_REPORT_CLOCKS,     /* that are off by five minutes or more: device, and nothing */
    IND_REPORT_TOPICS
};

struct ind_report_texts {
    struct ind_report_event *events; /* by name */
    size_t event_count;
    bool events_cut;
    struct ind_report_pairs topics[IND_REPORT_TOPICS];
};

struct ind_search_file;
/* Reads the files: of the span, and for events also of the span before. To be freed either way. */
bool ind_report_read_texts(const struct ind_report *report, const struct ind_search_file *files, size_t count,
                           struct ind_report_texts *texts);
void ind_report_texts_free(struct ind_report_texts *texts);

#endif
