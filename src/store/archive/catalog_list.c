/* The archives of a store out of the catalog, in the form in which an inventory has them. */
#include "store/archive/catalog_private.h"

#include "store/disk/disk.h"

#include <stdlib.h>
#include <string.h>

enum { PATIENCE = 500 };

/* No more than is asked of an archive in a list: a row costs as much as all that is then printed of it. */
static const char rows_text[] = "SELECT archive, series, number, state, live, route, policy, rotated, first, "
                                "last, coalesce(messages, counted_messages), text, bytes,"
                                " compression, sha256 IS NOT NULL, copied, protected, known"
                                " FROM files WHERE state IN ('live', 'archive')";

enum column {
    ARCHIVE,
    SERIES,
    NUMBER,
    STATE,
    LIVE,
    ROUTE,
    POLICY,
    ROTATED,
    FIRST,
    LAST,
    MESSAGES,
    TEXT,
    BYTES,
    COMPRESSION,
    HASHED,
    COPIED,
    PROTECTED,
    KNOWN
};

static const char *text_at(sqlite3_stmt *row, enum column column)
{
    return (const char *)sqlite3_column_text(row, (int)column);
}

static int64_t number_at(sqlite3_stmt *row, enum column column, int64_t missing)
{
    const int64_t number = sqlite3_column_int64(row, (int)column);
    return number == 0 && sqlite3_column_type(row, (int)column) == SQLITE_NULL ? missing : number;
}

static bool copy_at(sqlite3_stmt *row, enum column column, char **copy)
{
    const char *text = text_at(row, column);
    *copy = text ? strdup(text) : NULL;
    return !text || *copy;
}

static void take_times(sqlite3_stmt *row, struct ind_archive_entry *entry)
{
    entry->first = number_at(row, FIRST, IND_TIME_NONE);
    entry->last = number_at(row, LAST, IND_TIME_NONE);
}

static void take_sizes(sqlite3_stmt *row, struct ind_archive_entry *entry)
{
    const int64_t bytes = number_at(row, BYTES, -1);
    const int packed = sqlite3_column_int(row, COMPRESSION);
    entry->messages = (uint64_t)number_at(row, MESSAGES, -1);
    entry->text = (uint64_t)number_at(row, TEXT, 0);
    entry->packed_as = packed == IND_COMPRESS_ZSTD   ? IND_COMPRESS_ZSTD
                       : packed == IND_COMPRESS_GZIP ? IND_COMPRESS_GZIP
                                                     : IND_COMPRESS_NONE;
    entry->size_known = bytes >= 0;
    if (entry->size_known && entry->packed_as == IND_COMPRESS_NONE)
        entry->plain_size = (uint64_t)bytes;
    else if (entry->size_known)
        entry->compressed_size = (uint64_t)bytes;
}

/* Of a file that the journal does not know: as the inventory has it. */
static void take_unknown(sqlite3_stmt *row, struct ind_archive_entry *entry)
{
    entry->modified = number_at(row, ROTATED, IND_TIME_NONE);
    entry->messages = UINT64_MAX;
    entry->text = 0;
}

static void take_known(sqlite3_stmt *row, struct ind_archive_entry *entry)
{
    const char *copied = text_at(row, COPIED);
    entry->known_opened = true;
    entry->known_rotated = strcmp(text_at(row, STATE), "archive") == 0;
    entry->rotated = number_at(row, ROTATED, IND_TIME_NONE);
    entry->hashed = sqlite3_column_int(row, HASHED) != 0;
    entry->copied_to = copied ? ind_path_hash(ind_slice_of(copied)) : 0;
    entry->is_protected = sqlite3_column_type(row, PROTECTED) != SQLITE_NULL;
}

static bool take_row(const struct ind_config *config, sqlite3_stmt *row, struct ind_inventory *inventory)
{
    const char *archive = text_at(row, ARCHIVE);
    struct ind_archive_entry *entry = archive && text_at(row, SERIES) && text_at(row, STATE)
                                          ? ind_inventory_entry(inventory, archive)
                                          : NULL;
    if (!entry || entry->series || !copy_at(row, SERIES, &entry->series) ||
        (strcmp(text_at(row, STATE), "live") == 0 && !copy_at(row, LIVE, &entry->live)) ||
        !copy_at(row, PROTECTED, &entry->why))
        return false;
    entry->number = (uint64_t)number_at(row, NUMBER, 0);
    take_times(row, entry);
    take_sizes(row, entry);
    if (sqlite3_column_int(row, KNOWN) == IND_KNOWN_BY_JOURNAL)
        take_known(row, entry);
    else
        take_unknown(row, entry);
    ind_inventory_find_policy(config, text_at(row, ROUTE), text_at(row, POLICY), entry);
    return true;
}

static bool take_rows(struct ind_catalog *catalog, const struct ind_config *config,
                      struct ind_inventory *inventory)
{
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(catalog->db, rows_text, -1, &rows, NULL);
    bool good = result == SQLITE_OK;
    while (good && (result = sqlite3_step(rows)) == SQLITE_ROW)
        good = take_row(config, rows, inventory);
    sqlite3_finalize(rows);
    return good && result == SQLITE_DONE;
}

bool ind_catalog_inventory(const struct ind_config *config, int folder, struct ind_inventory *inventory)
{
    struct ind_catalog *catalog;
    char reason[256];
    *inventory = (struct ind_inventory){0};
    if (!ind_catalog_to_read(config->state, config->store, folder, PATIENCE, &catalog, reason, sizeof reason))
        return false;
    /* Both at one moment: the collector may go on with it meanwhile. */
    uint64_t place = 0;
    bool good = sqlite3_exec(catalog->db, "BEGIN", NULL, NULL, NULL) == SQLITE_OK &&
                (place = ind_catalog_place(catalog)) > 0 && take_rows(catalog, config, inventory);
    ind_catalog_close(catalog);
    good = good && ind_inventory_resume(config, folder, place, inventory);
    if (!good)
        ind_inventory_free(inventory);
    return good;
}
