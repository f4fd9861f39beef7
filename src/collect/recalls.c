#include "collect/recalls.h"

#include <pthread.h>
#include <stdlib.h>

enum { STRIPES = 64 };

struct stripe {
    pthread_mutex_t mutex;
    struct ind_edit_state *recall;
};

struct ind_edit_states {
    struct stripe stripes[STRIPES];
    void (*tell)(void *context, const struct ind_edit_report *news);
    void *context;
};

struct ind_edit_states *ind_edit_states_new(void (*tell)(void *context, const struct ind_edit_report *news),
                                            void *context)
{
    struct ind_edit_states *recalls = calloc(1, sizeof *recalls);
    bool good = recalls != NULL;
    for (size_t i = 0; recalls && i < STRIPES; i++) {
        pthread_mutex_init(&recalls->stripes[i].mutex, NULL);
        recalls->stripes[i].recall = ind_edit_state_new(IND_EDIT_STATE_ENTRIES / STRIPES);
        good &= recalls->stripes[i].recall != NULL;
    }
    if (!good) {
        ind_edit_states_free(recalls);
        return NULL;
    }
    recalls->tell = tell;
    recalls->context = context;
    return recalls;
}

void ind_edit_states_free(struct ind_edit_states *recalls)
{
    if (!recalls)
        return;
    for (size_t i = 0; i < STRIPES; i++) {
        ind_edit_state_free(recalls->stripes[i].recall);
        pthread_mutex_destroy(&recalls->stripes[i].mutex);
    }
    free(recalls);
}

/* The lower bits of a key choose its place in a table. */
static struct stripe *stripe_of(struct ind_edit_states *recalls, uint64_t key)
{
    return &recalls->stripes[key >> 58];
}

bool ind_edit_states_ask(struct ind_edit_states *recalls, const struct ind_edit *edit,
                         const struct ind_message *message, struct ind_steady now, uint64_t *key)
{
    struct ind_edit_report news;
    bool told;
    *key = 0;
    if (message->transport == IND_TRANSPORT_INTERNAL)
        return true;
    *key = ind_edit_state_key(edit, message);
    struct stripe *stripe = stripe_of(recalls, *key);
    pthread_mutex_lock(&stripe->mutex);
    bool goes_on = ind_edit_state_ask(stripe->recall, *key, edit, now, &news, &told);
    pthread_mutex_unlock(&stripe->mutex);
    if (told)
        recalls->tell(recalls->context, &news);
    return goes_on;
}

void ind_edit_states_settle(struct ind_edit_states *recalls, uint64_t key, const struct ind_message *message)
{
    struct stripe *stripe = stripe_of(recalls, key);
    pthread_mutex_lock(&stripe->mutex);
    ind_edit_state_settle(stripe->recall, key, message->device, message->text);
    pthread_mutex_unlock(&stripe->mutex);
}

size_t ind_edit_states_report(struct ind_edit_states *recalls, struct ind_steady now, bool all, size_t most)
{
    size_t count = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &recalls->stripes[i];
        struct ind_edit_report news;
        uint32_t from = 0;
        for (bool told = true; told && count < most; count += told) {
            pthread_mutex_lock(&stripe->mutex);
            told = ind_edit_state_due(stripe->recall, now, all, &from, &news);
            pthread_mutex_unlock(&stripe->mutex);
            if (told)
                recalls->tell(recalls->context, &news);
        }
    }
    return count;
}

void ind_edit_states_count(struct ind_edit_states *recalls, uint64_t *entries, uint64_t *evicted)
{
    *entries = *evicted = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &recalls->stripes[i];
        pthread_mutex_lock(&stripe->mutex);
        *entries += ind_edit_state_count(stripe->recall);
        *evicted += ind_edit_state_evicted(stripe->recall);
        pthread_mutex_unlock(&stripe->mutex);
    }
}
