/* store/alert/alert_file_private.h: what the files of store/alert/ share. */
#ifndef IND_STORE_ALERT_ALERT_FILE_PRIVATE_H
#define IND_STORE_ALERT_ALERT_FILE_PRIVATE_H

#include "store/alert/alert_file.h"

#include <sqlite3.h>

struct ind_alert_file {
    sqlite3 *db;
    char *path;
    char reason[300];
};

/* A statement with its values: a letter of `types` for each: 't' a text (NULL: none), 'i' an int64_t, 'n' an
 * ind_time (IND_TIME_NONE: none). NULL where it cannot be made; to be finalized. */
sqlite3_stmt *ind_alert_file_ask(struct ind_alert_file *file, const char *sql, const char *types, ...);
/* The same, done; true where that worked. */
bool ind_alert_file_do(struct ind_alert_file *file, const char *sql, const char *types, ...);
/* The end of a statement that was asked. */
bool ind_alert_file_asked(struct ind_alert_file *file, sqlite3_stmt *statement, int result);
/* The number in the first row and column; `missing` where there is none. */
int64_t ind_alert_file_number(struct ind_alert_file *file, const char *sql, int64_t missing);
/* A column: IND_TIME_NONE where there is nothing; "" likewise. */
ind_time ind_alert_file_time(sqlite3_stmt *statement, int column);
const char *ind_alert_file_text(sqlite3_stmt *statement, int column);

#endif
