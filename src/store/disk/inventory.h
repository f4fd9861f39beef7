/* store/disk/inventory.h: what lies in a store, from its journal and its folders together. Reads only. */
#ifndef IND_STORE_DISK_INVENTORY_H
#define IND_STORE_DISK_INVENTORY_H

#include "config/config.h"
#include "store/disk/journal.h"
#include <stdio.h>
#include <uthash.h>

#define IND_NO_POLICY SIZE_MAX

/* A file under the name it has, had or would have as an archive. */
struct ind_archive_entry {
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
    bool size_known;                  /* of the file that `packed_as` says, without looking */
    enum ind_compression packed_as;   /* where size_known */
    enum ind_compression compression; /* the compressed one is there */
    int level;                        /* of the compression; 0: not known */
    uint64_t plain_size, compressed_size, inode;
    ind_time modified;
    uint64_t messages, text; /* when it was rotated, or hashed; UINT64_MAX, 0: not known */
    ind_time last;           /* likewise: of its messages */
    int stored;              /* see store/disk/stored.h */
    uint64_t copied_to;      /* ind_path_hash of the second place that has it; 0: none */
    bool is_protected;
    char *why;   /* of the protection */
    bool hashed; /* `text` and `hash` are as the journal has them */
    bool chained;
    unsigned char hash[32];
};

/* The path of an archive with what compression adds to it. */
static inline void ind_archive_entry_path(const struct ind_archive_entry *entry, char *path, size_t room)
{
    snprintf(path, room, "%s%s", entry->archive, ind_compression_suffix(entry->compression).at);
}

struct ind_live_path {
    UT_hash_handle hh;
    char *path;
    uint64_t size, inode;
    ind_time modified;
    struct ind_archive_entry *entry; /* the newest opened under this path */
    /* It is no live file any more, says the journal, but the archive is not there: the power failed before
     * its new name was on disk. NULL: it is as it should be. */
    struct ind_archive_entry *to_rename;
};

struct ind_inventory {
    struct ind_archive_entry *entries; /* by archive */
    struct ind_live_path *lives;       /* live files on disk */
    char *link;       /* a symbolic link in the place of a folder or file of ours; NULL: there is none */
    char **leftovers; /* temporary files of a crash */
    size_t leftover_count;
};

/* Fills *inventory; false where memory is out. `config` gives routes and policies by their names. */
bool ind_inventory(const struct ind_config *config, int folder, struct ind_inventory *inventory);

/* The same for one that begins with what somebody else knows: entries, as they were when the journal had
 * `journal` bytes. Adds what the journal has beyond that, and
 * what lies in the folders, where sizes that are known are not asked for again. */
bool ind_inventory_resume(const struct ind_config *config, int folder, uint64_t journal,
                          struct ind_inventory *inventory);
/* Its entry for an archive, which is made where there is none; NULL where memory is out. */
struct ind_archive_entry *ind_inventory_entry(struct ind_inventory *inventory, const char *archive);
/* The present route and policy of a file by the names that stand in its record; either may be NULL. */
void ind_inventory_find_policy(const struct ind_config *config, const char *route, const char *policy,
                               struct ind_archive_entry *entry);

void ind_inventory_free(struct ind_inventory *inventory);

#endif
