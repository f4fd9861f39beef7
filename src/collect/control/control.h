/* collect/control/control.h: the control thread: signals, and the control socket, an HTTP server on a local
 * stream socket (docs/formats.md):
 *
 *     GET  /status                 the ledger and the rest, as JSON
 *     GET  /follow?when=&layout=   messages as they come
 *     POST /rotate?due=1           rotates live files
 *     POST /protect?archive=…      protects archives
 *     POST /reload                 reads the configuration again
 *     POST /pause?listener=&after= pauses listeners, all of them where none is named; after: milliseconds
 *     POST /resume?listener=       takes them up again
 *     POST /alerts/ack?alert=&key=&who=&note=   acknowledges alerts
 *     POST /alerts/mute?alert=&key=&who=&for=   does not tell them for so many milliseconds
 *     POST /alerts/test?alert=     tells a test
 *
 * It never waits for another thread. What it needs done it asks of the actions that it was given, and goes
 * on; they wake it when there is something, and answer. */
#ifndef IND_COLLECT_CONTROL_CONTROL_H
#define IND_COLLECT_CONTROL_CONTROL_H

#include "collect/control/query.h"
#include "collect/control/server.h"
#include "collect/control/status.h"
#include "collect/queue/tap.h"
#include "collect/runtime/reporter.h"
#include "net/waker.h"

enum ind_alert_order { IND_ALERT_ORDER_ACK, IND_ALERT_ORDER_MUTE, IND_ALERT_ORDER_TEST };

/* What can be asked of a collector. All are called from the control thread, and return at once. */
struct ind_control_actions {
    void *context;
    /* Whether it has been asked to end: then nothing more may be asked. */
    bool (*ending)(void *context);
    void (*stop)(void *context);
    /* Ends in ind_control_give_status. */
    void (*snapshot)(void *context);
    /* Ends in ind_control_give_rotation. */
    void (*rotate)(void *context, bool only_due, bool clock_is_right);
    /* Protects an archive, or no more; `why` may be NULL. Ends in ind_control_give_protection. */
    void (*protect)(void *context, const char *archive, bool on, const char *why);
    /* Ends in ind_control_give_reload; whether one is under way, so that another must wait. */
    void (*reload)(void *context);
    bool (*reloading)(void *context);
    /* After each wake: looks what is done. False: the collector is done, and the control thread with it. */
    bool (*look)(void *context);
    /* What is not well, worst first; room for IND_STATUS_REASONS. Returns how many. */
    size_t (*reasons)(void *context, struct ind_status_reason *reasons);
    /* Pauses listeners, or takes them up again: those named, or all. Return the code of the answer with its
     * text. */
    int (*pause)(void *context, const char *const *names, size_t count, int64_t after, char *text,
                 size_t room);
    int (*resume)(void *context, const char *const *names, size_t count, char *text, size_t room);
    /* What is asked of alerts; likewise. */
    int (*alert)(void *context, enum ind_alert_order order, const struct ind_alert_query *query, char *text,
                 size_t room);
    /* The present rules (config/outline.h); borrowed for the call. */
    const char *(*outline)(void *context);
    void (*often)(void *context);  /* four times a second */
    void (*second)(void *context); /* once a second */
};

struct ind_control;

/* New; copies the actions and borrows the rest. NULL where memory is out. */
struct ind_control *ind_control_new(const struct ind_control_actions *actions, struct ind_reporter *reporter);
void ind_control_free(struct ind_control *control);

/* Wakes it; as long as the control. */
const struct ind_waker *ind_control_waker(const struct ind_control *control);

/* Opens the control socket; without it the collector does its work all the same, which is reported. `names`:
 * of listeners, by their number. */
void ind_control_open(struct ind_control *control, struct ind_tap *tap, const struct ind_config *config,
                      const char *const *names);
/* Answers over HTTP at that socket from now on, which it takes over; -1: nowhere any more. False where memory
 * is out. */
bool ind_control_serve(struct ind_control *control, int socket);
/* Until `look` says that it is done. */
void ind_control_run(struct ind_control *control);

/* Has a snapshot taken, unless one is under way: for nobody who waits. */
void ind_control_take_snapshot(struct ind_control *control);
void ind_control_give_status(struct ind_control *control, const struct ind_status *status);
/* Where that would have to wait: the one that was given last, with what is wrong now. */
void ind_control_give_last_status(struct ind_control *control, const char *trouble);
void ind_control_give_rotation(struct ind_control *control, size_t rotated, size_t failed);
void ind_control_give_protection(struct ind_control *control); /* all that was asked for is done */
/* `text` as plain text unless the code is 200: then JSON. */
void ind_control_give_reload(struct ind_control *control, int code, const char *text);
/* Another reload may begin. True where somebody has asked for one meanwhile. */
bool ind_control_next_reload(struct ind_control *control);

/* Other rules are in force, for those who follow. */
void ind_control_adopt(struct ind_control *control, const struct ind_config *config);

#endif
