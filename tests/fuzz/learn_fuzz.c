/* Any texts, a line each: what is learned of them is a layout that the pattern language takes, with a word
 * that is always there, and that fits its own examples. */
#include "core/learn/learn.h"
#include "core/pattern/pattern.h"

#include <stdio.h>
#include <stdlib.h>

static void check(const struct ind_learned *learned)
{
    struct ind_mistake mistake = {0};
    struct ind_patterns *set = ind_patterns_new();
    uint32_t number;
    if (!set || !ind_patterns_add(set, IND_SLICE("learned"), NULL, 0, &number))
        abort();
    if (!ind_patterns_add_syntax(set, number, learned->layout, &mistake)) {
        fprintf(stderr, "%.*s: %s\n", IND_ARG(learned->layout), mistake.text);
        abort();
    }
    if (learned->literals == 0 || learned->example_count == 0 || !ind_patterns_compile(set))
        abort();
    ind_patterns_free(set);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    struct ind_learned_all all;
    struct ind_slice rest = {(const char *)bytes, size}, line;
    struct ind_learner *learner = ind_learner_new();
    if (!learner)
        abort();
    while (ind_slice_line(&rest, &line)) {
        const size_t app = line.length && line.at[0] == '!' ? 1 : 0;
        if (!ind_learner_add(learner, (struct ind_slice){line.at, app}, ind_slice_from(line, app)))
            abort();
    }
    if (!ind_learner_finish(learner, 2, &all))
        abort();
    for (size_t i = 0; i < all.count; i++)
        check(&all.list[i]);
    ind_learned_free(&all);
    ind_learner_free(learner);
    return 0;
}
