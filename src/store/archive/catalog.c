/* The catalog's file: opening and making it, and its tables. */
#include "store/archive/catalog_private.h"
#include "store/disk/aside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* docs/catalog.md tells what each means. */
static const char tables[] =
    "CREATE TABLE meta(name TEXT PRIMARY KEY, value INTEGER NOT NULL) WITHOUT ROWID;"
    "CREATE TABLE place(store TEXT NOT NULL);"
    "CREATE TABLE files(id INTEGER PRIMARY KEY, archive TEXT NOT NULL UNIQUE, series TEXT NOT NULL,"
    " number INTEGER NOT NULL, state TEXT NOT NULL, live TEXT, route TEXT, policy TEXT, layout TEXT,"
    " version INTEGER, made_up INTEGER NOT NULL DEFAULT 0, opened INTEGER, rotated INTEGER, first INTEGER,"
    " last INTEGER, messages INTEGER, text INTEGER, bytes INTEGER, compression INTEGER NOT NULL DEFAULT 0,"
    " level INTEGER NOT NULL DEFAULT 0, sha256 TEXT, copied TEXT, protected TEXT, removed INTEGER,"
    " reason TEXT, chained INTEGER NOT NULL DEFAULT 0, known INTEGER NOT NULL DEFAULT 1,"
    " counted INTEGER NOT NULL DEFAULT 0, counted_bytes INTEGER NOT NULL DEFAULT 0,"
    " counted_hash INTEGER NOT NULL DEFAULT 0, counted_messages INTEGER);"
    "CREATE INDEX files_uncounted ON files(id) WHERE counted = 0 AND state IN ('live', 'archive');"
    "CREATE INDEX files_live ON files(live) WHERE state = 'live';"
    "CREATE INDEX files_by_series ON files(series, number);"
    "CREATE TABLE devices(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);"
    "CREATE TABLE volumes(file INTEGER PRIMARY KEY, packed BLOB NOT NULL);"
    "CREATE TABLE hours(hour INTEGER, route TEXT NOT NULL, emergency INTEGER NOT NULL,"
    " alert INTEGER NOT NULL, critical INTEGER NOT NULL, error INTEGER NOT NULL, warning INTEGER NOT NULL,"
    " notice INTEGER NOT NULL, info INTEGER NOT NULL, debug INTEGER NOT NULL, unknown INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL, PRIMARY KEY(hour, route)) WITHOUT ROWID;";

/* ---- Opening ---- */

static int64_t number_of(struct ind_catalog *catalog, const char *text, enum ind_catalog_status *status)
{
    sqlite3_stmt *statement = NULL;
    int64_t number = -1;
    int result = sqlite3_prepare_v2(catalog->db, text, -1, &statement, NULL);
    if (result == SQLITE_OK && (result = sqlite3_step(statement)) == SQLITE_ROW)
        number = sqlite3_column_int64(statement, 0);
    *status = ind_catalog_status_of(catalog, result);
    sqlite3_finalize(statement);
    return number;
}

static enum ind_catalog_status note_place(struct ind_catalog *catalog, const char *store)
{
    sqlite3_stmt *statement = NULL;
    int result = sqlite3_prepare_v2(catalog->db, "INSERT INTO place VALUES(?1)", -1, &statement, NULL);
    if (result == SQLITE_OK) {
        ind_catalog_bind_text(statement, 1, store);
        result = sqlite3_step(statement);
    }
    sqlite3_finalize(statement);
    return ind_catalog_status_of(catalog, result);
}

static enum ind_catalog_status make(struct ind_catalog *catalog, const char *store)
{
    char marks[100];
    enum ind_catalog_status status = ind_catalog_run_text(catalog, "PRAGMA journal_mode = WAL");
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_begin(catalog);
    if (status != IND_CATALOG_GOOD)
        return status;
    if (number_of(catalog, "SELECT count(*) FROM sqlite_schema", &status) != 0) /* somebody was faster */
        return ind_catalog_end(catalog, status);
    snprintf(marks, sizeof marks, "PRAGMA application_id = %d; PRAGMA user_version = %d", IND_CATALOG_MARK,
             IND_CATALOG_VERSION);
    status = ind_catalog_run_text(catalog, tables);
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_run_text(catalog, marks);
    if (status == IND_CATALOG_GOOD)
        status = note_place(catalog, store);
    return ind_catalog_end(catalog, status);
}

static enum ind_catalog_status foreign(struct ind_catalog *catalog, const char *what)
{
    snprintf(catalog->reason, sizeof catalog->reason, "it is %s", what);
    return IND_CATALOG_FOREIGN;
}

static enum ind_catalog_status check_place(struct ind_catalog *catalog, const char *store)
{
    sqlite3_stmt *statement = NULL;
    int result = sqlite3_prepare_v2(catalog->db, "SELECT store FROM place", -1, &statement, NULL);
    enum ind_catalog_status status = ind_catalog_status_of(catalog, result);
    if (result == SQLITE_OK && (result = sqlite3_step(statement)) == SQLITE_ROW) {
        const char *place = (const char *)sqlite3_column_text(statement, 0);
        if (!place || strcmp(place, store) != 0) {
            snprintf(catalog->reason, sizeof catalog->reason, "it is that of the store %s",
                     place ? place : "(none)");
            status = IND_CATALOG_FOREIGN;
        }
    } else if (result == SQLITE_DONE) {
        status = ind_catalog_damaged(catalog, "it does not say of which store it is");
    } else {
        status = ind_catalog_status_of(catalog, result);
    }
    sqlite3_finalize(statement);
    return status;
}

