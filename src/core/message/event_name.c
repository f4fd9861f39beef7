#include "core/message/event_name.h"

#include "core/message/event_code.h"

#include <stdint.h>

static bool ends_word(char c)
{
    return c == ' ' || c == '\t' || memchr("()[]{}<>,;=\"'", c, 14) != NULL;
}

/* A colon, dot or the like behind a word is not of it. */
static size_t word_at(struct ind_slice text, size_t at, bool *number)
{
    size_t length = 0;
    *number = false;
    while (at + length < text.length && !ends_word(text.at[at + length]))
        *number |= ind_is_digit(text.at[at + length++]);
    while (length > 1 && memchr(":.!?", text.at[at + length - 1], 4))
        length--;
    return length;
}

static void write_without_numbers(struct ind_slice text, struct ind_buffer *out)
{
    size_t after_number = SIZE_MAX; /* where a number was written last, with blanks only behind it */
    for (size_t at = 0; at < text.length && !out->full;) {
        bool number;
        const size_t length = word_at(text, at, &number);
        if (length == 0) {
            if (text.at[at] != ' ')
                after_number = SIZE_MAX;
            ind_buffer_byte(out, text.at[at++]);
        } else if (number && after_number != SIZE_MAX) {
            out->length = after_number;
            at += length;
        } else if (number) {
            ind_buffer_byte(out, '#');
            after_number = out->length;
            at += length;
        } else {
            ind_buffer_slice(out, (struct ind_slice){text.at + at, length});
            after_number = SIZE_MAX;
            at += length;
        }
    }
}

void ind_event_name_write(struct ind_slice text, struct ind_buffer *out)
{
    struct ind_event_code code;
    if (!ind_event_code_read(text, &code)) {
        write_without_numbers(text, out);
        return;
    }
    size_t length = code.length;
    while (length > 0 && (text.at[length - 1] == ':' || text.at[length - 1] == ' '))
        length--;
    ind_buffer_slice(out, ind_slice_begin(text, length));
}
