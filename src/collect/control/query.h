/* collect/control/query.h: the queries of what is asked over HTTP: bytes of strangers. */
#ifndef IND_COLLECT_CONTROL_QUERY_H
#define IND_COLLECT_CONTROL_QUERY_H

#include <event2/http.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/queue.h>

#include <event2/keyvalq_struct.h>

enum { IND_QUERY_LISTENERS = 64 };

/* Of /pause and /resume. */
struct ind_pause_query {
    const char *listeners[IND_QUERY_LISTENERS]; /* borrowed from `pairs` */
    size_t count;
    int64_t after; /* nanoseconds */
    struct evkeyvalq pairs;
};

/* `text`: without its question mark, or NULL. False with `reason` set where something is wrong with it; to be
 * cleared otherwise. */
bool ind_pause_query_read(const char *text, struct ind_pause_query *query, const char **reason);
void ind_pause_query_clear(struct ind_pause_query *query);

/* Of /protect. */
struct ind_protect_query {
    const char *archives[IND_QUERY_LISTENERS]; /* borrowed from `pairs`, as `why`, which may be NULL */
    size_t count;
    const char *why;
    bool off;
    struct evkeyvalq pairs;
};

/* As above: false where something is wrong with it, or there is no archive. */
bool ind_protect_query_read(const char *text, struct ind_protect_query *query);
void ind_protect_query_clear(struct ind_protect_query *query);

/* Of /alerts/…: an alert's name, and what else is there. */
struct ind_alert_query {
    const char *alert; /* borrowed from `pairs`, as all that follow, which may be NULL */
    const char *key, *who, *note;
    int64_t span; /* "for", in milliseconds: nanoseconds; 0: none */
    struct evkeyvalq pairs;
};

/* As above: false where something is wrong with it, or there is no alert. */
bool ind_alert_query_read(const char *text, struct ind_alert_query *query);
void ind_alert_query_clear(struct ind_alert_query *query);

/* The value of a key, new, to be freed; NULL where there is none, or it cannot be read. */
char *ind_query_value(const char *text, const char *key);
/* Whether that is "1". */
bool ind_query_wants(const char *text, const char *key);

/* Of a request; or NULL. */
static inline const char *ind_query_of(struct evhttp_request *request)
{
    return evhttp_uri_get_query(evhttp_request_get_evhttp_uri(request));
}

#endif
