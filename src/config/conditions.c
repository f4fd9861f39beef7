/* config/conditions.c: named conditions, and the conditions of rules that use them. */
#include "config/load.h"
#include "core/message/names.h"

#include <stdlib.h>

static bool check_condition_name(struct ind_loader *loader, const struct ind_node *key)
{
    static const char *const words[] = {"and",      "or",      "not",      "is",       "in",
                                        "at",       "least",   "most",     "contains", "starts",
                                        "with",     "within",  "present",  "absent",   "ends",
                                        "mentions", "matches", "ignoring", "case"};
    struct ind_slice name = key->text;
    bool good = name.length && ind_is_alpha(name.at[0]);
    for (size_t i = 0; i < name.length; i++)
        good &=
            ind_is_alpha(name.at[i]) || ind_is_digit(name.at[i]) || name.at[i] == '-' || name.at[i] == '_';
    if (!good) {
        ind_wrong(loader, key, "a condition's name is a letter, then letters, digits, - and _");
        return false;
    }
    const char *what = ind_field_read(name) >= 0 ? "a field" : NULL;
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        what = ind_slice_equal_nocase(name, ind_slice_of(words[i])) ? "a word of the language" : what;
    what = ind_facility_read(name) >= 0 ? "a facility" : ind_severity_read(name) >= 0 ? "a severity" : what;
    if (what)
        ind_wrong(loader, key, "\"%.*s\" is %s; give the condition another name", IND_ARG(name), what);
    return !what;
}

enum { DEEPEST_NAMES = 50 };

/* Names are read when first used, so that their order does not matter. */
static enum ind_resolved read_named(struct ind_loader *loader, size_t index, ind_condition *condition)
{
    struct ind_named_text *named = &loader->named[index];
    struct ind_config *config = loader->config;
    if (named->state == IND_NAMED_READING)
        return IND_RESOLVED_CIRCLE;
    if (named->state == IND_NAMED_UNREAD) {
        struct ind_mistake mistake = {0};
        named->state = IND_NAMED_READING;
        if (++loader->named_depth > DEEPEST_NAMES)
            ind_mistake_say(&mistake, 0, named->value->text.length,
                            "named conditions that use others more than 50 deep; write some of them out",
                            IND_NOTHING, "", IND_NOTHING, "");
        bool good =
            !mistake.made && ind_condition_read(config->conditions, named->value->text, &config->named,
                                                &config->named_conditions[index], &mistake);
        loader->named_depth--;
        named->state = good ? IND_NAMED_READ : IND_NAMED_BROKEN;
        bool warning =
            good && ind_condition_warn(config->conditions, config->named_conditions[index], false, &mistake);
        if (mistake.made)
            ind_wrong_inside(loader, named->value, &mistake, warning);
        if (good)
            ind_keep_condition(loader, named->value, config->named_conditions[index]);
    }
    *condition = config->named_conditions[index];
    return named->state == IND_NAMED_READ ? IND_RESOLVED : IND_RESOLVED_BROKEN;
}

static enum ind_resolved resolve(void *context, size_t index, ind_condition *condition)
{
    struct ind_loader *loader = context;
    loader->named[index].used = true;
    return read_named(loader, index, condition);
}

static enum ind_resolved resolve_loaded(void *context, size_t index, ind_condition *condition)
{
    *condition = ((const ind_condition *)context)[index];
    return IND_RESOLVED;
}

void ind_load_conditions(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    size_t good = 0;
    for (size_t i = 0; i < loader->named_count; i++) {
        struct ind_named_text *named = &loader->named[i];
        bool twice = false;
        for (size_t j = 0; j < good; j++)
            twice |= ind_slice_equal(loader->named[j].key->text, named->key->text);
        if (twice)
            ind_wrong(loader, named->key,
                      "the condition \"%.*s\" is named already; give this one another name",
                      IND_ARG(named->key->text));
        else if (check_condition_name(loader, named->key) &&
                 ind_expect_text(loader, named->value, "a condition"))
            loader->named[good++] = *named;
    }
    loader->named_count = good;
    config->named_conditions = calloc(good ? good : 1, sizeof *config->named_conditions);
    const char **names = calloc(good ? good : 1, sizeof *names);
    config->named_texts = calloc(good ? good : 1, sizeof *config->named_texts);
    if (!names || !config->named_conditions || !config->named_texts) {
        free(names);
        ind_no_memory(loader);
        return;
    }
    for (size_t i = 0; i < good; i++) {
        names[i] = ind_keep(loader, loader->named[i].key->text);
        config->named_texts[i] = ind_keep(loader, loader->named[i].value->text);
    }
    config->named = (struct ind_named){names, good, resolve, loader};
    for (size_t i = 0; i < good; i++) {
        ind_condition condition;
        (void)read_named(loader, i, &condition);
    }
}

