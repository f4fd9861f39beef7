/* cli/search_output.h: where the result of a search goes: standard output, or a file, whole or not at all. */
#ifndef IND_CLI_SEARCH_OUTPUT_H
#define IND_CLI_SEARCH_OUTPUT_H

#include "cli/grown.h"
#include "cli/search_call.h"
#include "core/time/steady.h"
#include "store/disk/packer.h"

enum { IND_PRINTED_AT_ONCE = 128 << 10 };

struct ind_search_output {
    struct ind_packer *packer; /* of a file; NULL: standard output */
    char temporary[4200];
    char buffer[IND_PRINTED_AT_ONCE];
    size_t filled;
    bool failed, broken; /* broken: whoever reads has seen enough */
    int error;
    /* Until it is known whether a screen takes all of it, what goes to a pager waits. */
    struct ind_grown held;
    bool holds;
    struct ind_steady began;
};

/* False, reported, where it cannot be written there: the exit code is *code. */
bool ind_search_output_begin(struct ind_search_output *output, const struct ind_search_options *given,
                             const struct ind_config *config, int *code);
/* False once nothing more can be written. */
bool ind_search_output_write(struct ind_search_output *output, struct ind_slice bytes);
/* Passes on what was written so far; false where nobody reads it any more. */
bool ind_search_output_pause(struct ind_search_output *output);
/* Ends it; a file takes its name only where `whole`. True where all was written, or nobody wanted more. What
 * went wrong is reported. */
bool ind_search_output_end(struct ind_search_output *output, const struct ind_search_options *given,
                           bool whole);

#endif
