/* cli/search_places.h: where a search looks: the store, or what the call names. */
#ifndef IND_CLI_SEARCH_PLACES_H
#define IND_CLI_SEARCH_PLACES_H

#include "cli/cli.h"
#include "store/search/search.h"

struct ind_search_places {
    struct ind_search_file *files; /* whose names and paths are among `names`, or their snapshot's */
    size_t count;
    struct ind_snapshot **snapshots; /* of stores that are gone through */
    size_t snapshot_count;
    char **names;
    size_t name_count;
    size_t unreadable; /* folders that could not be looked into */
    bool is_whole_store;
    bool read_once;     /* one of them can: a pipe */
    const char **words; /* arguments that are no files: words to look for */
    size_t word_count;
};

/* Finds the files of the arguments, or of the store where they name none; `as` is the value of --as, or NULL.
 * Returns IND_EXIT_DONE, or, reported, how the call ends; freed in either case by ind_search_places_free. */
int ind_search_places_find(const struct ind_config *config, const char **arguments, const char *as,
                           struct ind_search_places *places);
void ind_search_places_free(struct ind_search_places *places);

/* --when, and that each word stands in the text, device, host, app or msgid; NULL where there is no word or
 * no memory. New. */
char *ind_search_words_condition(const struct ind_search_places *places, const char *when);

#endif
