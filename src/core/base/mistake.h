/* core/base/mistake.h: what is wrong with a text that a person wrote, as data: where, and what to say.
 *
 * The text says what was expected and what to do, in the form `unknown severity "warnign"; did you mean
 * "warning"?`. Whoever prints it adds the place. The first mistake of a text wins: setting a second one
 * changes nothing. */
#ifndef IND_CORE_BASE_MISTAKE_H
#define IND_CORE_BASE_MISTAKE_H

#include "core/base/slice.h"

struct ind_mistake {
    bool made;
    size_t offset, length; /* bytes of the text; length 0: a place between two bytes */
    char text[400];        /* terminated; what is too long is cut */
};

/* Starts a mistake and gives the buffer to write its text into; NULL where one was made already. */
static inline bool ind_mistake_at(struct ind_mistake *mistake, size_t offset, size_t length,
                                  struct ind_buffer *text)
{
    if (mistake->made)
        return false;
    mistake->made = true;
    mistake->offset = offset;
    mistake->length = length;
    *text = ind_buffer_on(mistake->text, sizeof mistake->text - 1);
    memset(mistake->text, 0, sizeof mistake->text);
    return true;
}

/* The text in four pieces, any of them NULL or empty. */
static inline void ind_mistake_say(struct ind_mistake *mistake, size_t offset, size_t length,
                                   const char *before, struct ind_slice quoted, const char *after,
                                   struct ind_slice second, const char *end)
{
    struct ind_buffer text;
    if (!ind_mistake_at(mistake, offset, length, &text))
        return;
    ind_buffer_text(&text, before);
    ind_buffer_add(&text, quoted.at, quoted.length < 80 ? quoted.length : 80);
    ind_buffer_text(&text, after);
    ind_buffer_add(&text, second.at, second.length < 80 ? second.length : 80);
    ind_buffer_text(&text, end);
}

#endif
