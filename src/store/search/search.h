/* store/search/search.h: finding stored messages in files of every layout and compression, several at a time.
 */
#ifndef IND_STORE_SEARCH_SEARCH_H
#define IND_STORE_SEARCH_SEARCH_H

#include "config/config.h"
#include "store/read/snapshot.h"
#include "store/search/by.h"

enum { IND_SEARCH_FIELDS = 8, IND_SEARCH_COLUMNS = 32 };

/* Columns of a line: with tabs or commas (RFC 4180) between, or an object. */
enum ind_column_form { IND_COLUMNS_TABS, IND_COLUMNS_CSV, IND_COLUMNS_JSON };

/* What groups are put in order by; usually by times where they have any, else by how many they are. */
enum ind_search_order { IND_BY_USUAL, IND_BY_COUNT, IND_BY_NAME, IND_BY_SUM, IND_BY_DISTINCT };

struct ind_known; /* store/search/known.h */

struct ind_search_file {
    const char *name;                       /* for people */
    const char *path;                       /* to be opened; NULL: see stored */
    const struct ind_snapshot *snapshot;    /* where path is NULL: the file lies in it */
    const struct ind_snapshot_file *stored; /* of the snapshot */
    int as;        /* where it is not: how its lines are read (store/disk/stored.h) */
    bool of_store; /* `as` is what the journal of a store says: an index at its end is of these lines */
};

struct ind_search_settings {
    const struct ind_config *config;
    struct ind_conditions *conditions; /* the set of `when` */
    ind_condition when;
    ind_time since, until; /* from `since` on, before `until`; IND_TIME_NONE: open */
    bool by_sent;          /* these, and the order, are of the time that the device claims, where it does */
    bool reverse;          /* the latest first */
    bool any_order;        /* lines are given as they are found; not with `once` or lines around them */
    const struct ind_search_file *files;
    size_t file_count;
    enum ind_layout layout;
    const struct ind_template *line;     /* instead of a layout; or NULL */
    const struct ind_search_by *columns; /* instead of either */
    size_t column_count;
    enum ind_column_form column_form;
    size_t context_lines;          /* so many of the same device before and after each that is found; or 0 */
    const struct ind_among *among; /* then: of which devices anything is found */
    bool count_only;
    bool once; /* a message that files of several routes hold is found once (store/search/once.h) */
    struct ind_search_by by[IND_SEARCH_FIELDS + 1]; /* borrowed */
    size_t by_count;
    struct ind_search_by sum, distinct; /* of each group: the sum of a field's numbers, and how many values a
                                           field has; IND_BY_NOTHING */
    enum ind_search_order order;
    size_t top;                   /* groups at most; 0: all */
    struct ind_known *known;      /* what has been counted without reading; or NULL */
    const struct ind_zone *zone;  /* of the times that groups are told apart by */
    const struct ind_zone *times; /* of those that lines show; NULL: UTC */
    bool as_stored;               /* a line in the layout wanted is given as it stands, its time included */
    ind_time now;
    bool without_index;    /* archives are read to their end, whatever their index says */
    size_t threads;        /* 0: one a processor, four at most */
    const char *temporary; /* folder for what has no room in memory */
    /* Is given each line that is found, with its end, in order; false: enough. */
    bool (*write)(void *context, struct ind_slice line);
    /* Called when none can be given for a while: what was given had better be passed on. False: nobody wants
     * more. May be NULL. */
    bool (*pause)(void *context);
    void (*report)(void *context, const char *text);
    /* Bytes of text that were read, of so many (0: not known yet). May be NULL. */
    void (*progress)(void *context, uint64_t bytes, uint64_t all);
    void *context;
};

/* Devices, by hashes of their names as groups have them; in order. */
struct ind_among {
    uint64_t *hashes;
    size_t count;
};

struct ind_search_group {
    const char *key; /* its values, with a NUL behind each */
    uint64_t count, distinct;
    double sum;
};

/* The value of the field with that number of settings.by. */
const char *ind_group_value(const struct ind_search_group *group, size_t field);

/* What becomes of a frame of an archive with an index (docs/archive-format.md). */
enum ind_left_out {
    IND_READ_IT,
    IND_LEFT_OUT_BY_TIME,
    IND_LEFT_OUT_BY_PRI,
    IND_LEFT_OUT_BY_DEVICE,
    IND_LEFT_OUT_BY_WORDS,
    IND_LEFT_OUT_KINDS
};

struct ind_search_result {
    uint64_t found, bytes;
    uint64_t copies;              /* with `once`: lines found that are copies */
    uint64_t not_grouped;         /* of those found, where there are too many groups */
    uint64_t unread_files;        /* could not be read, or not to the end */
    uint64_t lacking[IND_FIELDS]; /* files whose layout does not hold a field that the condition asks for */
    uint64_t gave_up;             /* messages of which it is not known whether an expression matches */
    uint64_t archives, frames, left_out[IND_LEFT_OUT_KINDS]; /* whose index was asked; what became of these */
    uint64_t bytes_left_out;                                 /* of text */
    bool failed;                            /* memory or disk ran out: the result is not whole */
    int spill_error;                        /* errno, where it is the folder for temporary files */
    const struct ind_search_group **groups; /* in order */
    size_t group_count, all_groups;         /* that are given; that there are */
    bool context_cut;  /* lines before one that was found may be missing: there are too many devices */
    bool groups_cut;   /* there are more groups than there is room for: the rest is left out */
    bool distinct_cut; /* there are more than a million values: those of the rest are not counted */
    struct ind_search *inside;
};

/* Searches; the result is to be freed. Told: what could not be read. `report` and `progress` may be called by
 * any thread, `write` and `pause` are by this one. Lines are given as soon as no earlier one can come. */
void ind_search_run(const struct ind_search_settings *settings, struct ind_search_result *result);
void ind_search_free(struct ind_search_result *result);

/* The devices that a search by IND_FIELD_DEVICE alone has found: new, its hashes to be freed. False where
 * memory is out. */
bool ind_among_find(const struct ind_search_result *result, struct ind_among *among);

/* Fields that edits give, of which a stored line does not tell, or not everywhere: 1 << enum ind_field. */
unsigned ind_search_lost_in_edits(const struct ind_config *config);

#endif
