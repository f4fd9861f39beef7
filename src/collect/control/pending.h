/* collect/control/pending.h: those who wait for an answer over HTTP until somebody else has worked it out. */
#ifndef IND_COLLECT_CONTROL_PENDING_H
#define IND_COLLECT_CONTROL_PENDING_H

#include <event2/http.h>
#include <stdbool.h>

/* As what a status is asked for. */
enum ind_form_of_status { IND_AS_STATUS, IND_AS_METRICS, IND_AS_OPENMETRICS, IND_AS_DEVICE, IND_AS_RECENT };

/* One who waits, in a list of his kind. */
struct ind_pending;

/* Adds one. False, and answered, where there is no room for it. */
bool ind_pending_put_off(struct ind_pending **list, struct evhttp_request *request,
                         enum ind_form_of_status form);
/* Answers all of a list, which is empty then. */
void ind_pending_answer_all(struct ind_pending **list, int code, const char *type, const char *text);
/* Has each request of a list answered by `answer`; the list is empty then. */
void ind_pending_answer_each(struct ind_pending **list,
                             void (*answer)(void *context, struct evhttp_request *request), void *context);
/* Puts those of `next` into the list. True where there were any. */
bool ind_pending_pop(struct ind_pending **list, struct ind_pending **next);
/* Those who wait for that form, out of the list; and whether there are any. */
struct ind_pending *ind_pending_take(struct ind_pending **list, enum ind_form_of_status form);
bool ind_pending_waits(const struct ind_pending *list, enum ind_form_of_status form);

#endif
