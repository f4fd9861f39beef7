/* store/archive/catalog_private.h: the inside of the catalog. */
#ifndef IND_STORE_ARCHIVE_CATALOG_PRIVATE_H
#define IND_STORE_ARCHIVE_CATALOG_PRIVATE_H

#include "core/archive/volumes.h"
#include "store/archive/catalog.h"

#include <sqlite3.h>

/* Versions of the tables (PRAGMA user_version), and the mark of a catalog (PRAGMA application_id): "IndC". */
enum { IND_CATALOG_VERSION = 1, IND_CATALOG_MARK = 0x496e6443 };

/* Whether the journal knows a file: column `known`. */
enum ind_known { IND_KNOWN_BY_NAME, IND_KNOWN_BY_JOURNAL, IND_KNOWN_BEFORE /* while that is read anew */ };

/* How far the volumes of a file are known. */
enum ind_counted {
    IND_COUNTED_PARTLY, /* or not at all */
    IND_COUNTED_WHOLE,
    IND_COUNTED_BROKEN /* it cannot be read any further */
};

/* What is prepared once; its text is in catalog_calls.c. */
enum ind_catalog_call {
    IND_CALL_BEGIN,
    IND_CALL_COMMIT,
    IND_CALL_ROLLBACK,
    IND_CALL_GET_META,
    IND_CALL_SET_META,
    IND_CALL_OPENED,
    IND_CALL_ROTATED,
    IND_CALL_HASHED,
    IND_CALL_COMPRESSED,
    IND_CALL_COPIED,
    IND_CALL_REMOVED,
    IND_CALL_PROTECTED,
    IND_CALL_FILE_OF,
    IND_CALL_FOUND,
    IND_CALL_STATE_OF,
    IND_CALL_TRY_AGAIN,
    IND_CALL_KNOWN_TO,
    IND_CALL_BELIEVE,
    IND_CALL_DOUBTED_OF,
    IND_CALL_STALE_LIVE,
    IND_CALL_DOUBT,
    IND_CALL_DOUBTED,
    IND_CALL_GONE_UNKNOWN,
    IND_CALL_FORGET_FILE,
    IND_CALL_COMPACTED,
    IND_CALL_ADD_REMOVED,
    IND_CALL_GET_VOLUMES,
    IND_CALL_SET_VOLUMES,
    IND_CALL_FORGET_VOLUMES,
    IND_CALL_SET_COUNTED,
    IND_CALL_ADD_HOUR,
    IND_CALL_DROP_HOURS,
    IND_CALL_DEVICE,
    IND_CALL_ADD_DEVICE,
    IND_CALL_DEVICE_NAME,
    IND_CALL_UNCOUNTED,
    IND_CALL_TO_COUNT,
    IND_CATALOG_CALLS
};

struct ind_catalog {
    sqlite3 *db;
    sqlite3_stmt *calls[IND_CATALOG_CALLS];
    char *path;
    int folder;
    uint64_t device, inode; /* of the file */
    char reason[256];
    struct XXH64_state_s *journal_hash; /* of its first journal_at bytes; NULL: not begun */
    uint64_t journal_at;
    struct ind_compacted *compacted; /* records of that kind, while the journal is read */
    struct ind_live_count *lives;    /* when live files were last counted */
};

/* ---- catalog_calls.c ---- */

/* Prepared and without what was bound before; NULL where that failed, which *status tells. */
sqlite3_stmt *ind_catalog_call(struct ind_catalog *catalog, enum ind_catalog_call call,
                               enum ind_catalog_status *status);
/* Runs what is bound, to its end; rows are not looked at. */
enum ind_catalog_status ind_catalog_run(struct ind_catalog *catalog, sqlite3_stmt *statement);
/* What an error of SQLite means; kept as the reason. */
enum ind_catalog_status ind_catalog_status_of(struct ind_catalog *catalog, int error);
/* Statements without rows that count, one after the other. */
enum ind_catalog_status ind_catalog_run_text(struct ind_catalog *catalog, const char *text);
/* IND_CATALOG_DAMAGED, for this reason. */
enum ind_catalog_status ind_catalog_damaged(struct ind_catalog *catalog, const char *reason);
#define IND_CATALOG_BAD_VOLUMES "the volumes of a file are not as they were packed"
/* Begins a change of several steps; and ends it: all of it where `status` is good, else nothing of it.
 * Returns `status`, or what the end came to. */
enum ind_catalog_status ind_catalog_begin(struct ind_catalog *catalog);
enum ind_catalog_status ind_catalog_end(struct ind_catalog *catalog, enum ind_catalog_status status);

