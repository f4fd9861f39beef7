/* core/learn/learn.h: layouts of texts that nobody has described, found from the texts alone.
 *
 * Texts whose tokens (core/learn/tokens.h) are of the same kinds, with the same signs between, have one
 * shape; those of a shape with the same words are one variant. A shape is then taken apart by the words that
 * go together: what is left of it varies, and becomes fields. Nothing depends on the order of the texts:
 * where there is no room for all variants, those with the smallest hashes are kept.
 *
 * Belongs to one thread. Memory is bounded (IND_LEARN_MEMORY); steps are linear in what is added. */
#ifndef IND_CORE_LEARN_LEARN_H
#define IND_CORE_LEARN_LEARN_H

#include "core/base/slice.h"

#include <stdint.h>

struct ind_learner;

enum { IND_LEARN_EXAMPLES = 3, IND_LEARN_APP = 64 };

/* New. NULL where memory is out. */
struct ind_learner *ind_learner_new(void);
void ind_learner_free(struct ind_learner *learner);

/* A text of that app (empty: of none). False where memory is out. */
bool ind_learner_add(struct ind_learner *learner, struct ind_slice app, struct ind_slice text);

struct ind_learned {
    struct ind_slice app;    /* empty: of none */
    struct ind_slice layout; /* in the pattern language */
    uint64_t count;          /* texts that it was found in */
    bool estimated;          /* there was no room for all variants: the count is extrapolated */
    struct ind_slice examples[IND_LEARN_EXAMPLES];
    size_t example_count;
    size_t literals; /* words in it */
};

struct ind_learned_all {
    struct ind_learned *list; /* the most frequent first */
    size_t count;
    uint64_t texts;     /* that were added */
    uint64_t long_ones; /* of them: too long, or of too many parts */
    uint64_t rest;      /* without an order that was seen at least so often */
};

/* What has been found, of at least so many texts each. New; freed by ind_learned_free; borrowed from the
 * learner are its texts. False where memory is out. */
bool ind_learner_finish(struct ind_learner *learner, uint64_t at_least, struct ind_learned_all *all);
void ind_learned_free(struct ind_learned_all *all);

#endif
