/* The volumes of a file in the catalog, their sums by hour, and what the journal keeps of them. */
#include "store/archive/catalog_private.h"

#include <stdlib.h>
#include <string.h>
#include <zstd.h>

/* What a record that an archive is removed holds of its volumes: all of them, where that is not longer; else
 * by hour, or by day. */
enum { LONGEST_WHOLE = 16 << 10, LONGEST_BY_HOUR = 256 << 10 };

/* ---- Devices ---- */

static uint32_t number_of(struct ind_catalog *catalog, struct ind_slice name)
{
    enum ind_catalog_status status;
    sqlite3_stmt *find = ind_catalog_call(catalog, IND_CALL_DEVICE, &status);
    uint32_t number = IND_DEVICE_NONE;
    if (!find)
        return IND_DEVICE_NONE;
    sqlite3_bind_text(find, 1, name.at, (int)name.length, SQLITE_STATIC);
    if (sqlite3_step(find) == SQLITE_ROW)
        number = (uint32_t)sqlite3_column_int64(find, 0);
    sqlite3_reset(find);
    return number;
}

uint32_t ind_catalog_device(struct ind_catalog *catalog, struct ind_slice name)
{
    enum ind_catalog_status status;
    const uint32_t known = number_of(catalog, name);
    if (known != IND_DEVICE_NONE)
        return known;
    sqlite3_stmt *add = ind_catalog_call(catalog, IND_CALL_ADD_DEVICE, &status);
    if (!add)
        return IND_DEVICE_OTHERS;
    sqlite3_bind_text(add, 1, name.at, (int)name.length, SQLITE_STATIC);
    sqlite3_bind_int64(add, 2, IND_CATALOG_MOST_DEVICES);
    return ind_catalog_run(catalog, add) == IND_CATALOG_GOOD && sqlite3_changes(catalog->db) == 1
               ? (uint32_t)sqlite3_last_insert_rowid(catalog->db)
               : IND_DEVICE_OTHERS;
}

/* ---- Sums by hour ---- */

enum { SEVERITIES = 8, UNKNOWN_SEVERITY = SEVERITIES };

struct hour {
    int64_t hour;
    int64_t severities[SEVERITIES + 1], bytes;
};

static enum ind_catalog_status add_hour(struct ind_catalog *catalog, const struct hour *hour, int64_t file,
                                        int sign)
{
    enum ind_catalog_status status;
    sqlite3_stmt *add = ind_catalog_call(catalog, IND_CALL_ADD_HOUR, &status);
    if (!add)
        return status;
    sqlite3_bind_int64(add, 1, hour->hour);
    sqlite3_bind_int64(add, 2, file);
    for (int i = 0; i <= SEVERITIES; i++)
        sqlite3_bind_int64(add, 3 + i, sign * hour->severities[i]);
    sqlite3_bind_int64(add, 4 + SEVERITIES, sign * hour->bytes);
    return ind_catalog_run(catalog, add);
}

static enum ind_catalog_status add_hours(struct ind_catalog *catalog, struct ind_volumes *volumes,
                                         int64_t file, int sign)
{
    size_t count;
    enum ind_catalog_status status = IND_CATALOG_GOOD;
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
    for (size_t i = 0; i < count && status == IND_CATALOG_GOOD;) {
        struct hour hour = {.hour = list[i].hour};
        for (; i < count && list[i].hour == hour.hour; i++) {
            hour.severities[list[i].pri == IND_VOLUME_NO_PRI ? UNKNOWN_SEVERITY : list[i].pri % SEVERITIES] +=
                (int64_t)list[i].messages;
            hour.bytes += (int64_t)list[i].bytes;
        }
        status = add_hour(catalog, &hour, file, sign);
    }
    return status;
}

/* ---- As they are stored ---- */

/* No file's volumes are longer. */
enum { LONGEST_PACKED = 128 << 20, LEVEL = 3 };

bool ind_catalog_packed(struct ind_slice stored, struct ind_slice *packed, char **made)
{
    const unsigned long long length = ZSTD_getFrameContentSize(stored.at, stored.length);
    *made = NULL;
    *packed = stored;
    if (length == ZSTD_CONTENTSIZE_ERROR || stored.length == 0) /* it is none of zstd's */
        return true;
    *made = length <= LONGEST_PACKED ? malloc((size_t)length + 1) : NULL;
    *packed = (struct ind_slice){*made, (size_t)length};
    return *made && ZSTD_decompress(*made, (size_t)length, stored.at, stored.length) == length;
}

bool ind_catalog_unpack(struct ind_slice stored, struct ind_volumes *volumes)
{
    struct ind_slice packed;
    char *made;
    const bool good = ind_catalog_packed(stored, &packed, &made) && ind_volumes_unpack(packed, volumes);
    free(made);
    return good;
}

