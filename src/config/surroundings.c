/* config/surroundings.c: what conditions will be asked in: labels that devices and edits give, listeners,
 * networks. */
#include "config/load.h"

#include <stdlib.h>

/* The value where it is always the same: a template of one literal. */
static bool is_constant(const struct ind_template *template, struct ind_slice *value)
{
    if (!template || template->count != 1 || template->parts[0].put != IND_PUT_LITERAL)
        return false;
    *value = template->parts[0].text;
    return true;
}

static bool add_labels(struct ind_loader *loader, const struct ind_edit *edit,
                       struct ind_known_label **labels, size_t *count)
{
    for (size_t c = 0; c < edit->change_count; c++) {
        const struct ind_change_text *change = &edit->changes[c];
        struct ind_slice value = IND_NOTHING;
        if (change->in != IND_IN_LABEL)
            continue;
        bool constant = is_constant(change->template, &value);
        const char *name = ind_keep(loader, change->name), *kept = constant ? ind_keep(loader, value) : NULL;
        if (!name || (constant && !kept) || !ind_grow(loader, labels, count, sizeof **labels))
            return false;
        (*labels)[*count - 1] =
            (struct ind_known_label){ind_slice_of(name), kept ? ind_slice_of(kept) : IND_NOTHING, !constant};
    }
    return true;
}

bool ind_surroundings_of(struct ind_loader *loader, struct ind_surroundings *around)
{
    const struct ind_config *config = loader->config;
    struct ind_known_label *labels = NULL;
    const char **listeners = calloc(config->listener_count + 1, sizeof *listeners);
    struct ind_slice *examples = calloc(config->layout_place_count + 1, sizeof *examples);
    size_t count = 0;
    bool good = listeners && examples;
    for (size_t i = 0; good && i < config->edits.count; i++)
        good = add_labels(loader, &config->edits.list[i], &labels, &count);
    for (size_t i = 0; good && i < config->listener_count; i++)
        listeners[i] = config->listeners[i].text;
    for (size_t i = 0; good && i < config->layout_place_count; i++)
        examples[i] = config->layout_places[i].example;
    if (!good)
        ind_no_memory(loader);
    *around = (struct ind_surroundings){.devices = config->devices,
                                        .labels = labels,
                                        .label_count = count,
                                        .listeners = listeners,
                                        .listener_count = config->listener_count,
                                        .examples = examples,
                                        .example_count = config->layout_place_count,
                                        .allow_given = config->allow_given,
                                        .allow = config->allow,
                                        .allow_count = config->allow_count};
    return good;
}

void ind_surroundings_free(struct ind_surroundings *around)
{
    free((void *)(uintptr_t)around->labels);
    free((void *)(uintptr_t)around->listeners);
    free((void *)(uintptr_t)around->examples);
}
