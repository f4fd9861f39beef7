/* What is asked of the catalog's tables, and what an error of SQLite means. */
#include "store/archive/catalog_private.h"

#include <stdio.h>
#include <string.h>

static const char *const texts[IND_CATALOG_CALLS] = {
    [IND_CALL_BEGIN] = "BEGIN IMMEDIATE",
    [IND_CALL_COMMIT] = "COMMIT",
    [IND_CALL_ROLLBACK] = "ROLLBACK",
    [IND_CALL_GET_META] = "SELECT value FROM meta WHERE name = ?1",
    [IND_CALL_SET_META] = "INSERT INTO meta VALUES(?1, ?2) ON CONFLICT(name) DO UPDATE SET value = ?2",
    [IND_CALL_OPENED] =
        "INSERT INTO files(archive, series, number, state, live, route, policy, layout, version, made_up,"
        " opened, first, chained) VALUES(?1, ?2, ?3, 'live', ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)"
        " ON CONFLICT(archive) DO UPDATE SET series = ?2, number = ?3, state = 'live', live = ?4, route = ?5,"
        " policy = ?6, layout = ?7, version = ?8, made_up = ?9, opened = ?10, first = ?11, chained = ?12,"
        " rotated = NULL, last = NULL, messages = NULL, text = NULL, bytes = NULL, compression = 0,"
        " level = 0, sha256 = NULL, copied = NULL, protected = NULL, removed = NULL, reason = NULL,"
        /* One that was found before the journal told of it was counted without its layout. */
        " counted = CASE WHEN known = 0 THEN 0 ELSE counted END, known = 1",
    [IND_CALL_ROTATED] = "UPDATE files SET state = 'archive', rotated = ?2, text = ?3, messages = ?4,"
                         " bytes = ?3, first = coalesce(?5, first), last = ?6, known = 1 WHERE archive = ?1",
    [IND_CALL_HASHED] = "UPDATE files SET text = ?2, sha256 = ?3 WHERE archive = ?1",
    [IND_CALL_COMPRESSED] = "UPDATE files SET compression = ?2, bytes = ?3, level = ?4 WHERE archive = ?1",
    [IND_CALL_COPIED] = "UPDATE files SET copied = ?2 WHERE archive = ?1",
    [IND_CALL_REMOVED] =
        "UPDATE files SET state = 'removed', removed = ?2, reason = ?3, known = 1 WHERE archive = ?1",
    [IND_CALL_PROTECTED] = "UPDATE files SET protected = ?2 WHERE archive = ?1",
    [IND_CALL_FILE_OF] = "SELECT id, counted FROM files WHERE archive = ?1",
    [IND_CALL_FOUND] =
        "INSERT INTO files(archive, series, number, state, text, bytes, compression, rotated, known)"
        " VALUES(?1, ?2, ?3, 'archive', ?4, ?5, ?6, ?7, 0) ON CONFLICT(archive) DO UPDATE SET"
        " state = 'archive', text = ?4, bytes = ?5, compression = ?6, rotated = ?7 WHERE known = 0",
    [IND_CALL_STATE_OF] = "SELECT state, layout IS NOT NULL FROM files WHERE id = ?1",
    [IND_CALL_TRY_AGAIN] = "UPDATE files SET counted = 0 WHERE counted = 2",
    [IND_CALL_KNOWN_TO] =
        "WITH before(number) AS (SELECT coalesce(max(number), 0) FROM files WHERE series = ?1 AND"
        " state = 'compacted') SELECT before.number + (SELECT count(DISTINCT number) FROM files WHERE"
        " series = ?1 AND number <= ?2 AND number > before.number AND (known = 1 OR counted = 1))"
        " FROM before",
    [IND_CALL_BELIEVE] = "UPDATE files SET known = 1, state = CASE WHEN state IN ('live', 'archive')"
                         " THEN 'removed' ELSE state END WHERE series = ?1 AND number <= ?2 AND known = 2",
    [IND_CALL_DOUBTED_OF] = "SELECT id FROM files WHERE series = ?1 AND number <= ?2 AND known = 2",
    [IND_CALL_STALE_LIVE] = "SELECT id FROM files WHERE live = ?1 AND state = 'live' AND archive <> ?2",
    [IND_CALL_DOUBT] = "UPDATE files SET known = 2 WHERE known = 1",
    [IND_CALL_DOUBTED] = "SELECT id FROM files WHERE known = 2",
    [IND_CALL_GONE_UNKNOWN] = "SELECT id, archive, compression FROM files WHERE known = 0 AND"
                              " state = 'archive' AND id > ?1 ORDER BY id",
    [IND_CALL_FORGET_FILE] = "DELETE FROM files WHERE id = ?1",
    [IND_CALL_COMPACTED] =
        "INSERT INTO files(archive, series, number, state, messages, text, first, last, removed, route)"
        " VALUES(?1, ?2, ?3, 'compacted', ?4, ?5, ?6, ?7, ?8, ?9)",
    [IND_CALL_ADD_REMOVED] = "INSERT INTO files(archive, series, number, state, removed, reason, route)"
                             " VALUES(?1, ?2, ?3, 'removed', ?4, ?5, ?6)",
    [IND_CALL_GET_VOLUMES] = "SELECT packed FROM volumes WHERE file = ?1",
    [IND_CALL_SET_VOLUMES] = "INSERT INTO volumes VALUES(?1, ?2) ON CONFLICT(file) DO UPDATE SET packed = ?2",
    [IND_CALL_FORGET_VOLUMES] = "DELETE FROM volumes WHERE file = ?1",
    [IND_CALL_SET_COUNTED] = "UPDATE files SET counted = ?2, counted_bytes = ?3, counted_hash = ?4,"
                             " counted_messages = ?5 WHERE id = ?1",
    [IND_CALL_ADD_HOUR] =
        "INSERT INTO hours VALUES(?1, coalesce((SELECT route FROM files WHERE id = ?2), ''), ?3, ?4, ?5, ?6, "
        "?7, ?8, ?9, ?10, ?11, ?12)"
        " ON CONFLICT(hour, route) DO UPDATE SET emergency = emergency + ?3, alert = alert + ?4,"
        " critical = critical + ?5, error = error + ?6, warning = warning + ?7, notice = notice + ?8,"
        " info = info + ?9, debug = debug + ?10, unknown = unknown + ?11, bytes = bytes + ?12",
    [IND_CALL_DROP_HOURS] = "DELETE FROM hours WHERE bytes = 0 AND emergency + alert + critical + error +"
                            " warning + notice + info + debug + unknown = 0",
    [IND_CALL_DEVICE] = "SELECT id FROM devices WHERE name = ?1",
    [IND_CALL_ADD_DEVICE] = "INSERT INTO devices(id, name) SELECT last + 1, ?1 FROM"
                            " (SELECT coalesce(max(id), 1) AS last FROM devices) WHERE last < ?2",
    [IND_CALL_DEVICE_NAME] = "SELECT name FROM devices WHERE id = ?1",
    [IND_CALL_UNCOUNTED] = "SELECT id, archive, live, state, layout, version, counted_bytes, counted_hash"
                           " FROM files WHERE counted = 0 AND state IN ('live', 'archive') ORDER BY id",
    [IND_CALL_TO_COUNT] = "SELECT count(*) FROM files WHERE counted = 0 AND state = 'archive'",
};