/* By zstd where that is shorter. New; NULL where memory is out. */
static char *pack(struct ind_volumes *volumes, size_t *length)
{
    char *packed = ind_volumes_pack(volumes, length);
    const size_t room = packed ? ZSTD_compressBound(*length) : 0;
    char *shorter = packed ? malloc(room) : NULL;
    const size_t size = shorter ? ZSTD_compress(shorter, room, packed, *length, LEVEL) : *length;
    if (!shorter || ZSTD_isError(size) || size >= *length) {
        free(shorter);
        return packed;
    }
    free(packed);
    *length = size;
    return shorter;
}

/* ---- Of a file ---- */

struct ind_volumes *ind_catalog_volumes(struct ind_catalog *catalog, int64_t file,
                                        enum ind_catalog_status *status)
{
    struct ind_volumes *volumes = ind_volumes_new();
    sqlite3_stmt *get = ind_catalog_call(catalog, IND_CALL_GET_VOLUMES, status);
    if (!volumes && *status == IND_CATALOG_GOOD)
        *status = IND_CATALOG_FAILED;
    if (volumes && get) {
        sqlite3_bind_int64(get, 1, file);
        const int result = sqlite3_step(get);
        *status = ind_catalog_status_of(catalog, result);
        if (result == SQLITE_ROW &&
            !ind_catalog_unpack(
                (struct ind_slice){sqlite3_column_blob(get, 0), (size_t)sqlite3_column_bytes(get, 0)},
                volumes))
            *status = ind_catalog_damaged(catalog, IND_CATALOG_BAD_VOLUMES);
        sqlite3_reset(get);
    }
    if (*status == IND_CATALOG_GOOD)
        return volumes;
    ind_volumes_free(volumes);
    return NULL;
}

static enum ind_catalog_status put(struct ind_catalog *catalog, int64_t file, struct ind_volumes *volumes)
{
    enum ind_catalog_status status;
    sqlite3_stmt *set =
        ind_catalog_call(catalog, volumes ? IND_CALL_SET_VOLUMES : IND_CALL_FORGET_VOLUMES, &status);
    if (!set)
        return status;
    sqlite3_bind_int64(set, 1, file);
    if (!volumes)
        return ind_catalog_run(catalog, set);
    size_t length;
    char *packed = pack(volumes, &length);
    if (!packed)
        return IND_CATALOG_FAILED;
    sqlite3_bind_blob64(set, 2, packed, length, SQLITE_STATIC);
    status = ind_catalog_run(catalog, set);
    free(packed);
    return status;
}

static enum ind_catalog_status drop_empty_hours(struct ind_catalog *catalog)
{
    enum ind_catalog_status status;
    sqlite3_stmt *drop = ind_catalog_call(catalog, IND_CALL_DROP_HOURS, &status);
    return drop ? ind_catalog_run(catalog, drop) : status;
}

enum ind_catalog_status ind_catalog_store_volumes(struct ind_catalog *catalog, int64_t file,
                                                  struct ind_volumes *volumes, bool instead,
                                                  uint64_t *messages)
{
    enum ind_catalog_status status;
    size_t count;
    struct ind_volumes *before = ind_catalog_volumes(catalog, file, &status);
    if (!before)
        return status;
    (void)ind_volumes_sorted(before, &count);
    const bool takes_back = instead && count > 0;
    if (takes_back)
        status = add_hours(catalog, before, file, -1);
    if (instead)
        ind_volumes_clear(before);
    if (status == IND_CATALOG_GOOD && volumes)
        status = add_hours(catalog, volumes, file, 1);
    if (status == IND_CATALOG_GOOD && volumes) {
        const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
        for (size_t i = 0; i < count && status == IND_CATALOG_GOOD; i++)
            status = ind_volumes_add(before, &list[i]) ? status : IND_CATALOG_FAILED;
        if (ind_volumes_folded(volumes))
            ind_volumes_set_folded(before);
    }
    if (status == IND_CATALOG_GOOD)
        status = put(catalog, file, volumes ? before : NULL);
    if (status == IND_CATALOG_GOOD && takes_back)
        status = drop_empty_hours(catalog);
    const struct ind_volume *all = ind_volumes_sorted(before, &count);
    for (size_t i = 0; messages && i < count; i++)
        *messages += all[i].messages;
    ind_volumes_free(before);
    return status;
}

enum ind_catalog_status ind_catalog_forget_file(struct ind_catalog *catalog, int64_t file)
{
    enum ind_catalog_status status = ind_catalog_store_volumes(catalog, file, NULL, true, NULL);
    sqlite3_stmt *forget =
        status == IND_CATALOG_GOOD ? ind_catalog_call(catalog, IND_CALL_FORGET_FILE, &status) : NULL;
    if (!forget)
        return status;
    sqlite3_bind_int64(forget, 1, file);
    return ind_catalog_run(catalog, forget);
}

