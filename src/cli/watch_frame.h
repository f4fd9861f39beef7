/* cli/watch_frame.h: a screen of characters, before anything is shown: the same for a terminal and for text.
 */
#ifndef IND_CLI_WATCH_FRAME_H
#define IND_CLI_WATCH_FRAME_H

#include "core/base/slice.h"

#include <stdint.h>
#include <stdio.h>
#include <wchar.h>

enum ind_look { IND_LOOK_PLAIN, IND_LOOK_HEAD, IND_LOOK_GOOD, IND_LOOK_BAD, IND_LOOK_CARE, IND_LOOK_DIM };

struct ind_frame_cell {
    wchar_t character; /* 0: the second half of the one before it */
    uint8_t look;
};

struct ind_frame {
    size_t width, height;
    bool wide; /* characters beyond ASCII can be shown */
    struct ind_frame_cell *cells;
};

/* Blank. False where memory is out. To be freed. */
bool ind_frame_begin(struct ind_frame *frame, size_t width, size_t height, bool wide);
void ind_frame_free(struct ind_frame *frame);

/* Writes a text from a column on, as far as `end` (0: the width); what a stranger has made drives nothing: it
 * is shown as what it is. Returns the column behind it. Outside of the frame nothing is written. */
size_t ind_frame_put(struct ind_frame *frame, size_t row, size_t column, size_t end, enum ind_look look,
                     const char *text);
/* The same, with its end at the column before `end`. */
void ind_frame_put_right(struct ind_frame *frame, size_t row, size_t end, enum ind_look look,
                         const char *text);
/* All of a row gets that look. */
void ind_frame_colour_row(struct ind_frame *frame, size_t row, enum ind_look look);

/* As lines of text, without looks. */
void ind_frame_print(const struct ind_frame *frame, FILE *out);

#endif