/* ---- Errors ---- */

const char *ind_catalog_reason(const struct ind_catalog *catalog)
{
    return catalog->reason;
}

enum ind_catalog_status ind_catalog_status_of(struct ind_catalog *catalog, int error)
{
    error &= 0xff;
    if (error == SQLITE_OK || error == SQLITE_DONE || error == SQLITE_ROW)
        return IND_CATALOG_GOOD;
    snprintf(catalog->reason, sizeof catalog->reason, "%s",
             catalog->db ? sqlite3_errmsg(catalog->db) : sqlite3_errstr(error));
    /* SQLITE_ERROR: a table is not as it was made; so is a constraint that does not hold. */
    return error == SQLITE_BUSY || error == SQLITE_LOCKED ? IND_CATALOG_LOCKED
           : error == SQLITE_CORRUPT || error == SQLITE_NOTADB || error == SQLITE_ERROR ||
                   error == SQLITE_CONSTRAINT || error == SQLITE_MISMATCH
               ? IND_CATALOG_DAMAGED
               : IND_CATALOG_FAILED;
}

enum ind_catalog_status ind_catalog_damaged(struct ind_catalog *catalog, const char *reason)
{
    snprintf(catalog->reason, sizeof catalog->reason, "%s", reason);
    return IND_CATALOG_DAMAGED;
}

