#include "store/archive/catalog_hours.h"

#include "store/archive/catalog_private.h"
#include "store/archive/catalog_read.h"

#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

enum { PATIENCE = 500 };
#define HOUR (3600 * IND_SECOND)

/* Of files that may hold the hour: what is not known of a file's span excludes nothing. */
static const char rows_text[] =
    "SELECT packed FROM files JOIN volumes ON volumes.file = files.id WHERE"
    " state <> 'compacted' AND coalesce(first, ?1) < ?2 AND coalesce(last, ?1) >= ?1";

struct visiting {
    const int64_t *hours;
    size_t count, only; /* only: the one that is asked for now */
    struct ind_catalog_names *names;
    ind_visit_hour *visit;
    void *context;
    bool enough;
};

static bool visit_volume(void *context, const struct ind_volume *volume)
{
    struct visiting *visiting = context;
    if (volume->hour != visiting->hours[visiting->only])
        return true;
    visiting->enough = !visiting->visit(visiting->context, ind_catalog_name(visiting->names, volume->device),
                                        visiting->only, volume->messages);
    return !visiting->enough;
}

static bool visit_row(struct visiting *visiting, sqlite3_stmt *row)
{
    const struct ind_slice stored = {sqlite3_column_blob(row, 0), (size_t)sqlite3_column_bytes(row, 0)};
    struct ind_slice packed;
    char *made;
    bool good = ind_catalog_packed(stored, &packed, &made);
    if (good)
        good = ind_volumes_each(packed, visit_volume, visiting) || visiting->enough;
    free(made);
    return good;
}

static bool visit_hour(struct ind_catalog *catalog, struct visiting *visiting)
{
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(catalog->db, rows_text, -1, &rows, NULL);
    bool good = result == SQLITE_OK;
    if (good) {
        sqlite3_bind_int64(rows, 1, visiting->hours[visiting->only] * HOUR);
        sqlite3_bind_int64(rows, 2, (visiting->hours[visiting->only] + 1) * HOUR);
    }
    while (good && !visiting->enough && (result = sqlite3_step(rows)) == SQLITE_ROW)
        good = visit_row(visiting, rows);
    sqlite3_finalize(rows);
    return good && !visiting->enough && result == SQLITE_DONE;
}

bool ind_catalog_each_hour(const char *state, const char *store, const int64_t *hours, size_t count,
                           ind_visit_hour *visit, void *context)
{
    struct ind_catalog *catalog = NULL;
    struct visiting visiting = {.hours = hours, .count = count, .visit = visit, .context = context};
    char reason[256];
    const int folder = open(store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    bool good = folder >= 0 &&
                ind_catalog_to_read(state, store, folder, PATIENCE, &catalog, reason, sizeof reason) &&
                sqlite3_exec(catalog->db, "BEGIN", NULL, NULL, NULL) == SQLITE_OK &&
                ind_catalog_place(catalog) > 0 && (visiting.names = ind_catalog_names_read(catalog)) != NULL;
    for (visiting.only = 0; good && visiting.only < count; visiting.only++)
        good = visit_hour(catalog, &visiting);
    ind_catalog_names_free(visiting.names);
    ind_catalog_close(catalog);
    if (folder >= 0)
        close(folder);
    return good;
}
