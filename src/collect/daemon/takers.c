/* Listeners that take from message systems: a thread for each. */
#include "collect/daemon/collector_private.h"

#include <pthread.h>
#include <signal.h>

static bool flush(void *context)
{
    const struct ind_collector *collector = context;
    return ind_disk_flush(ind_store_disk(collector->store));
}

static struct ind_taker *start(struct ind_collector *collector, const struct ind_listen_item *item,
                               uint16_t number)
{
    const struct ind_taker_settings settings = {.item = item,
                                                .listener = number,
                                                .state = collector->rules->config->state,
                                                .book = collector->writer.filing.book,
                                                .reporter = &collector->reporter,
                                                .lifecycle = &collector->lifecycle,
                                                .flush = flush,
                                                .context = collector};
    sigset_t all, before; /* signals are for this thread alone */
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before);
    struct ind_taker *taker = ind_taker_new(&settings);
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (!taker)
        ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY,
                   IND_WITH({"listener", ind_slice_of(item->text)}), "out of memory: %s: nothing is taken",
                   item->text);
    return taker;
}

/* The item of the present rules, open, that a taker is for; NULL: there is none. */
static const struct ind_listen_item *item_of(const struct ind_collector *collector,
                                             const struct ind_taker *taker)
{
    const struct ind_listener_set *set = &collector->rules->listeners;
    for (size_t i = 0; i < set->count; i++) {
        const struct ind_listen_item *item = &set->config->listeners[set->item_of[i]];
        if (item->nats && ind_taker_is_for(taker, item))
            return item;
    }
    return NULL;
}

static void sweep(struct ind_collector *collector)
{
    for (size_t i = 0; i < IND_MOST_LISTENERS; i++) {
        struct ind_taker *taker = collector->takers[i];
        if (!taker)
            continue;
        if (!item_of(collector, taker))
            ind_taker_end(taker);
        if (!ind_taker_has_ended(taker))
            continue;
        ind_taker_free(taker);
        collector->takers[i] = NULL;
    }
}

/* One with other settings, which is still to end, is in the way of its successor: both say the same name. */
static bool is_there(const struct ind_collector *collector, const struct ind_listen_item *item)
{
    for (size_t i = 0; i < IND_MOST_LISTENERS; i++)
        if (collector->takers[i] && strcmp(ind_taker_name(collector->takers[i]), item->text) == 0)
            return true;
    return false;
}

void ind_takers_look(struct ind_collector *collector)
{
    const struct ind_listener_set *set = &collector->rules->listeners;
    if (ind_is_from_files(collector) || ind_is_stopping(&collector->lifecycle))
        return;
    sweep(collector);
    for (size_t i = 0; i < set->count; i++) {
        const struct ind_listen_item *item = &set->config->listeners[set->item_of[i]];
        size_t place = 0;
        while (place < IND_MOST_LISTENERS && collector->takers[place])
            place++;
        if (item->nats && !is_there(collector, item) && place < IND_MOST_LISTENERS)
            collector->takers[place] = start(collector, item, set->list[i]->number);
    }
}

size_t ind_takers_count(const struct ind_collector *collector, struct ind_taker_count *list)
{
    size_t count = 0;
    for (size_t i = 0; i < IND_MOST_LISTENERS; i++)
        if (collector->takers[i])
            ind_taker_read_count(collector->takers[i], &list[count++]);
    return count;
}

void ind_takers_end(struct ind_collector *collector)
{
    for (size_t i = 0; i < IND_MOST_LISTENERS; i++)
        if (collector->takers[i])
            ind_taker_end(collector->takers[i]);
    for (size_t i = 0; i < IND_MOST_LISTENERS; i++) {
        ind_taker_free(collector->takers[i]);
        collector->takers[i] = NULL;
    }
}