static enum ind_catalog_status check(struct ind_catalog *catalog, const char *store, bool to_read)
{
    enum ind_catalog_status status;
    const int64_t made = number_of(catalog, "SELECT count(*) FROM sqlite_schema", &status);
    if (status == IND_CATALOG_GOOD && made == 0 && !to_read)
        status = make(catalog, store);
    if (status != IND_CATALOG_GOOD)
        return status;
    if (number_of(catalog, "PRAGMA application_id", &status) != IND_CATALOG_MARK)
        return status == IND_CATALOG_GOOD ? foreign(catalog, "a database of another program") : status;
    if (number_of(catalog, "PRAGMA user_version", &status) != IND_CATALOG_VERSION)
        return status == IND_CATALOG_GOOD ? foreign(catalog, "that of another version") : status;
    return check_place(catalog, store);
}

/* With the mode that other files of the state have: SQLite takes one that is there as it is. */
static int make_file(const char *path)
{
    struct stat facts;
    if (lstat(path, &facts) == 0)
        return S_ISREG(facts.st_mode) ? 0 : EEXIST;
    const int file = open(path, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0640);
    if (file >= 0)
        close(file);
    return file >= 0 || errno == EEXIST ? 0 : errno;
}

static enum ind_catalog_status open_file(struct ind_catalog *catalog, const char *store, int patience,
                                         bool to_read)
{
    struct stat facts;
    const int error = to_read ? 0 : make_file(catalog->path);
    if (error) {
        snprintf(catalog->reason, sizeof catalog->reason, "%s",
                 error == EEXIST ? "something else stands in its place, which is no file" : strerror(error));
        return error == EEXIST ? IND_CATALOG_FOREIGN : IND_CATALOG_FAILED;
    }
    const int flags = to_read ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE;
    const int result = sqlite3_open_v2(catalog->path, &catalog->db,
                                       flags | SQLITE_OPEN_NOMUTEX | SQLITE_OPEN_NOFOLLOW, NULL);
    if (result != SQLITE_OK || stat(catalog->path, &facts) != 0)
        return ind_catalog_status_of(catalog, result == SQLITE_OK ? SQLITE_IOERR : result);
    catalog->device = (uint64_t)facts.st_dev;
    catalog->inode = (uint64_t)facts.st_ino;
    sqlite3_busy_timeout(catalog->db, patience);
    (void)sqlite3_db_config(catalog->db, SQLITE_DBCONFIG_DEFENSIVE, 1, NULL);
    (void)sqlite3_db_config(catalog->db, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, NULL);
    const enum ind_catalog_status status =
        ind_catalog_run_text(catalog, "PRAGMA synchronous = NORMAL; PRAGMA cell_size_check = ON");
    return status == IND_CATALOG_GOOD ? check(catalog, store, to_read) : status;
}

static enum ind_catalog_status open_any(const char *state, const char *store, int folder, int patience,
                                        bool to_read, struct ind_catalog **catalog, char *reason, size_t room)
{
    struct ind_catalog *new = calloc(1, sizeof *new);
    const size_t length = strlen(state) + sizeof IND_CATALOG_NAME + 1;
    *catalog = NULL;
    snprintf(reason, room, "out of memory");
    if (new)
        new->path = malloc(length);
    if (!new || !new->path) {
        free(new);
        return IND_CATALOG_FAILED;
    }
    snprintf(new->path, length, "%s/" IND_CATALOG_NAME, state);
    new->folder = folder;
    char *whole = realpath(store, NULL); /* by whatever path it was named */
    const enum ind_catalog_status status = open_file(new, whole ? whole : store, patience, to_read);
    free(whole);
    if (status == IND_CATALOG_GOOD) {
        *catalog = new;
        return status;
    }
    snprintf(reason, room, "%s", new->reason);
    ind_catalog_close(new);
    return status;
}

enum ind_catalog_status ind_catalog_open(const char *state, const char *store, int folder, int patience,
                                         struct ind_catalog **catalog, char *reason, size_t room)
{
    return open_any(state, store, folder, patience, false, catalog, reason, room);
}

bool ind_catalog_to_read(const char *state, const char *store, int folder, int patience,
                         struct ind_catalog **catalog, char *reason, size_t room)
{
    return open_any(state, store, folder, patience, true, catalog, reason, room) == IND_CATALOG_GOOD;
}

void ind_catalog_close(struct ind_catalog *catalog)
{
    if (!catalog)
        return;
    for (int i = 0; i < IND_CATALOG_CALLS; i++)
        sqlite3_finalize(catalog->calls[i]);
    sqlite3_close(catalog->db);
    ind_catalog_forget_lives(catalog);
    ind_catalog_forget_journal(catalog);
    free(catalog->path);
    free(catalog);
}

bool ind_catalog_is_there(const struct ind_catalog *catalog)
{
    struct stat facts;
    return stat(catalog->path, &facts) == 0 && (uint64_t)facts.st_dev == catalog->device &&
           (uint64_t)facts.st_ino == catalog->inode;
}

bool ind_catalog_set_aside(const char *state)
{
    return ind_database_set_aside(state, IND_CATALOG_NAME, IND_CATALOG_ASIDE);
}
