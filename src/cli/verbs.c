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
