/* cli/search_lines.h: the lines that a search finds, on their way out. */
#ifndef IND_CLI_SEARCH_LINES_H
#define IND_CLI_SEARCH_LINES_H

#include "cli/screen_line.h"
#include "cli/search_output.h"

struct ind_search_lines {
    struct ind_search_output *output;
    uint64_t most;  /* 0: all */
    bool turned;    /* they come the other way round: they are kept, and printed at the end */
    uint64_t count; /* given so far */
    bool failed;    /* memory ran out */
    enum { IND_AS_THEY_ARE, IND_ON_SCREEN, IND_COLUMNS_ON_SCREEN } form;
    struct ind_screen screen;
    struct ind_kept_lines kept;
};

/* Fills in how the search has to go, too. */
void ind_search_lines_begin(struct ind_search_lines *lines, const struct ind_search_options *given,
                            struct ind_search_output *output, struct ind_search_settings *settings);
/* Prints those that were kept, and frees. False where memory ran out. */
bool ind_search_lines_end(struct ind_search_lines *lines);

#endif
