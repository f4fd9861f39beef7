#include "collect/control/pending.h"

#include "collect/control/answer.h"
#include <stdlib.h>
#include <utlist.h>

enum { MOST_PENDING = 256 };

/* Somebody waits for an answer. `request` is NULL once it has gone away. */
struct ind_pending {
    struct ind_pending *prev, *next;
    enum ind_form_of_status form; /* of a status */
    struct evhttp_request *request;
};

static void on_gone(struct evhttp_connection *connection, void *context)
{
    struct ind_pending *pending = context;
    (void)connection;
    if (!evhttp_request_get_connection(pending->request))
        evhttp_request_free(pending->request);
    pending->request = NULL;
}

bool ind_pending_put_off(struct ind_pending **list, struct evhttp_request *request,
                         enum ind_form_of_status form)
{
    struct ind_pending *pending, *other;
    size_t count;
    DL_COUNT(*list, other, count);
    pending = count < MOST_PENDING ? calloc(1, sizeof *pending) : NULL;
    if (!pending) {
        ind_answer(request, HTTP_SERVUNAVAIL, "text/plain", "too many ask at once; try again\n");
        return false;
    }
    pending->request = request;
    pending->form = form;
    evhttp_connection_set_closecb(evhttp_request_get_connection(request), on_gone, pending);
    DL_APPEND(*list, pending);
    return true;
}

void ind_pending_answer_each(struct ind_pending **list,
                             void (*answer)(void *context, struct evhttp_request *request), void *context)
{
    struct ind_pending *pending, *next;
    DL_FOREACH_SAFE(*list, pending, next)
    {
        DL_DELETE(*list, pending);
        if (pending->request) {
            evhttp_connection_set_closecb(evhttp_request_get_connection(pending->request), NULL, NULL);
            answer(context, pending->request);
        }
        free(pending);
    }
}

struct same_answer {
    int code;
    const char *type, *text;
};

static void answer_same(void *context, struct evhttp_request *request)
{
    const struct same_answer *same = context;
    ind_answer(request, same->code, same->type, same->text);
}

void ind_pending_answer_all(struct ind_pending **list, int code, const char *type, const char *text)
{
    struct same_answer same = {code, type, text};
    ind_pending_answer_each(list, answer_same, &same);
}

bool ind_pending_pop(struct ind_pending **list, struct ind_pending **next)
{
    bool any = *next != NULL;
    DL_CONCAT(*list, *next);
    *next = NULL;
    return any;
}

struct ind_pending *ind_pending_take(struct ind_pending **list, enum ind_form_of_status form)
{
    struct ind_pending *pending, *next, *taken = NULL;
    DL_FOREACH_SAFE(*list, pending, next)
    if (pending->form == form) {
        DL_DELETE(*list, pending);
        DL_APPEND(taken, pending);
    }
    return taken;
}

bool ind_pending_waits(const struct ind_pending *list, enum ind_form_of_status form)
{
    for (; list; list = list->next)
        if (list->form == form)
            return true;
    return false;
}
