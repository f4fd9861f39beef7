#include "cli/verbs.h"

#include <string.h>

static bool knows(const struct ind_verb *verb, const char *option)
{
    for (size_t i = 0; verb->options[i]; i++)
        if (strcmp(verb->options[i], option) == 0)
            return true;
    return false;
}

static bool is_given(const struct poptOption *option)
{
    return option->argInfo == POPT_ARG_NONE ? *(const int *)option->arg != 0
                                            : *(const char *const *)option->arg != NULL;
}

bool ind_verb_options_fit(const char *command, const struct ind_verb *verb, const struct poptOption *options)
{
    for (const struct poptOption *option = options; option->longName; option++)
        if (is_given(option) && !knows(verb, option->longName)) {
            ind_complain("\"%s %s\" has no option --%s", command, verb->name, option->longName);
            return false;
        }
    return true;
}

const void *ind_verb_find(const char *name, const void *table, size_t count, size_t size)
{
    for (size_t i = 0; name && i < count; i++) {
        const struct ind_verb *verb = (const void *)((const char *)table + i * size);
        if (strcmp(name, verb->name) == 0)
            return verb;
    }
    return NULL;
}
