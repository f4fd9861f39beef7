/* trial/learn.h: patterns proposed for messages that none of the configuration fits. What masks hide is not
 * learned. Belongs to one thread; memory is bounded (core/learn/learn.h). */
#ifndef IND_TRIAL_LEARN_H
#define IND_TRIAL_LEARN_H

#include "config/config.h"
#include "core/learn/learn.h"

struct ind_learning;

/* New; borrows the configuration. `check`: the pattern of that name is looked at as if it was new; empty:
 * none. NULL where memory is out, or there is no such pattern (*unknown). */
struct ind_learning *ind_learning_new(const struct ind_config *config, struct ind_slice check, bool *unknown);
void ind_learning_free(struct ind_learning *learning);

/* One message. False where memory is out. */
bool ind_learning_take(struct ind_learning *learning, struct ind_slice app, struct ind_slice text);

struct ind_proposed_field {
    struct ind_slice name, value; /* of the first example */
};

struct ind_proposed_layout {
    const struct ind_learned *learned;
    struct ind_slice examples[IND_LEARN_EXAMPLES];
    size_t example_count;
    struct ind_proposed_field *fields; /* with names, of the first example */
    size_t field_count;
};

struct ind_proposed_pattern {
    char name[80];
    struct ind_slice app; /* empty: of any */
    struct ind_proposed_layout *layouts;
    size_t layout_count;
    uint64_t count;
};

struct ind_learned_app {
    char app[IND_LEARN_APP];
    uint64_t messages, unfit;
};

enum { IND_LEARNED_APPS = 20, IND_CHECK_EXAMPLES = 5 };

/* Everything is borrowed from the learning. */
struct ind_learning_result {
    uint64_t messages,
        fit;          /* all; and of them those that some pattern fits (but the one that is looked at) */
    uint64_t covered; /* of the others: those that proposals fit */
    uint64_t checked; /* of the others: those that the pattern that is looked at fits */
    struct ind_slice check_examples[IND_CHECK_EXAMPLES];
    size_t check_example_count;
    uint64_t long_ones, rest;
    struct ind_proposed_pattern *patterns; /* the most frequent first */
    size_t pattern_count;
    size_t overlapping; /* layouts that were left out, since they fit what others do */
    struct ind_learned_app apps[IND_LEARNED_APPS]; /* with the most messages that no pattern fits */
    size_t app_count;
};

/* What is proposed, of at least so many messages each; `top`: so many patterns at most, 0: all. False where
 * memory is out. */
bool ind_learning_finish(struct ind_learning *learning, uint64_t at_least, size_t top,
                         struct ind_learning_result *result);

#endif