/* ---- Calls ---- */

sqlite3_stmt *ind_catalog_call(struct ind_catalog *catalog, enum ind_catalog_call call,
                               enum ind_catalog_status *status)
{
    sqlite3_stmt **statement = &catalog->calls[call];
    *status = IND_CATALOG_GOOD;
    if (!*statement)
        *status =
            ind_catalog_status_of(catalog, sqlite3_prepare_v3(catalog->db, texts[call], -1,
                                                              SQLITE_PREPARE_PERSISTENT, statement, NULL));
    if (*status != IND_CATALOG_GOOD)
        return NULL;
    sqlite3_reset(*statement);
    sqlite3_clear_bindings(*statement);
    return *statement;
}

enum ind_catalog_status ind_catalog_run(struct ind_catalog *catalog, sqlite3_stmt *statement)
{
    int result;
    while ((result = sqlite3_step(statement)) == SQLITE_ROW)
        ;
    const enum ind_catalog_status status = ind_catalog_status_of(catalog, result);
    sqlite3_reset(statement);
    return status;
}

static enum ind_catalog_status run_alone(struct ind_catalog *catalog, enum ind_catalog_call call)
{
    enum ind_catalog_status status;
    sqlite3_stmt *statement = ind_catalog_call(catalog, call, &status);
    return statement ? ind_catalog_run(catalog, statement) : status;
}

enum ind_catalog_status ind_catalog_begin(struct ind_catalog *catalog)
{
    return run_alone(catalog, IND_CALL_BEGIN);
}

enum ind_catalog_status ind_catalog_end(struct ind_catalog *catalog, enum ind_catalog_status status)
{
    char reason[sizeof catalog->reason];
    if (status == IND_CATALOG_GOOD && (status = run_alone(catalog, IND_CALL_COMMIT)) == IND_CATALOG_GOOD)
        return status;
    memcpy(reason, catalog->reason, sizeof reason);
    if (!sqlite3_get_autocommit(catalog->db))
        (void)run_alone(catalog, IND_CALL_ROLLBACK);
    memcpy(catalog->reason, reason, sizeof reason);
    return status;
}

void ind_catalog_bind_text(sqlite3_stmt *statement, int at, const char *text)
{
    if (text)
        sqlite3_bind_text(statement, at, text, -1, SQLITE_TRANSIENT);
}

void ind_catalog_bind_time(sqlite3_stmt *statement, int at, ind_time time)
{
    if (time != IND_TIME_NONE)
        sqlite3_bind_int64(statement, at, time);
}

int64_t ind_catalog_meta(struct ind_catalog *catalog, const char *name, int64_t missing)
{
    enum ind_catalog_status status;
    int64_t value = missing;
    sqlite3_stmt *get = ind_catalog_call(catalog, IND_CALL_GET_META, &status);
    if (!get)
        return missing;
    ind_catalog_bind_text(get, 1, name);
    if (sqlite3_step(get) == SQLITE_ROW)
        value = sqlite3_column_int64(get, 0);
    sqlite3_reset(get);
    return value;
}

enum ind_catalog_status ind_catalog_set_meta(struct ind_catalog *catalog, const char *name, int64_t value)
{
    enum ind_catalog_status status;
    sqlite3_stmt *set = ind_catalog_call(catalog, IND_CALL_SET_META, &status);
    if (!set)
        return status;
    ind_catalog_bind_text(set, 1, name);
    sqlite3_bind_int64(set, 2, value);
    return ind_catalog_run(catalog, set);
}

enum ind_catalog_status ind_catalog_run_text(struct ind_catalog *catalog, const char *text)
{
    return ind_catalog_status_of(catalog, sqlite3_exec(catalog->db, text, NULL, NULL, NULL));
}

enum ind_catalog_status ind_catalog_empty(struct ind_catalog *catalog)
{
    return ind_catalog_run_text(catalog, "DELETE FROM meta; DELETE FROM files; DELETE FROM devices;"
                                         " DELETE FROM volumes; DELETE FROM hours");
}