enum ind_catalog_status ind_catalog_forget_all(struct ind_catalog *catalog, enum ind_catalog_call call,
                                               const char *text, const char *other, uint64_t number)
{
    enum ind_catalog_status status = IND_CATALOG_GOOD;
    while (status == IND_CATALOG_GOOD) {
        sqlite3_stmt *list = ind_catalog_call(catalog, call, &status);
        if (!list)
            return status;
        ind_catalog_bind_text(list, 1, text);
        if (number <= INT64_MAX)
            sqlite3_bind_int64(list, 2, (int64_t)number);
        else
            ind_catalog_bind_text(list, 2, other);
        const bool any = sqlite3_step(list) == SQLITE_ROW;
        const int64_t file = any ? sqlite3_column_int64(list, 0) : 0;
        sqlite3_reset(list);
        if (!any)
            break;
        status = ind_catalog_forget_file(catalog, file);
    }
    return status;
}

/* ---- Out of the journal ---- */

static uint32_t number_for(void *context, struct ind_slice name)
{
    return ind_catalog_device(context, name);
}

static enum ind_catalog_status set_whole(struct ind_catalog *catalog, int64_t file, uint64_t messages)
{
    enum ind_catalog_status status;
    sqlite3_stmt *call = ind_catalog_call(catalog, IND_CALL_SET_COUNTED, &status);
    if (!call)
        return status;
    sqlite3_bind_int64(call, 1, file);
    sqlite3_bind_int(call, 2, IND_COUNTED_WHOLE);
    sqlite3_bind_int64(call, 3, 0);
    sqlite3_bind_int64(call, 4, 0);
    sqlite3_bind_int64(call, 5, (int64_t)messages);
    return ind_catalog_run(catalog, call);
}

enum ind_catalog_status ind_catalog_take_text(struct ind_catalog *catalog, int64_t file, const char *text)
{
    enum ind_catalog_status status = IND_CATALOG_GOOD;
    uint64_t messages = 0;
    struct ind_volumes *volumes = ind_volumes_new();
    if (!volumes)
        return IND_CATALOG_FAILED;
    if (ind_volumes_read(ind_slice_of(text), number_for, catalog, volumes))
        status = ind_catalog_store_volumes(catalog, file, volumes, true, &messages);
    ind_volumes_free(volumes);
    return status == IND_CATALOG_GOOD ? set_whole(catalog, file, messages) : status;
}

/* ---- Of an archive that goes ---- */

static struct ind_slice name_of(void *context, uint32_t device)
{
    enum ind_catalog_status status;
    struct ind_catalog *catalog = context;
    sqlite3_stmt *get = ind_catalog_call(catalog, IND_CALL_DEVICE_NAME, &status);
    if (!get)
        return IND_SLICE("-");
    sqlite3_bind_int64(get, 1, device);
    return sqlite3_step(get) == SQLITE_ROW ? (struct ind_slice){(const char *)sqlite3_column_text(get, 0),
                                                                (size_t)sqlite3_column_bytes(get, 0)}
                                           : IND_SLICE("-");
}

char *ind_catalog_closing_text(struct ind_volumes *volumes, struct ind_slice (*name)(void *, uint32_t),
                               void *context)
{
    static const size_t longest[] = {LONGEST_WHOLE, LONGEST_BY_HOUR, SIZE_MAX};
    for (int detail = IND_VOLUMES_WHOLE; detail <= IND_VOLUMES_BY_DAY; detail++) {
        size_t length;
        char *text = ind_volumes_write(volumes, (enum ind_volume_detail)detail, name, context, &length);
        if (!text || (length && length <= longest[detail]))
            return text;
        free(text);
    }
    return NULL;
}

char *ind_catalog_closing(struct ind_catalog *catalog, const char *archive)
{
    enum ind_catalog_status status;
    char *text = NULL;
    sqlite3_stmt *find = ind_catalog_call(catalog, IND_CALL_FILE_OF, &status);
    if (!find)
        return NULL;
    ind_catalog_bind_text(find, 1, archive);
    const bool known = sqlite3_step(find) == SQLITE_ROW && sqlite3_column_int(find, 1) == IND_COUNTED_WHOLE;
    const int64_t file = known ? sqlite3_column_int64(find, 0) : 0;
    sqlite3_reset(find);
    struct ind_volumes *volumes = known ? ind_catalog_volumes(catalog, file, &status) : NULL;
    if (volumes)
        text = ind_catalog_closing_text(volumes, name_of, catalog);
    ind_volumes_free(volumes);
    sqlite3_stmt *names = catalog->calls[IND_CALL_DEVICE_NAME];
    if (names) /* a row that is still read would keep the log from being taken over */
        sqlite3_reset(names);
    return text;
}