const char *ind_read_when(struct ind_loader *loader, const struct ind_node *node, bool in_route,
                          ind_condition *when)
{
    struct ind_config *config = loader->config;
    struct ind_mistake mistake = {0};
    if (!ind_expect_text(loader, node, "a condition"))
        return NULL;
    bool good = ind_condition_read(config->conditions, node->text, &config->named, when, &mistake);
    bool warning = good && ind_condition_warn(config->conditions, *when, in_route, &mistake);
    if (mistake.made)
        ind_wrong_inside(loader, node, &mistake, warning);
    /* A condition broken elsewhere is reported there, but this rule must not be used. */
    if (!good && !mistake.made && loader->diagnostics->mistakes == 0)
        ind_wrong(loader, node, "this condition uses one that cannot be read");
    if (good)
        ind_keep_condition(loader, node, *when);
    return ind_keep(loader, node->text);
}

void ind_keep_condition(struct ind_loader *loader, const struct ind_node *node, ind_condition condition)
{
    if (ind_grow(loader, &loader->conditions, &loader->condition_count, sizeof *loader->conditions))
        loader->conditions[loader->condition_count - 1] = (struct ind_condition_place){node, condition};
}

struct finding {
    struct ind_loader *loader;
    const struct ind_node *node;
};

static void report_unknown(void *context, const struct ind_mistake *mistake)
{
    const struct finding *finding = context;
    ind_wrong_inside(finding->loader, finding->node, mistake, true);
}

static void find_unknown(struct ind_loader *loader)
{
    struct ind_surroundings around;
    if (ind_surroundings_of(loader, &around))
        for (size_t i = 0; i < loader->condition_count; i++) {
            struct finding finding = {loader, loader->conditions[i].node};
            ind_condition_find_unknown(loader->config->conditions, loader->conditions[i].condition, &around,
                                       report_unknown, &finding);
        }
    ind_surroundings_free(&around);
}

void ind_finish_conditions(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    config->named.resolve = resolve_loaded;
    config->named.context = config->named_conditions;
    if (loader->diagnostics->mistakes == 0 && !loader->no_memory)
        find_unknown(loader);
    for (size_t i = 0; i < loader->named_count; i++)
        if (!loader->named[i].used && loader->diagnostics->mistakes == 0)
            ind_warn(loader, loader->named[i].key,
                     "no rule uses the condition \"%.*s\"; leave it out, unless you search by it",
                     IND_ARG(loader->named[i].key->text));
}

struct reading_set {
    const struct ind_config *config;
    struct ind_conditions *set;
    struct ind_named named;
    ind_condition *read; /* by name; IND_CONDITION_ALWAYS: not yet */
};

/* The configuration's own reading of them has shown that there are no circles and no mistakes. */
static enum ind_resolved resolve_into(void *context, size_t index, ind_condition *condition)
{
    struct reading_set *reading = context;
    struct ind_mistake mistake = {0};
    if (reading->read[index] == IND_CONDITION_ALWAYS &&
        !ind_condition_read(reading->set, ind_slice_of(reading->config->named_texts[index]), &reading->named,
                            &reading->read[index], &mistake))
        return IND_RESOLVED_BROKEN;
    *condition = reading->read[index];
    return IND_RESOLVED;
}

bool ind_config_condition(const struct ind_config *config, struct ind_slice text, struct ind_conditions **set,
                          ind_condition *condition, struct ind_mistake *mistake)
{
    *condition = IND_CONDITION_ALWAYS;
    *set = ind_conditions_new(ind_slice_of(config->domain), config->zone, config->patterns);
    ind_condition *read = calloc(config->named.count + 1, sizeof *read);
    struct reading_set reading = {
        config, *set, {config->named.names, config->named.count, resolve_into, &reading}, read};
    bool good = *set && read;
    if (good && text.length)
        good = ind_condition_read(*set, text, &reading.named, condition, mistake);
    if (good)
        (void)ind_conditions_compile(*set); /* without it it is slower, no more */
    free(read);
    return good;
}
