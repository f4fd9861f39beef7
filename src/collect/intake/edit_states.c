#include "collect/intake/edit_states.h"

#include "thread/mutex.h"
#include <stdlib.h>

enum { STRIPES = 64, STRIPE_SHIFT = 58 };

_Static_assert(STRIPES == UINT64_C(1) << (64 - STRIPE_SHIFT), "the upper bits of a key choose one");

struct stripe {
    struct ind_mutex mutex;
    struct ind_edit_state *state IND_GUARDED_BY(mutex);
};

struct ind_edit_states {
    struct stripe stripes[STRIPES];
    void (*report)(void *context, const struct ind_edit_report *report);
    void *context;
};

IND_NOT_SHARED struct ind_edit_states *
ind_edit_states_new(void (*report)(void *context, const struct ind_edit_report *report), void *context)
{
    struct ind_edit_states *states = calloc(1, sizeof *states);
    bool good = states != NULL;
    for (size_t i = 0; states && i < STRIPES; i++) {
        ind_mutex_begin(&states->stripes[i].mutex);
        states->stripes[i].state = ind_edit_state_new(IND_EDIT_STATE_ENTRIES / STRIPES);
        good &= states->stripes[i].state != NULL;
    }
    if (!good) {
        ind_edit_states_free(states);
        return NULL;
    }
    states->report = report;
    states->context = context;
    return states;
}

IND_NOT_SHARED void ind_edit_states_free(struct ind_edit_states *states)
{
    if (!states)
        return;
    for (size_t i = 0; i < STRIPES; i++) {
        ind_edit_state_free(states->stripes[i].state);
        ind_mutex_end(&states->stripes[i].mutex);
    }
    free(states);
}

/* The lower bits of a key choose its place in a table. */
static struct stripe *stripe_of(struct ind_edit_states *states, uint64_t key)
{
    return &states->stripes[key >> STRIPE_SHIFT];
}

bool ind_edit_states_ask(struct ind_edit_states *states, const struct ind_edit *edit,
                         const struct ind_message *message, struct ind_steady now, uint64_t *key)
{
    struct ind_edit_report report;
    bool due;
    *key = 0;
    if (message->transport == IND_TRANSPORT_INTERNAL)
        return true;
    *key = ind_edit_state_key(edit, message);
    struct stripe *stripe = stripe_of(states, *key);
    ind_mutex_lock(&stripe->mutex);
    bool goes_on = ind_edit_state_ask(stripe->state, *key, edit, now, &report, &due);
    ind_mutex_unlock(&stripe->mutex);
    if (due)
        states->report(states->context, &report);
    return goes_on;
}

void ind_edit_states_settle(struct ind_edit_states *states, uint64_t key, const struct ind_message *message)
{
    struct stripe *stripe = stripe_of(states, key);
    ind_mutex_lock(&stripe->mutex);
    ind_edit_state_settle(stripe->state, key, message->device, message->text);
    ind_mutex_unlock(&stripe->mutex);
}

size_t ind_edit_states_report(struct ind_edit_states *states, struct ind_steady now, bool all, size_t most)
{
    size_t count = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &states->stripes[i];
        struct ind_edit_report report;
        uint32_t from = 0;
        for (bool due = true; due && count < most; count += due) {
            ind_mutex_lock(&stripe->mutex);
            due = ind_edit_state_due(stripe->state, now, all, &from, &report);
            ind_mutex_unlock(&stripe->mutex);
            if (due)
                states->report(states->context, &report);
        }
    }
    return count;
}

void ind_edit_states_count(struct ind_edit_states *states, uint64_t *entries, uint64_t *evicted)
{
    *entries = *evicted = 0;
    for (size_t i = 0; i < STRIPES; i++) {
        struct stripe *stripe = &states->stripes[i];
        ind_mutex_lock(&stripe->mutex);
        *entries += ind_edit_state_count(stripe->state);
        *evicted += ind_edit_state_evicted(stripe->state);
        ind_mutex_unlock(&stripe->mutex);
    }
}
