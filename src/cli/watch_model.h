/* cli/watch_model.h: what `watch` knows of a collector: its answers, one a second, and its severe messages.
 */
#ifndef IND_CLI_WATCH_MODEL_H
#define IND_CLI_WATCH_MODEL_H

#include "cli/status_view.h"
#include "core/base/slice.h"

#include <uthash.h>

enum {
    IND_WATCH_RATES = 600, /* seconds that are remembered */
    IND_WATCH_MESSAGES = 200,
    IND_WATCH_LINES = 6, /* of what is not well, or to be looked at */
    IND_WATCH_TEXT = 300
};

struct ind_watched_device {
    UT_hash_handle hh;
    uint64_t received, lost;
    double rate; /* messages a second, between the last two answers */
    ind_time last;
    char trouble[120]; /* "": none */
    bool is_here;      /* in the last answer */
    char name[];
};

struct ind_watched_message {
    char time[12], severity[12], device[64], text[IND_WATCH_TEXT];
};

struct ind_watch_model {
    bool answered, running; /* there was an answer; there is one now */
    ind_time now;           /* of the last answer, by the collector's clock */
    struct {
        enum ind_summary_kind kind;
        char text[IND_WATCH_TEXT];
    } lines[IND_WATCH_LINES];
    size_t line_count;
    uint64_t received, lost;
    double rate, rates[IND_WATCH_RATES]; /* the newest is the last; rates[0] where there are as many */
    size_t rate_count;
    double minutes[3]; /* messages a second over 1, 5 and 15 minutes */
    size_t minute_count;
    char listeners[IND_WATCH_TEXT], routes[IND_WATCH_TEXT], disk[IND_WATCH_TEXT];
    struct ind_watched_device *devices, **list; /* by name; in order */
    size_t device_count;
    struct ind_watched_message messages[IND_WATCH_MESSAGES]; /* a ring */
    size_t message_count, next_message;
    uint64_t skipped; /* messages that came too fast to be shown */
};

enum ind_watch_order { IND_WATCH_BY_TROUBLE, IND_WATCH_BY_RATE, IND_WATCH_BY_MESSAGES, IND_WATCH_BY_NAME };

/* An answer; NULL: there was none. `steady`: nanoseconds since the answer before. */
void ind_watch_take_status(struct ind_watch_model *model, const json_t *status, int64_t steady);
/* A line "TIME<tab>SEVERITY<tab>DEVICE<tab>TEXT". */
void ind_watch_take_message(struct ind_watch_model *model, struct ind_slice line);
/* Puts the devices in order; with a name only those that hold it. Returns how many. */
size_t ind_watch_order(struct ind_watch_model *model, enum ind_watch_order order, const char *name);
void ind_watch_model_free(struct ind_watch_model *model);

#endif
