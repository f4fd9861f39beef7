/* store/survey.h: what lies in a store, from its journal and its folders together. Reads only. */
#ifndef IND_STORE_SURVEY_H
#define IND_STORE_SURVEY_H

#include "config/config.h"
#include "store/journal.h"
#include <uthash.h>

#define IND_NO_POLICY SIZE_MAX

/* A file under the name it has, had or would have as an archive. */
struct ind_filed {
    UT_hash_handle hh;
    char *archive; /* path of the plain archive: the key */
    char *series, *live;
    uint64_t number;
    size_t route;                    /* IND_NO_POLICY where it is no more configured */
    size_t policy;                   /* likewise */
    ind_time first, opened, rotated; /* IND_TIME_NONE where not known */
    bool known_opened, known_rotated, known_removed, made_up;
    bool is_live;                     /* the live file on disk is this one */
    bool has_plain;                   /* the plain archive is there */
    enum ind_compression compression; /* the compressed one is there */
    uint64_t plain_size, compressed_size, inode;
    ind_time modified;
    int stored; /* see store/stored.h */
};

struct ind_live_path {
    UT_hash_handle hh;
    char *path;
    uint64_t size, inode;
    ind_time modified;
    struct ind_filed *filed; /* the newest opened under this path */
};

struct ind_survey {
    struct ind_filed *filed;     /* by archive */
    struct ind_live_path *lives; /* live files on disk */
    char *link;       /* a symbolic link in the place of a folder or file of ours; NULL: there is none */
    char **leftovers; /* temporary files of a crash */
    size_t leftover_count;
};

/* Fills *survey; false where memory is out. `config` gives routes and policies by their names. */
bool ind_survey(const struct ind_config *config, int folder, struct ind_survey *survey);
void ind_survey_free(struct ind_survey *survey);

/* Calls `take` for each regular file below `folder`, with its path; folders and files that begin with a dot
 * are passed over but for temporary files of ours. Adds to *unreadable (may be NULL) the folders that could
 * not be looked into. */
bool ind_walk(int folder, bool (*take)(void *context, const char *path), void *context, size_t *unreadable);

/* The temporary name of a compressed archive in the making: ".NAME.tmp" beside it. */
void ind_temporary_name(const char *path, char *name, size_t room);

#endif
