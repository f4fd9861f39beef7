/* cli/screen_line.h: stored messages as people see them on a terminal: columns one below the other, severe
 * ones marked and coloured, what was looked for set off. */
#ifndef IND_CLI_SCREEN_LINE_H
#define IND_CLI_SCREEN_LINE_H

#include "core/base/slice.h"
#include "core/condition/condition.h"

enum { IND_SCREEN_HITS = 64, IND_SCREEN_WIDTHS = 32 };

struct ind_screen {
    bool colour, fold;
    size_t columns; /* of the terminal */
    struct ind_hit {
        struct ind_slice text;
        bool nocase;
    } hits[IND_SCREEN_HITS]; /* texts that are set off */
    size_t hit_count;
    size_t widths[IND_SCREEN_WIDTHS]; /* so far, of each column */
    char *room;                       /* for a line */
    size_t room_size;
};

/* As the terminal is; `conditions` (may be NULL) tell what is set off: borrowed. */
void ind_screen_begin(struct ind_screen *screen, bool fold, const struct ind_conditions *conditions,
                      ind_condition when);
void ind_screen_end(struct ind_screen *screen);

/* A line of the layout `plain` (docs/formats.md) with its end, as it is shown; what is no such line stays as
 * it is. Until the next call. */
struct ind_slice ind_screen_plain(struct ind_screen *screen, struct ind_slice line);
/* A line of columns with tabs between; `heading`: it is their names. */
struct ind_slice ind_screen_columns(struct ind_screen *screen, struct ind_slice line, bool heading);

#endif
