/* The file: opening and making it, and how it is asked. */
#include "store/alert/alert_file_private.h"
#include "store/disk/aside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

/* Versions of the tables (PRAGMA user_version), and the mark of the file (PRAGMA application_id): "IndA".
 * PATIENCE: milliseconds for somebody else who is writing. */
enum { VERSION = 1, MARK = 0x496e6441, PATIENCE = 5000 };

static const char tables[] =
    "CREATE TABLE alerts(number INTEGER PRIMARY KEY, name TEXT NOT NULL, key TEXT NOT NULL,"
    " state TEXT NOT NULL, opened INTEGER, first INTEGER, last INTEGER, over INTEGER,"
    " messages INTEGER NOT NULL, acknowledged INTEGER, who TEXT, note TEXT, lines TEXT NOT NULL);"
    "CREATE INDEX alerts_not_over ON alerts(name, key) WHERE state <> 'over';"
    "CREATE INDEX alerts_over ON alerts(over) WHERE state = 'over';"
    "CREATE TABLE watched(name TEXT NOT NULL, key TEXT NOT NULL, last INTEGER, PRIMARY KEY(name, key))"
    " WITHOUT ROWID;"
    "CREATE TABLE mutes(name TEXT NOT NULL, key TEXT NOT NULL, of_all INTEGER NOT NULL, until INTEGER NOT "
    "NULL,"
    " who TEXT, PRIMARY KEY(name, key, of_all)) WITHOUT ROWID;"
    "CREATE TABLE notices(id INTEGER PRIMARY KEY AUTOINCREMENT, way TEXT NOT NULL, alert INTEGER NOT NULL,"
    " event TEXT NOT NULL, held INTEGER NOT NULL, at INTEGER NOT NULL);";

/* What came later, and those before it do not look at. */
static const char later_tables[] =
    "CREATE TABLE IF NOT EXISTS counted(name TEXT NOT NULL, key TEXT NOT NULL, by TEXT NOT NULL,"
    " until INTEGER NOT NULL, first INTEGER, last INTEGER, part INTEGER NOT NULL, newest INTEGER NOT NULL,"
    " parts TEXT NOT NULL, lines TEXT NOT NULL, PRIMARY KEY(name, key)) WITHOUT ROWID;"
    "CREATE INDEX IF NOT EXISTS counted_until ON counted(until);";

const char *ind_alert_file_reason(const struct ind_alert_file *file)
{
    return file->reason;
}

static bool is_good(struct ind_alert_file *file, int result)
{
    if (result == SQLITE_OK || result == SQLITE_DONE || result == SQLITE_ROW)
        return true;
    snprintf(file->reason, sizeof file->reason, "%s",
             file->db ? sqlite3_errmsg(file->db) : sqlite3_errstr(result));
    return false;
}

/* ---- Asking ---- */

static sqlite3_stmt *ask(struct ind_alert_file *file, const char *sql, const char *types, va_list values)
{
    sqlite3_stmt *statement = NULL;
    if (!is_good(file, sqlite3_prepare_v2(file->db, sql, -1, &statement, NULL)))
        return NULL;
    for (int i = 0; types[i]; i++) {
        if (types[i] == 't') {
            const char *text = va_arg(values, const char *);
            if (text)
                sqlite3_bind_text(statement, i + 1, text, -1, SQLITE_TRANSIENT);
        } else {
            const int64_t number = va_arg(values, int64_t);
            if (types[i] == 'i' || number != IND_TIME_NONE)
                sqlite3_bind_int64(statement, i + 1, number);
        }
    }
    return statement;
}

sqlite3_stmt *ind_alert_file_ask(struct ind_alert_file *file, const char *sql, const char *types, ...)
{
    va_list values;
    va_start(values, types);
    sqlite3_stmt *statement = ask(file, sql, types, values);
    va_end(values);
    return statement;
}

bool ind_alert_file_asked(struct ind_alert_file *file, sqlite3_stmt *statement, int result)
{
    const bool good = is_good(file, result);
    sqlite3_finalize(statement);
    return good;
}

bool ind_alert_file_do(struct ind_alert_file *file, const char *sql, const char *types, ...)
{
    va_list values;
    va_start(values, types);
    sqlite3_stmt *statement = ask(file, sql, types, values);
    va_end(values);
    if (!statement)
        return false;
    int result;
    while ((result = sqlite3_step(statement)) == SQLITE_ROW)
        ;
    return ind_alert_file_asked(file, statement, result);
}

ind_time ind_alert_file_time(sqlite3_stmt *statement, int column)
{
    return sqlite3_column_type(statement, column) == SQLITE_INTEGER ? sqlite3_column_int64(statement, column)
                                                                    : IND_TIME_NONE;
}

const char *ind_alert_file_text(sqlite3_stmt *statement, int column)
{
    const char *text = (const char *)sqlite3_column_text(statement, column);
    return text ? text : "";
}

/* ---- Opening ---- */

