#include "collect/alert/courier.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PATIENCE = 60 };

struct ind_courier {
    struct ind_courier_mail mail;
    long patience;
    struct ind_programs *programs;
    void (*told_of_end)(void *context);
    void *context;
    pthread_t thread;
    bool running;
    atomic_bool stop;

    struct ind_mutex mutex;
    struct ind_condition_variable changed;
    struct ind_parcel parcel IND_GUARDED_BY(mutex);
    bool has_parcel IND_GUARDED_BY(mutex), ended IND_GUARDED_BY(mutex), delivered IND_GUARDED_BY(mutex);
    char reason[200] IND_GUARDED_BY(mutex);
};

static void free_parcel(struct ind_parcel *parcel)
{
    free(parcel->to);
    free(parcel->subject);
    free(parcel->text);
    free(parcel->page);
    free(parcel->id);
    free(parcel->thread);
    free(parcel->object);
    free(parcel->attachment);
    free(parcel->attached);
    *parcel = (struct ind_parcel){0};
}

void ind_parcel_free(struct ind_parcel parcel)
{
    free_parcel(&parcel);
}

static bool deliver(struct ind_courier *courier, const struct ind_parcel *parcel, char *reason, size_t room)
{
    const bool mail = parcel->kind == IND_TELL_MAIL;
    const bool object = parcel->kind == IND_TELL_POST || parcel->kind == IND_TELL_PROGRAM;
    if ((mail && !(parcel->subject && parcel->text && parcel->page && parcel->id)) ||
        (object && !parcel->object) || (parcel->kind == IND_TELL_TERMINALS && !parcel->text)) {
        snprintf(reason, room, "out of memory");
        return false;
    }
    const struct ind_delivery_limits limits = {courier->patience, &courier->stop};
    switch (parcel->kind) {
    case IND_TELL_MAIL:
        return ind_deliver_mail(&courier->mail, parcel, &limits, reason, room);
    case IND_TELL_POST:
        return ind_deliver_post(parcel, &limits, reason, room);
    case IND_TELL_PROGRAM:
        return ind_deliver_program(courier->programs, parcel, &courier->stop, reason, room);
    case IND_TELL_TERMINALS:
        return ind_deliver_terminals(parcel, reason, room);
    case IND_TELL_MESSAGE:
        break; /* whoever files messages has it already */
    }
    return true;
}

static void *run(void *context)
{
    struct ind_courier *courier = context;
    ind_mutex_lock(&courier->mutex);
    while (!atomic_load(&courier->stop)) {
        char reason[sizeof courier->reason] = "";
        if (!courier->has_parcel) {
            ind_condition_variable_wait(&courier->changed, &courier->mutex);
            continue;
        }
        struct ind_parcel parcel = courier->parcel;
        courier->parcel = (struct ind_parcel){0};
        courier->has_parcel = false;
        ind_mutex_unlock(&courier->mutex);
        const bool delivered = deliver(courier, &parcel, reason, sizeof reason);
        free_parcel(&parcel);
        ind_mutex_lock(&courier->mutex);
        courier->ended = true;
        courier->delivered = delivered;
        memcpy(courier->reason, reason, sizeof reason);
        ind_mutex_unlock(&courier->mutex);
        courier->told_of_end(courier->context);
        ind_mutex_lock(&courier->mutex);
    }
    ind_mutex_unlock(&courier->mutex);
    return NULL;
}

static char *copy_of(const char *text, bool *whole)
{
    char *copy = text ? strdup(text) : NULL;
    *whole &= !text || copy;
    return copy;
}

IND_NOT_SHARED struct ind_courier *ind_courier_new(const struct ind_courier_settings *settings)
{
    struct ind_courier *courier = calloc(1, sizeof *courier);
    bool whole = courier != NULL;
    sigset_t all, before; /* signals are for the control thread alone */
    if (!courier)
        return NULL;
    ind_mutex_begin(&courier->mutex);
    ind_condition_variable_begin(&courier->changed);
    courier->mail = (struct ind_courier_mail){.server = copy_of(settings->mail->server, &whole),
                                              .from = copy_of(settings->mail->from, &whole),
                                              .login = copy_of(settings->mail->login, &whole),
                                              .trust = copy_of(settings->mail->trust, &whole),
                                              .host = copy_of(settings->host, &whole),
                                              .tls_at_once = settings->mail->tls_at_once,
                                              .plain = settings->mail->plain};
    courier->patience = settings->patience ? settings->patience : PATIENCE;
    courier->programs = settings->programs;
    courier->told_of_end = settings->ended;
    courier->context = settings->context;
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before);
    courier->running = whole && pthread_create(&courier->thread, NULL, run, courier) == 0;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (courier->running)
        return courier;
    ind_courier_free(courier);
    return NULL;
}

IND_NOT_SHARED void ind_courier_free(struct ind_courier *courier)
{
    if (!courier)
        return;
    ind_mutex_lock(&courier->mutex);
    atomic_store(&courier->stop, true);
    ind_condition_variable_signal(&courier->changed);
    ind_mutex_unlock(&courier->mutex);
    if (courier->running)
        pthread_join(courier->thread, NULL);
    free_parcel(&courier->parcel);
    ind_condition_variable_end(&courier->changed);
    ind_mutex_end(&courier->mutex);
    free(courier->mail.server);
    free(courier->mail.from);
    free(courier->mail.login);
    free(courier->mail.trust);
    free(courier->mail.host);
    free(courier);
}

void ind_courier_send(struct ind_courier *courier, const struct ind_parcel *parcel)
{
    ind_mutex_lock(&courier->mutex);
    courier->parcel = *parcel;
    courier->has_parcel = true;
    courier->ended = false;
    ind_condition_variable_signal(&courier->changed);
    ind_mutex_unlock(&courier->mutex);
}

bool ind_courier_has_ended(struct ind_courier *courier, bool *delivered, char *reason, size_t room)
{
    ind_mutex_lock(&courier->mutex);
    const bool ended = courier->ended;
    courier->ended = false;
    *delivered = courier->delivered;
    snprintf(reason, room, "%s", courier->reason);
    ind_mutex_unlock(&courier->mutex);
    return ended;
}
