/* collect/alert/courier.h: takes letters where they are to go: a thread for each way, which may wait as long
 * as the other side lets it, up to a minute. */
#ifndef IND_COLLECT_ALERT_COURIER_H
#define IND_COLLECT_ALERT_COURIER_H

#include "collect/alert/programs.h"
#include "config/config.h"
#include "thread/mutex.h"

#include <stdatomic.h>

/* What is taken. Its texts are its own, made by malloc; NULL where the way does not need them. */
struct ind_parcel {
    enum ind_tell_kind kind;
    char *to;                    /* as in struct ind_tell */
    char **program;              /* borrowed: good as long as the courier */
    char *subject, *text, *page; /* of a mail, and of terminals: `text` */
    char *id;                    /* of a mail, "12.opened.1795408000": its Message-ID before the host; */
    char *thread;                /* "12": that of all mails about one alert, or NULL */
    char *object;                /* JSON */
    char *attachment, *attached; /* of a mail: a page that goes with it, and its name; NULL: none */
};

/* Frees what is in it. */
void ind_parcel_free(struct ind_parcel parcel);

/* How all of them go. Texts are copied. */
struct ind_courier_settings {
    const char *host; /* of this machine */
    const struct ind_mail *mail;
    long patience; /* seconds for a mail or a post; 0: a minute */
    struct ind_programs *programs;
    void (*ended)(void *context); /* one has come to its end; called from its thread */
    void *context;
};

struct ind_courier;

/* Once, before the first mail or post is delivered. A configuration that is taken up anew may be the first to
 * have one, when there are threads: libcurl from 7.84 on allows that. */
void ind_courier_begin(void);

/* New, with a thread of its own. NULL where it cannot be started. */
struct ind_courier *ind_courier_new(const struct ind_courier_settings *settings);
/* Breaks off what is under way; waits for the thread. Accepts NULL. */
void ind_courier_free(struct ind_courier *courier);

/* Takes over what is in the parcel. Only where the last one has come to its end. */
void ind_courier_send(struct ind_courier *courier, const struct ind_parcel *parcel);
/* Whether the last one has come to its end since the last call: delivered, or not, with the reason. */
bool ind_courier_has_ended(struct ind_courier *courier, bool *delivered, char *reason, size_t room);

/* ---- How each kind goes; false with the reason. `stop`: ends it early. ---- */

struct ind_courier_mail {
    char *server, *from, *login, *trust, *host;
    bool tls_at_once, plain;
};

/* How long a call may take, in seconds, and what ends it early. */
struct ind_delivery_limits {
    long patience;
    atomic_bool *stop;
};
bool ind_deliver_mail(const struct ind_courier_mail *mail, const struct ind_parcel *parcel,
                      const struct ind_delivery_limits *limits, char *reason, size_t room);
bool ind_deliver_post(const struct ind_parcel *parcel, const struct ind_delivery_limits *limits, char *reason,
                      size_t room);
bool ind_deliver_program(struct ind_programs *programs, const struct ind_parcel *parcel, atomic_bool *stop,
                         char *reason, size_t room);
/* To all who are logged in, or those of parcel->to; true also where nobody is. */
bool ind_deliver_terminals(const struct ind_parcel *parcel, char *reason, size_t room);

#endif
