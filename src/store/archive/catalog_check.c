/* Whether a catalog is whole. SQLite knows its own pages; what stands in them nobody has hashed: volumes have
 * a check of their own, and sums are added up once more. */
#include "store/archive/catalog_private.h"

#include <stdlib.h>
#include <string.h>

enum { SEVERITIES = 8, MOST_ROUTES = 4096 };

struct checking {
    struct ind_catalog *catalog;
    struct ind_volumes *sums; /* by hour, route in the place of the device, and severity in that of the PRI */
    char *routes[MOST_ROUTES];
    uint32_t route_count;
    bool out_of_memory;
};

static enum ind_catalog_status check_pages(struct ind_catalog *catalog)
{
    sqlite3_stmt *check = NULL;
    int result = sqlite3_prepare_v2(catalog->db, "PRAGMA quick_check(1)", -1, &check, NULL);
    enum ind_catalog_status status = ind_catalog_status_of(catalog, result);
    if (result == SQLITE_OK && (result = sqlite3_step(check)) == SQLITE_ROW) {
        const char *text = (const char *)sqlite3_column_text(check, 0);
        if (!text || strcmp(text, "ok") != 0)
            status = ind_catalog_damaged(catalog, text ? text : "its pages cannot be checked");
    } else if (status == IND_CATALOG_GOOD) {
        status = ind_catalog_status_of(catalog, result);
    }
    sqlite3_finalize(check);
    return status;
}

/* There are few. */
static uint32_t route_of(struct checking *checking, const char *name)
{
    uint32_t i = 0;
    name = name ? name : "";
    while (i < checking->route_count && strcmp(checking->routes[i], name) != 0)
        i++;
    if (i == checking->route_count && i < MOST_ROUTES) {
        checking->routes[i] = strdup(name);
        checking->out_of_memory |= !checking->routes[i];
        checking->route_count += checking->routes[i] != NULL;
    }
    return IND_DEVICE_FIRST + i;
}

static void add(struct checking *checking, int64_t hour, uint32_t route, uint8_t severity, int64_t messages,
                int64_t bytes)
{
    const struct ind_volume volume = {.hour = hour,
                                      .device = route,
                                      .pri = severity,
                                      .messages = (uint64_t)messages,
                                      .bytes = (uint64_t)bytes};
    if ((messages || bytes) && !ind_volumes_add(checking->sums, &volume))
        checking->out_of_memory = true;
}

/* All that the files have. */
static enum ind_catalog_status add_files(struct checking *checking)
{
    struct ind_catalog *catalog = checking->catalog;
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(
        catalog->db, "SELECT packed, route FROM volumes LEFT JOIN files ON files.id = volumes.file", -1,
        &rows, NULL);
    enum ind_catalog_status status = ind_catalog_status_of(catalog, result);
    while (status == IND_CATALOG_GOOD && (result = sqlite3_step(rows)) == SQLITE_ROW) {
        struct ind_volumes *volumes = ind_volumes_new();
        size_t count = 0;
        const struct ind_slice packed = {sqlite3_column_blob(rows, 0), (size_t)sqlite3_column_bytes(rows, 0)};
        const uint32_t route = route_of(checking, (const char *)sqlite3_column_text(rows, 1));
        if (!volumes)
            status = IND_CATALOG_FAILED;
        else if (!ind_catalog_unpack(packed, volumes))
            status = ind_catalog_damaged(catalog, IND_CATALOG_BAD_VOLUMES);
        const struct ind_volume *list =
            status == IND_CATALOG_GOOD ? ind_volumes_sorted(volumes, &count) : NULL;
        for (size_t i = 0; i < count; i++)
            add(checking, list[i].hour, route,
                list[i].pri == IND_VOLUME_NO_PRI ? SEVERITIES : list[i].pri % SEVERITIES,
                (int64_t)list[i].messages, (int64_t)list[i].bytes);
        ind_volumes_free(volumes);
    }
    sqlite3_finalize(rows);
    return status == IND_CATALOG_GOOD ? ind_catalog_status_of(catalog, result) : status;
}

/* And away again what the sums have: nothing is left. The bytes of an hour are of all its severities. */
static enum ind_catalog_status take_sums(struct checking *checking)
{
    struct ind_catalog *catalog = checking->catalog;
    sqlite3_stmt *rows = NULL;
    int result = sqlite3_prepare_v2(catalog->db, "SELECT * FROM hours", -1, &rows, NULL);
    enum ind_catalog_status status = ind_catalog_status_of(catalog, result);
    while (status == IND_CATALOG_GOOD && (result = sqlite3_step(rows)) == SQLITE_ROW) {
        const int64_t hour = sqlite3_column_int64(rows, 0);
        const uint32_t route = route_of(checking, (const char *)sqlite3_column_text(rows, 1));
        for (int i = 0; i <= SEVERITIES; i++)
            add(checking, hour, route, (uint8_t)i, -sqlite3_column_int64(rows, 2 + i), 0);
        add(checking, hour, route, 0, 0, -sqlite3_column_int64(rows, 3 + SEVERITIES));
    }
    sqlite3_finalize(rows);
    return status == IND_CATALOG_GOOD ? ind_catalog_status_of(catalog, result) : status;
}

static bool is_nothing_left(struct checking *checking)
{
    size_t count;
    const struct ind_volume *list = ind_volumes_sorted(checking->sums, &count);
    uint64_t bytes = 0;
    for (size_t i = 0; i < count; i++) {
        bytes += list[i].bytes;
        const bool ends =
            i + 1 == count || list[i + 1].hour != list[i].hour || list[i + 1].device != list[i].device;
        if (list[i].messages || (ends && bytes))
            return false;
        bytes = ends ? 0 : bytes;
    }
    return true;
}

static enum ind_catalog_status check_sums(struct ind_catalog *catalog)
{
    struct checking checking = {.catalog = catalog, .sums = ind_volumes_new()};
    enum ind_catalog_status status = checking.sums ? add_files(&checking) : IND_CATALOG_FAILED;
    if (status == IND_CATALOG_GOOD)
        status = take_sums(&checking);
    const bool can_tell = status == IND_CATALOG_GOOD && !checking.out_of_memory &&
                          !ind_volumes_folded(checking.sums) && checking.route_count < MOST_ROUTES;
    if (can_tell && !is_nothing_left(&checking))
        status = ind_catalog_damaged(catalog, "its sums by hour are not those of its files");
    for (uint32_t i = 0; i < checking.route_count; i++)
        free(checking.routes[i]);
    ind_volumes_free(checking.sums);
    return status;
}

enum ind_catalog_status ind_catalog_check(struct ind_catalog *catalog)
{
    enum ind_catalog_status status = check_pages(catalog);
    if (status != IND_CATALOG_GOOD)
        return status;
    status = ind_catalog_run_text(catalog, "BEGIN"); /* all of it at one moment */
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_end(catalog, check_sums(catalog));
    return status;
}
