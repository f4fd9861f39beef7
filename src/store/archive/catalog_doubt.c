/* A journal that is read from its beginning: what the catalog knew before is doubted, until a record tells of
 * it again. What a journal that was written anew has left out, and says so in one record for a series, the
 * catalog may know better. */
#include "store/archive/catalog_private.h"

#include <stdlib.h>
#include <string.h>

struct ind_compacted {
    struct ind_compacted *next;
    uint64_t number, messages, bytes;
    ind_time at, first, last;
    char *series, *route, *volumes; /* the last two may be NULL */
};

enum ind_catalog_status ind_catalog_doubt_all(struct ind_catalog *catalog)
{
    enum ind_catalog_status status;
    sqlite3_stmt *call = ind_catalog_call(catalog, IND_CALL_DOUBT, &status);
    return call ? ind_catalog_run(catalog, call) : status;
}

static void free_one(struct ind_compacted *compacted)
{
    free(compacted->series);
    free(compacted->route);
    free(compacted->volumes);
    free(compacted);
}

void ind_catalog_forget_compacted(struct ind_catalog *catalog)
{
    for (struct ind_compacted *one = catalog->compacted, *next; one; one = next) {
        next = one->next;
        free_one(one);
    }
    catalog->compacted = NULL;
}

static bool copy(char **text, const char *from)
{
    *text = from ? strdup(from) : NULL;
    return !from || *text;
}

enum ind_catalog_status ind_catalog_note_compacted(struct ind_catalog *catalog,
                                                   const struct ind_journal_record *record)
{
    struct ind_compacted *one = calloc(1, sizeof *one);
    if (!one)
        return IND_CATALOG_FAILED;
    *one = (struct ind_compacted){.next = catalog->compacted,
                                  .number = record->number,
                                  .messages = record->messages,
                                  .bytes = record->bytes,
                                  .at = record->at,
                                  .first = record->first,
                                  .last = record->last};
    catalog->compacted = one;
    return copy(&one->series, record->series) && copy(&one->route, record->route) &&
                   copy(&one->volumes, record->volumes)
               ? IND_CATALOG_GOOD
               : IND_CATALOG_FAILED;
}

const char *ind_catalog_compacted_route(const struct ind_catalog *catalog, const char *series)
{
    const struct ind_compacted *one = catalog->compacted;
    while (one && strcmp(one->series, series) != 0)
        one = one->next;
    return one ? one->route : NULL;
}

static enum ind_catalog_status run_of(struct ind_catalog *catalog, enum ind_catalog_call of,
                                      const struct ind_compacted *one, int64_t *number)
{
    enum ind_catalog_status status;
    sqlite3_stmt *call = ind_catalog_call(catalog, of, &status);
    if (!call)
        return status;
    ind_catalog_bind_text(call, 1, one->series);
    sqlite3_bind_int64(call, 2, (int64_t)one->number);
    const int result = sqlite3_step(call);
    if (result == SQLITE_ROW && number)
        *number = sqlite3_column_int64(call, 0);
    sqlite3_reset(call);
    return ind_catalog_status_of(catalog, result);
}

/* One row for all that is left out. */
static enum ind_catalog_status add_row(struct ind_catalog *catalog, const struct ind_compacted *one)
{
    enum ind_catalog_status status;
    char name[1200];
    snprintf(name, sizeof name, "compacted: %s", one->series); /* no archive has a name of this form */
    sqlite3_stmt *add = ind_catalog_call(catalog, IND_CALL_COMPACTED, &status);
    if (!add)
        return status;
    ind_catalog_bind_text(add, 1, name);
    ind_catalog_bind_text(add, 2, one->series);
    sqlite3_bind_int64(add, 3, (int64_t)one->number);
    if (one->messages != UINT64_MAX)
        sqlite3_bind_int64(add, 4, (int64_t)one->messages);
    sqlite3_bind_int64(add, 5, (int64_t)one->bytes);
    ind_catalog_bind_time(add, 6, one->first);
    ind_catalog_bind_time(add, 7, one->last);
    ind_catalog_bind_time(add, 8, one->at);
    ind_catalog_bind_text(add, 9, one->route);
    status = ind_catalog_run(catalog, add);
    const int64_t file = sqlite3_last_insert_rowid(catalog->db);
    return status == IND_CATALOG_GOOD && one->volumes ? ind_catalog_take_text(catalog, file, one->volumes)
                                                      : status;
}

/* Numbers of a series follow one another: where each is known, and counted, more is known here. */
static enum ind_catalog_status settle(struct ind_catalog *catalog, const struct ind_compacted *one)
{
    int64_t known = 0;
    enum ind_catalog_status status = run_of(catalog, IND_CALL_KNOWN_TO, one, &known);
    if (status != IND_CATALOG_GOOD)
        return status;
    if (known == (int64_t)one->number)
        return run_of(catalog, IND_CALL_BELIEVE, one, NULL);
    status = ind_catalog_forget_all(catalog, IND_CALL_DOUBTED_OF, one->series, NULL, one->number);
    return status == IND_CATALOG_GOOD ? add_row(catalog, one) : status;
}

enum ind_catalog_status ind_catalog_settle_doubts(struct ind_catalog *catalog)
{
    enum ind_catalog_status status = IND_CATALOG_GOOD;
    for (const struct ind_compacted *one = catalog->compacted; one && status == IND_CATALOG_GOOD;
         one = one->next)
        status = settle(catalog, one);
    /* What nothing tells any more was never so. */
    return status == IND_CATALOG_GOOD
               ? ind_catalog_forget_all(catalog, IND_CALL_DOUBTED, NULL, NULL, UINT64_MAX)
               : status;
}
