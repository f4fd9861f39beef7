/* store/archive/outlook.h: the archives of a store with what will become of them: told from the inventory and
 * the policies, the same decision as the keeper's (core/archive/retention.h) at any moment. Reads only. */
#ifndef IND_STORE_ARCHIVE_OUTLOOK_H
#define IND_STORE_ARCHIVE_OUTLOOK_H

#include "core/archive/retention.h"
#include "store/disk/inventory.h"

enum ind_archive_state {
    IND_ARCHIVE_PLAIN,      /* still to be compressed, or its policy says none */
    IND_ARCHIVE_COMPRESSED, /* entry->compression */
    IND_ARCHIVE_MISSING     /* the journal knows of no removal, but it is not there */
};

struct ind_outlook_archive {
    const struct ind_archive_entry *entry; /* of the inventory */
    const struct ind_policy *policy;       /* NULL: no rules are known, so it stays */
    enum ind_archive_state state;
    uint64_t size;       /* on disk */
    bool waits_for_copy; /* the second place of its policy does not have it yet: it does not go before */
    /* What its policy says by itself; it may go earlier for want of room. */
    ind_time goes;                 /* by its age; IND_TIME_NONE: never */
    uint64_t after;                /* so many more rotations of its series; UINT64_MAX: any */
    enum ind_retention_reason due; /* at the moment that was asked for; IND_KEPT: it is still there */
};

struct ind_outlook {
    struct ind_outlook_archive *list; /* by series, then by number */
    size_t count;
};

/* `at`: the moment for which `due` is told, if nothing else came meanwhile; what the file systems' size and
 * the reserve call for is not foreseen. Borrows both. False where memory is out. */
bool ind_outlook_make(const struct ind_config *config, const struct ind_inventory *inventory, ind_time at,
                      struct ind_outlook *outlook);
void ind_outlook_free(struct ind_outlook *outlook);

#endif
