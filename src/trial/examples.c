#include "trial/rehearse_private.h"

#include <stdlib.h>

struct ind_example *ind_examples_add(struct ind_examples *examples, uint64_t at)
{
    if (!examples->list)
        examples->list = calloc(IND_EXAMPLES, sizeof *examples->list);
    if (!examples->list)
        return NULL;
    struct ind_example *example = &examples->list[examples->count++];
    *example = (struct ind_example){.at = at};
    return example;
}

static size_t used(const struct ind_example *example)
{
    return example->device.length + example->name.length + example->before.length + example->after.length;
}

struct ind_slice ind_example_keep(struct ind_example *example, struct ind_slice text, size_t most)
{
    size_t room = sizeof example->room - used(example);
    size_t length = text.length < most ? text.length : most;
    length = length < room ? length : room;
    while (length > 0 && length < text.length && ((unsigned char)text.at[length] & 0xc0) == 0x80)
        length--; /* no half of a character */
    char *to = example->room + used(example);
    if (length)
        memcpy(to, text.at, length);
    return (struct ind_slice){to, length};
}

/* Its texts lie in itself. */
static void copy(struct ind_example *to, const struct ind_example *from)
{
    struct ind_slice *const slices[] = {&to->device, &to->name, &to->before, &to->after};
    *to = *from;
    for (size_t i = 0; i < 4; i++)
        if (slices[i]->length)
            slices[i]->at = to->room + (slices[i]->at - from->room);
}

void ind_examples_merge(struct ind_examples *examples, struct ind_examples *more)
{
    for (size_t i = 0; i < more->count; i++) {
        const struct ind_example *example = &more->list[i];
        size_t at = examples->count;
        while (at > 0 && examples->list[at - 1].at > example->at)
            at--;
        if (at == IND_EXAMPLES || (ind_examples_want(examples) && !ind_examples_add(examples, 0)))
            continue;
        for (size_t k = examples->count - 1; k > at; k--)
            copy(&examples->list[k], &examples->list[k - 1]);
        copy(&examples->list[at], example);
    }
    ind_examples_free(more);
}

void ind_examples_free(struct ind_examples *examples)
{
    free(examples->list);
    *examples = (struct ind_examples){0};
}