/* One number by name; `missing` where there is none. */
int64_t ind_catalog_meta(struct ind_catalog *catalog, const char *name, int64_t missing);
enum ind_catalog_status ind_catalog_set_meta(struct ind_catalog *catalog, const char *name, int64_t value);

/* Empties all tables, within a change. */
enum ind_catalog_status ind_catalog_empty(struct ind_catalog *catalog);

/* Bind: NULL, or a time that is not known, as NULL. */
void ind_catalog_bind_text(sqlite3_stmt *statement, int at, const char *text);
void ind_catalog_bind_time(sqlite3_stmt *statement, int at, ind_time time);

/* ---- catalog.c ---- */

/* Opens one that is there, for reading; nothing is made. */
bool ind_catalog_to_read(const char *state, const char *store, int folder, int patience,
                         struct ind_catalog **catalog, char *reason, size_t room);

/* ---- catalog_follow.c ---- */

/* How far the journal was taken over; 0 where it begins anew: somebody has changed it, or it was written anew
 * without what is gone. */
uint64_t ind_catalog_place(struct ind_catalog *catalog);

void ind_catalog_forget_journal(struct ind_catalog *catalog);
/* Within a change. */
enum ind_catalog_status ind_catalog_follow_all(struct ind_catalog *catalog,
                                               const struct ind_interrupt *interrupt);
enum ind_catalog_status ind_catalog_look_at_all(struct ind_catalog *catalog);

/* ---- catalog_doubt.c: within a change, around the reading of a journal from its beginning ---- */

enum ind_catalog_status ind_catalog_doubt_all(struct ind_catalog *catalog);
enum ind_catalog_status ind_catalog_note_compacted(struct ind_catalog *catalog,
                                                   const struct ind_journal_record *record);
/* Of the series, as such a record has it; NULL where there is none. */
const char *ind_catalog_compacted_route(const struct ind_catalog *catalog, const char *series);
enum ind_catalog_status ind_catalog_settle_doubts(struct ind_catalog *catalog);
void ind_catalog_forget_compacted(struct ind_catalog *catalog);

/* ---- catalog_volumes.c: within a change ---- */

/* Names that strangers make up do not fill the disk: beyond so many a device is one of the "others". */
enum { IND_CATALOG_MOST_DEVICES = 1000000 };
/* The number of a device by its name, which is given where it has none yet. */
uint32_t ind_catalog_device(struct ind_catalog *catalog, struct ind_slice name);

/* Adds to the volumes of a file, or (`instead`) puts these in their place; NULL: none. Adds to *messages (may
 * be NULL) how many there are then. */
enum ind_catalog_status ind_catalog_store_volumes(struct ind_catalog *catalog, int64_t file,
                                                  struct ind_volumes *volumes, bool instead,
                                                  uint64_t *messages);

/* What is stored of a file as ind_volumes_pack made it; *made is to be freed. False where it is none. */
bool ind_catalog_packed(struct ind_slice stored, struct ind_slice *packed, char **made);
/* Adds what is stored of a file; false where it is none. */
bool ind_catalog_unpack(struct ind_slice stored, struct ind_volumes *volumes);

/* The text that the journal keeps of them; new, NULL where there is none, or memory is out. */
char *ind_catalog_closing_text(struct ind_volumes *volumes,
                               struct ind_slice (*name)(void *context, uint32_t device), void *context);

/* Takes a file out of the catalog, and its volumes out of all sums. */
enum ind_catalog_status ind_catalog_forget_file(struct ind_catalog *catalog, int64_t file);
/* All that a call lists; its parameters are a text, and a number or (UINT64_MAX) another text. */
enum ind_catalog_status ind_catalog_forget_all(struct ind_catalog *catalog, enum ind_catalog_call call,
                                               const char *text, const char *other, uint64_t number);

/* The volumes of a file are those that the journal has as a text; what cannot be read stays unknown. */
enum ind_catalog_status ind_catalog_take_text(struct ind_catalog *catalog, int64_t file, const char *text);

/* Those that are there; NULL with *status set. */
struct ind_volumes *ind_catalog_volumes(struct ind_catalog *catalog, int64_t file,
                                        enum ind_catalog_status *status);

/* ---- catalog_count.c ---- */

/* All that is to be counted now, on all processors, within a change. */
enum ind_catalog_status
ind_catalog_count_all(struct ind_catalog *catalog, const struct ind_interrupt *interrupt,
                      void (*tell)(void *context, const struct ind_catalog_progress *progress), void *context,
                      struct ind_catalog_progress *progress);
void ind_catalog_forget_lives(struct ind_catalog *catalog);

#endif
