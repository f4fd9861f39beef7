/* store/archive/catalog.h: the catalog of a store, STATE/catalog.sqlite: its archives and live files, and
 * volumes by hour, device, facility, severity and route (docs/catalog.md).
 *
 * It follows the journal and the files, holds nothing that these do not tell, and can be made again from
 * them. So whatever becomes of it costs time, and stops nobody. One thread's. */
#ifndef IND_STORE_ARCHIVE_CATALOG_H
#define IND_STORE_ARCHIVE_CATALOG_H

#include "core/time/civil.h"
#include "store/disk/digest.h"
#include "store/disk/inventory.h"

#define IND_CATALOG_NAME "catalog.sqlite"
/* What one that does not serve is renamed to; only the last one is kept. */
#define IND_CATALOG_ASIDE "catalog-set-aside.sqlite"

struct ind_catalog;

enum ind_catalog_status {
    IND_CATALOG_GOOD,
    IND_CATALOG_LOCKED,  /* somebody else writes to it, or reads for long: later */
    IND_CATALOG_DAMAGED, /* to be set aside */
    IND_CATALOG_FOREIGN, /* of another program, version or store: not touched */
    IND_CATALOG_FAILED   /* the disk, or memory */
};

/* Opens the catalog in the folder `state`; one that is not there, or is empty, is made. `store`: the path of
 * the store, and `folder` the same, opened, which is borrowed. `patience`: milliseconds that a lock of
 * somebody else is waited for. New in *catalog; else the reason. */
enum ind_catalog_status ind_catalog_open(const char *state, const char *store, int folder, int patience,
                                         struct ind_catalog **catalog, char *reason, size_t room);
void ind_catalog_close(struct ind_catalog *catalog);

/* Renames it out of the way. False with errno set. */
bool ind_catalog_set_aside(const char *state);

/* Why the last call failed. */
const char *ind_catalog_reason(const struct ind_catalog *catalog);
/* Whether the file that was opened is still the one with its name. */
bool ind_catalog_is_there(const struct ind_catalog *catalog);

/* Whether it is whole: SQLite's own check, and that the sums are those of what is added up. Reads all of it.
 */
enum ind_catalog_status ind_catalog_check(struct ind_catalog *catalog);

/* Takes over what is new in the journal, all or nothing. */
enum ind_catalog_status ind_catalog_follow(struct ind_catalog *catalog,
                                           const struct ind_interrupt *interrupt);

/* Looks which files are there: finds archives that the journal does not know, and those that are missing. */
enum ind_catalog_status ind_catalog_look(struct ind_catalog *catalog);

/* How files are counted. */
struct ind_counting_call {
    int64_t now; /* by the steady clock, in nanoseconds, of which only differences count: live files are read
                    at intervals */
    uint64_t most; /* bytes of text: with a file that reaches so many it ends */
    bool at_once;  /* all that is new, whenever it was counted last, on all processors */
    const struct ind_interrupt *interrupt; /* asked between two blocks, by the calling thread; may be NULL */
};

/* Reads what files hold that is not counted yet, file by file. What cannot be read is counted as far as it
 * can be. */
struct ind_catalog_progress {
    uint64_t files, bytes; /* of text, that were read */
    uint64_t to_count;     /* archives that are left */
    uint64_t broken;       /* files that could not be read to their end */
};
enum ind_catalog_status ind_catalog_count(struct ind_catalog *catalog, const struct ind_counting_call *call,
                                          struct ind_catalog_progress *progress);

/* Makes it anew from the journal and the files, on all processors, at once or not at all: until the end
 * everybody else sees what was there before. `tell` is called now and then; may be NULL. */
enum ind_catalog_status
ind_catalog_rebuild(struct ind_catalog *catalog, const struct ind_interrupt *interrupt,
                    void (*tell)(void *context, const struct ind_catalog_progress *progress), void *context,
                    struct ind_catalog_progress *progress);

/* What the journal is to keep of the volumes of an archive that is removed (core/archive/volumes.h); new, the
 * caller's; NULL where they are not known. */
char *ind_catalog_closing(struct ind_catalog *catalog, const char *archive);
/* The same for one that no catalog knows, out of its lines, which are of the layout `stored`. */
char *ind_catalog_closing_of(int folder, const char *archive, int stored,
                             const struct ind_interrupt *interrupt);

/* What ind_inventory tells of archives, for lists: out of the catalog, and of what the journal has beyond it;
 * of each file that is known no more than whether its name is there. Of their lines, their hashes and how
 * they were opened it says nothing. False where the catalog does not serve: then nothing is filled in. */
bool ind_catalog_inventory(const struct ind_config *config, int folder, struct ind_inventory *inventory);

#endif
