/* cli/search_call.h: a call of search: its options, and what its parts share. */
#ifndef IND_CLI_SEARCH_CALL_H
#define IND_CLI_SEARCH_CALL_H

#include "cli/cli.h"
#include "cli/search_places.h"
#include "core/line/template.h"
#include "store/search/search.h"

#include <limits.h>

/* Of numbers that were not given. */
#define IND_NOT_GIVEN LONG_MIN
static inline bool ind_is_given(long number)
{
    return number != IND_NOT_GIVEN;
}

struct ind_search_options {
    char *when, *since, *until, *around, *within, *by, *every, *sum, *distinct, *sort, *to, *layout, *as,
        *zone, *columns, *against, *factor;
    int count, force, once, copies, why, reverse, sent, csv, share, total, fold;
    long top, first, last, context;
    int json; /* of the common ones */
};

/* The table of popt, and what it fills. */
struct poptOption *ind_search_option_table(void);
struct ind_search_options *ind_search_options(void);

/* Options that do not go together are refused, reported: none is passed over. */
bool ind_search_options_fit(const struct ind_search_options *given, const char *const *arguments);

/* ---- search_read.c: what they come to ---- */

enum { IND_SEARCH_KEPT = IND_SEARCH_FIELDS + IND_SEARCH_COLUMNS + 2 };

struct ind_search_read {
    struct ind_search_settings settings;
    struct ind_template template;
    struct ind_zone *zone; /* that was made, or NULL */
    struct ind_search_by columns[IND_SEARCH_COLUMNS];
    ind_time against_since, against_until;
    double factor, scale;        /* how much longer the span is than that */
    char *kept[IND_SEARCH_KEPT]; /* what fields borrow from */
    size_t kept_count;
};

/* False, reported, where something is wrong; to be freed either way. */
bool ind_search_options_read(struct ind_search_options *given, const struct ind_config *config,
                             struct ind_search_read *read);
void ind_search_read_free(struct ind_search_read *read);

/* ---- search_gaps.c: what is said beside the result ---- */

/* Of archives that were not read, and why; for --why. `known`: what the catalog was asked, may be NULL. */
struct ind_search_asked {
    size_t archives, counted, out[3]; /* of which the catalog knows; answered by it; left out: by time,
                                         facility and severity, device */
    uint64_t bytes;                   /* of all of these, as they lie on the disk */
    const char *why_not;              /* it counts nothing, or NULL */
    bool asked;
};
void ind_search_tell_why(const struct ind_search_result *result, const struct ind_search_asked *asked);
void ind_search_tell_copies(const struct ind_search_options *given, const struct ind_search_result *result);
/* A field by which groups were to be told apart, and that no message has. */
void ind_search_tell_absent(const struct ind_search_result *result,
                            const struct ind_search_settings *settings);
/* What keeps the answer from being whole is said; true where nothing does. */
bool ind_search_tell_gaps(const struct ind_search_result *result, size_t unreadable);

/* ---- search_catalog.c ---- */

/* Takes out of the files of a whole store what the catalog knows to hold no answer, or has counted. */
void ind_search_ask_catalog(const struct ind_config *config, struct ind_search_settings *settings,
                            struct ind_search_places *places, struct ind_search_asked *asked);

#endif
