#include "store/archive/catalog_read.h"

#include "store/archive/catalog_private.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

enum { PATIENCE = 500 };

static const char rows_text[] =
    "SELECT archive, compression, bytes, packed, state FROM files JOIN volumes ON volumes.file = files.id"
    " WHERE (state = 'archive' AND counted = 1 AND bytes IS NOT NULL)"
    " OR (?1 AND state IN ('removed', 'compacted'))";

enum column { ARCHIVE, COMPRESSION, BYTES, PACKED, STATE };

/* ---- Devices ---- */

struct ind_catalog_names {
    char **list; /* by number; NULL: none */
    size_t count;
};

struct ind_slice ind_catalog_name(const struct ind_catalog_names *names, uint32_t device)
{
    return device < names->count ? ind_slice_of(names->list[device]) : IND_NOTHING;
}

static void free_names(struct ind_catalog_names *names)
{
    for (size_t i = 0; i < names->count; i++)
        free(names->list[i]);
    free(names->list);
}

static bool take_name(struct ind_catalog_names *names, int64_t id, const char *name)
{
    if (id < 0 || id > 2 * (int64_t)IND_CATALOG_MOST_DEVICES || !name)
        return false;
    if ((size_t)id >= names->count) {
        const size_t count = 2 * (size_t)id + 64;
        char **grown = realloc(names->list, count * sizeof(char *));
        if (!grown)
            return false;
        memset(grown + names->count, 0, (count - names->count) * sizeof(char *));
        names->list = grown;
        names->count = count;
    }
    free(names->list[id]);
    return (names->list[id] = strdup(name)) != NULL;
}

static bool read_names(struct ind_catalog *catalog, struct ind_catalog_names *names)
{
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(catalog->db, "SELECT id, name FROM devices", -1, &rows, NULL);
    bool good = result == SQLITE_OK;
    while (good && (result = sqlite3_step(rows)) == SQLITE_ROW)
        good = take_name(names, sqlite3_column_int64(rows, 0), (const char *)sqlite3_column_text(rows, 1));
    sqlite3_finalize(rows);
    return good && result == SQLITE_DONE;
}

struct ind_catalog_names *ind_catalog_names_read(struct ind_catalog *catalog)
{
    struct ind_catalog_names *names = calloc(1, sizeof *names);
    if (names && read_names(catalog, names))
        return names;
    ind_catalog_names_free(names);
    return NULL;
}

void ind_catalog_names_free(struct ind_catalog_names *names)
{
    if (names)
        free_names(names);
    free(names);
}

/* ---- Archives ---- */

struct visiting {
    bool (*wanted)(void *context, const char *archive);
    bool (*visit)(void *context, const struct ind_catalog_counts *counts);
    void *context;
    struct ind_catalog_names names;
    bool enough;
};

static bool visit_row(struct visiting *visiting, sqlite3_stmt *row)
{
    const int packed_as = sqlite3_column_int(row, COMPRESSION);
    const struct ind_slice stored = {sqlite3_column_blob(row, PACKED),
                                     (size_t)sqlite3_column_bytes(row, PACKED)};
    struct ind_catalog_counts counts = {.archive = (const char *)sqlite3_column_text(row, ARCHIVE),
                                        .compression = packed_as == IND_COMPRESS_ZSTD   ? IND_COMPRESS_ZSTD
                                                       : packed_as == IND_COMPRESS_GZIP ? IND_COMPRESS_GZIP
                                                                                        : IND_COMPRESS_NONE,
                                        .bytes = (uint64_t)sqlite3_column_int64(row, BYTES),
                                        .names = &visiting->names};
    const char *state = (const char *)sqlite3_column_text(row, STATE);
    counts.many = state && strcmp(state, "compacted") == 0;
    counts.removed = counts.many || (state && strcmp(state, "removed") == 0);
    if (!counts.archive || (visiting->wanted && !visiting->wanted(visiting->context, counts.archive)))
        return counts.archive != NULL;
    char *made;
    const bool good = ind_catalog_packed(stored, &counts.packed, &made);
    if (good)
        visiting->enough = !visiting->visit(visiting->context, &counts);
    free(made);
    return good;
}

static bool visit_rows(struct ind_catalog *catalog, bool removed, struct visiting *visiting)
{
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(catalog->db, rows_text, -1, &rows, NULL);
    bool good = result == SQLITE_OK && sqlite3_bind_int(rows, 1, removed) == SQLITE_OK;
    while (good && !visiting->enough && (result = sqlite3_step(rows)) == SQLITE_ROW)
        good = visit_row(visiting, rows);
    sqlite3_finalize(rows);
    return good && (visiting->enough || result == SQLITE_DONE);
}

bool ind_catalog_is_as_counted(int folder, const struct ind_catalog_counts *counts)
{
    char path[1300];
    struct stat facts;
    snprintf(path, sizeof path, "%s%s", counts->archive, ind_compression_suffix(counts->compression).at);
    return fstatat(folder, path, &facts, AT_SYMLINK_NOFOLLOW) == 0 && S_ISREG(facts.st_mode) &&
           (uint64_t)facts.st_size == counts->bytes;
}

bool ind_catalog_each_counts(const struct ind_config *config, int folder, bool removed,
                             bool (*wanted)(void *context, const char *archive),
                             bool (*visit)(void *context, const struct ind_catalog_counts *counts),
                             void *context)
{
    struct ind_catalog *catalog;
    struct visiting visiting = {.wanted = wanted, .visit = visit, .context = context};
    char reason[256];
    if (!ind_catalog_to_read(config->state, config->store, folder, PATIENCE, &catalog, reason, sizeof reason))
        return false;
    const bool good = sqlite3_exec(catalog->db, "BEGIN", NULL, NULL, NULL) == SQLITE_OK &&
                      ind_catalog_place(catalog) > 0 && read_names(catalog, &visiting.names) &&
                      visit_rows(catalog, removed, &visiting);
    free_names(&visiting.names);
    ind_catalog_close(catalog);
    return good;
}