int64_t ind_alert_file_number(struct ind_alert_file *file, const char *sql, int64_t missing)
{
    sqlite3_stmt *statement = ind_alert_file_ask(file, sql, "");
    int64_t number = missing;
    const int result = statement ? sqlite3_step(statement) : SQLITE_DONE;
    if (statement && result == SQLITE_ROW)
        number = sqlite3_column_int64(statement, 0);
    return statement && ind_alert_file_asked(file, statement, result) ? number : missing;
}

static bool run(struct ind_alert_file *file, const char *sql)
{
    return is_good(file, sqlite3_exec(file->db, sql, NULL, NULL, NULL));
}

static bool make_tables(struct ind_alert_file *file)
{
    char marks[100];
    snprintf(marks, sizeof marks, "PRAGMA application_id = %d; PRAGMA user_version = %d", MARK, VERSION);
    return run(file, "PRAGMA journal_mode = WAL") && ind_alert_file_begin(file) &&
           ind_alert_file_end(file, run(file, tables) && run(file, marks));
}

static enum ind_alert_file_status check(struct ind_alert_file *file, bool to_read)
{
    const int64_t made = ind_alert_file_number(file, "SELECT count(*) FROM sqlite_schema", -1);
    if (made == 0 && !to_read)
        return make_tables(file) && run(file, later_tables) ? IND_ALERT_FILE_GOOD : IND_ALERT_FILE_FAILED;
    if (made < 0)
        return IND_ALERT_FILE_DAMAGED;
    if (made == 0)
        return IND_ALERT_FILE_NONE;
    if (ind_alert_file_number(file, "PRAGMA application_id", -1) == MARK &&
        ind_alert_file_number(file, "PRAGMA user_version", -1) == VERSION)
        return to_read || run(file, later_tables) ? IND_ALERT_FILE_GOOD : IND_ALERT_FILE_DAMAGED;
    snprintf(file->reason, sizeof file->reason, "it is a database of another program or version");
    return IND_ALERT_FILE_DAMAGED;
}

/* With the mode that other files of the state have: SQLite takes one that is there as it is. */
static bool make_file(struct ind_alert_file *file)
{
    const int made = open(file->path, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0640);
    if (made >= 0)
        close(made);
    if (made >= 0 || errno == EEXIST)
        return true;
    snprintf(file->reason, sizeof file->reason, "%s", strerror(errno));
    return false;
}

static enum ind_alert_file_status open_file(struct ind_alert_file *file, bool to_read)
{
    struct stat facts;
    if (to_read && stat(file->path, &facts) != 0) {
        snprintf(file->reason, sizeof file->reason, "%s", strerror(errno));
        return errno == ENOENT ? IND_ALERT_FILE_NONE : IND_ALERT_FILE_FAILED;
    }
    if (!to_read && !make_file(file))
        return IND_ALERT_FILE_FAILED;
    const int flags = to_read ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE;
    if (!is_good(file, sqlite3_open_v2(file->path, &file->db,
                                       flags | SQLITE_OPEN_NOMUTEX | SQLITE_OPEN_NOFOLLOW, NULL)))
        return IND_ALERT_FILE_FAILED;
    sqlite3_busy_timeout(file->db, PATIENCE);
    (void)sqlite3_db_config(file->db, SQLITE_DBCONFIG_DEFENSIVE, 1, NULL);
    (void)sqlite3_db_config(file->db, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, NULL);
    if (!run(file, "PRAGMA synchronous = FULL; PRAGMA cell_size_check = ON"))
        return IND_ALERT_FILE_DAMAGED;
    return check(file, to_read);
}

enum ind_alert_file_status ind_alert_file_open(const char *state, bool to_read, struct ind_alert_file **file,
                                               char *reason, size_t room)
{
    struct ind_alert_file *new = calloc(1, sizeof *new);
    const size_t length = strlen(state) + sizeof IND_ALERT_FILE_NAME + 1;
    *file = NULL;
    snprintf(reason, room, "out of memory");
    if (!new || !(new->path = malloc(length))) {
        free(new);
        return IND_ALERT_FILE_FAILED;
    }
    snprintf(new->path, length, "%s/" IND_ALERT_FILE_NAME, state);
    const enum ind_alert_file_status status = open_file(new, to_read);
    if (status == IND_ALERT_FILE_GOOD) {
        *file = new;
        return status;
    }
    snprintf(reason, room, "%s: %s", new->path, new->reason);
    ind_alert_file_close(new);
    return status;
}

void ind_alert_file_close(struct ind_alert_file *file)
{
    if (!file)
        return;
    sqlite3_close(file->db);
    free(file->path);
    free(file);
}

bool ind_alert_file_set_aside(const char *state)
{
    return ind_database_set_aside(state, IND_ALERT_FILE_NAME, IND_ALERT_FILE_NAME ".damaged");
}

bool ind_alert_file_begin(struct ind_alert_file *file)
{
    return run(file, "BEGIN IMMEDIATE");
}

bool ind_alert_file_end(struct ind_alert_file *file, bool good)
{
    char reason[sizeof file->reason];
    if (good && run(file, "COMMIT"))
        return true;
    memcpy(reason, file->reason, sizeof reason);
    if (!sqlite3_get_autocommit(file->db))
        (void)run(file, "ROLLBACK");
    memcpy(file->reason, reason, sizeof reason);
    return false;
}
