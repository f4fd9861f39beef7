#include "collect/recalls.h"

#include <pthread.h>
#include <stdlib.h>

enum { STRIPES = 64 };

struct stripe {
    pthread_mutex_t mutex;
    struct ind_recall *recall;
};

struct ind_recalls {
    struct stripe stripes[STRIPES];
    void (*tell)(void *context, const struct ind_recall_news *news);
    void *context;
};

struct ind_recalls *ind_recalls_new(void (*tell)(void *context, const struct ind_recall_news *news),
                                    void *context)
{
    struct ind_recalls *recalls = calloc(1, sizeof *recalls);
    bool good = recalls != NULL;
    for (size_t i = 0; recalls && i < STRIPES; i++) {
        pthread_mutex_init(&recalls->stripes[i].mutex, NULL);
        recalls->stripes[i].recall = ind_recall_new(IND_RECALLED / STRIPES);
        good &= recalls->stripes[i].recall != NULL;
    }
    if (!good) {
        ind_recalls_free(recalls);
        return NULL;
    }
    recalls->tell = tell;
    recalls->context = context;
    return recalls;
}

void ind_recalls_free(struct ind_recalls *recalls)
{
    if (!recalls)
        return;
    for (size_t i = 0; i < STRIPES; i++) {
        ind_recall_free(recalls->stripes[i].recall);
        pthread_mutex_destroy(&recalls->stripes[i].mutex);
    }
    free(recalls);
}

/* The lower bits of a key choose its place in a table. */
static struct stripe *stripe_of(struct ind_recalls *recalls, uint64_t key)
{
    return &recalls->stripes[key >> 58];
}

bool ind_recalls_ask(struct ind_recalls *recalls, const struct ind_edit *edit,
                     const struct ind_message *message, struct ind_steady now, uint64_t *key)
{
    struct ind_recall_news news;
    bool told;
    *key = 0;
    if (message->transport == IND_TRANSPORT_INTERNAL)
        return true;
    *key = ind_recall_key(edit, message);
    struct stripe *stripe = stripe_of(recalls, *key);
    pthread_mutex_lock(&stripe->mutex);
    bool goes_on = ind_recall_ask(stripe->recall, *key, edit, now, &news, &told);
    pthread_mutex_unlock(&stripe->mutex);
    if (told)
        recalls->tell(recalls->context, &news);
    return goes_on;
}

void ind_recalls_settle(struct ind_recalls *recalls, uint64_t key, const struct ind_message *message)
{
    struct stripe *stripe = stripe_of(recalls, key);
    pthread_mutex_lock(&stripe->mutex);
    ind_recall_settle(stripe->recall, key, message->device, message->text);
    pthread_mutex_unlock(&stripe->mutex);
}

size_t ind_recalls_tell(struct ind_recalls *recalls, struct ind_steady now, bool all, size_t most)
{
    size_t count = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &recalls->stripes[i];
        struct ind_recall_news news;
        uint32_t from = 0;
        for (bool told = true; told && count < most; count += told) {
            pthread_mutex_lock(&stripe->mutex);
            told = ind_recall_due(stripe->recall, now, all, &from, &news);
            pthread_mutex_unlock(&stripe->mutex);
            if (told)
                recalls->tell(recalls->context, &news);
        }
    }
    return count;
}

void ind_recalls_count(struct ind_recalls *recalls, uint64_t *entries, uint64_t *evicted)
{
    *entries = *evicted = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &recalls->stripes[i];
        pthread_mutex_lock(&stripe->mutex);
        *entries += ind_recall_count(stripe->recall);
        *evicted += ind_recall_evicted(stripe->recall);
        pthread_mutex_unlock(&stripe->mutex);
    }
}
