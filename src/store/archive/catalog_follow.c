/* From the journal, and from what lies in the folders, to the catalog's files. */
#include "store/archive/catalog_private.h"

#include "core/line/template.h"
#include "store/disk/walk.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include <xxhash.h>

enum { PATH_ROOM = 1200, BLOCK = 64 << 10 };

struct following {
    struct ind_catalog *catalog;
    const struct ind_interrupt *interrupt;
    enum ind_catalog_status status;
    bool interrupted, from_the_beginning;
};

/* ---- Records ---- */

static void bind_number(sqlite3_stmt *statement, int at, uint64_t number)
{
    if (number <= INT64_MAX)
        sqlite3_bind_int64(statement, at, (int64_t)number);
}

static sqlite3_stmt *call_of(struct following *following, enum ind_catalog_call call, const char *archive)
{
    sqlite3_stmt *statement = ind_catalog_call(following->catalog, call, &following->status);
    if (statement)
        ind_catalog_bind_text(statement, 1, archive);
    return statement;
}

static void run(struct following *following, sqlite3_stmt *statement)
{
    following->status = ind_catalog_run(following->catalog, statement);
}

/* One that was live under this path, and was never rotated, is gone. */
static void take_opened(struct following *following, const struct ind_journal_record *record)
{
    following->status = ind_catalog_forget_all(following->catalog, IND_CALL_STALE_LIVE, record->live,
                                               record->archive, UINT64_MAX);
    if (following->status != IND_CATALOG_GOOD)
        return;
    sqlite3_stmt *call = call_of(following, IND_CALL_OPENED, record->archive);
    if (!call)
        return;
    ind_catalog_bind_text(call, 2, record->series);
    bind_number(call, 3, record->number);
    ind_catalog_bind_text(call, 4, record->live);
    ind_catalog_bind_text(call, 5, record->route);
    ind_catalog_bind_text(call, 6, record->policy);
    ind_catalog_bind_text(call, 7, record->layout);
    bind_number(call, 8, record->version);
    sqlite3_bind_int(call, 9, record->made_up);
    ind_catalog_bind_time(call, 10, record->at);
    ind_catalog_bind_time(call, 11, record->first);
    sqlite3_bind_int(call, 12, record->linked);
    run(following, call);
}

static void take_rotated(struct following *following, const struct ind_journal_record *record)
{
    sqlite3_stmt *call = call_of(following, IND_CALL_ROTATED, record->archive);
    if (!call)
        return;
    ind_catalog_bind_time(call, 2, record->at);
    bind_number(call, 3, record->bytes);
    bind_number(call, 4, record->messages);
    ind_catalog_bind_time(call, 5, record->first);
    ind_catalog_bind_time(call, 6, record->last);
    run(following, call);
}

static void take_compressed(struct following *following, const struct ind_journal_record *record)
{
    struct ind_archive_name name;
    sqlite3_stmt *call = call_of(following, IND_CALL_COMPRESSED, record->archive);
    if (!call)
        return;
    const bool named = record->file && ind_archive_name_read(ind_slice_of(record->file), &name);
    sqlite3_bind_int(call, 2, named ? (int)name.compression : IND_COMPRESS_NONE);
    bind_number(call, 3, record->bytes);
    bind_number(call, 4, record->level < 100 ? record->level : 0);
    run(following, call);
}

/* The same for those of which a text is all that is told. */
static void take_text(struct following *following, enum ind_catalog_call of, const char *archive,
                      const char *text)
{
    sqlite3_stmt *call = call_of(following, of, archive);
    if (!call)
        return;
    ind_catalog_bind_text(call, 2, text);
    run(following, call);
}

static void take_hashed(struct following *following, const struct ind_journal_record *record)
{
    sqlite3_stmt *call = call_of(following, IND_CALL_HASHED, record->archive);
    if (!call)
        return;
    bind_number(call, 2, record->bytes);
    ind_catalog_bind_text(call, 3, record->text_hash);
    run(following, call);
}

/* Of one whose other records were left out when the journal was written anew. */
static int64_t add_removed(struct following *following, const struct ind_journal_record *record)
{
    sqlite3_stmt *add = call_of(following, IND_CALL_ADD_REMOVED, record->archive);
    if (!add)
        return 0;
    ind_catalog_bind_text(add, 2, record->series);
    bind_number(add, 3, record->number);
    ind_catalog_bind_time(add, 4, record->at);
    ind_catalog_bind_text(add, 5, record->reason);
    ind_catalog_bind_text(add, 6, ind_catalog_compacted_route(following->catalog, record->series));
    run(following, add);
    return sqlite3_last_insert_rowid(following->catalog->db);
}

/* Those that were counted before it went stay as they are. */
static void take_removed(struct following *following, const struct ind_journal_record *record)
{
    sqlite3_stmt *call = call_of(following, IND_CALL_REMOVED, record->archive);
    if (!call)
        return;
    ind_catalog_bind_time(call, 2, record->at);
    ind_catalog_bind_text(call, 3, record->reason);
    run(following, call);
    sqlite3_stmt *find = following->status == IND_CATALOG_GOOD && record->volumes
                             ? call_of(following, IND_CALL_FILE_OF, record->archive)
                             : NULL;
    if (!find)
        return;
    const bool known = sqlite3_step(find) == SQLITE_ROW;
    int64_t file = known ? sqlite3_column_int64(find, 0) : 0;
    const bool counted = known && sqlite3_column_int(find, 1) == IND_COUNTED_WHOLE;
    sqlite3_reset(find);
    if (!known)
        file = add_removed(following, record);
    if (!counted && following->status == IND_CATALOG_GOOD)
        following->status = ind_catalog_take_text(following->catalog, file, record->volumes);
}

/* What it stands for is settled once all else is known. */
static void note_compacted(struct following *following, const struct ind_journal_record *record)
{
    if (following->from_the_beginning)
        following->status = ind_catalog_note_compacted(following->catalog, record);
}

static void take(void *context, const struct ind_journal_record *record)
{
    struct following *following = context;
    following->interrupted |= ind_interrupted(following->interrupt);
    if (following->status != IND_CATALOG_GOOD || following->interrupted)
        return;
    switch (record->event) {
    case IND_EVENT_OPENED:
        take_opened(following, record);
        break;
    case IND_EVENT_ROTATED:
        take_rotated(following, record);
        break;
    case IND_EVENT_HASHED:
        take_hashed(following, record);
        break;
    case IND_EVENT_COMPRESSED:
        take_compressed(following, record);
        break;
    case IND_EVENT_COPIED:
        take_text(following, IND_CALL_COPIED, record->archive, record->file);
        break;
    case IND_EVENT_REMOVED:
        take_removed(following, record);
        break;
    case IND_EVENT_COMPACTED:
        note_compacted(following, record);
        break;
    case IND_EVENT_PROTECTED:
        take_text(following, IND_CALL_PROTECTED, record->archive, record->reason ? record->reason : "");
        break;
    case IND_EVENT_UNPROTECTED:
        take_text(following, IND_CALL_PROTECTED, record->archive, NULL);
        break;
    default: /* of a series as a whole */
        break;
    }
}

/* ---- The journal ---- */

/* Of all that stands before `end`, from where the last call ended. False where there is not so much. */
static bool hash_to(struct ind_catalog *catalog, uint64_t end)
{
    char block[BLOCK];
    const int file =
        openat(catalog->folder, IND_JOURNAL_PATH, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (!catalog->journal_hash || end < catalog->journal_at) {
        catalog->journal_hash = catalog->journal_hash ? catalog->journal_hash : XXH64_createState();
        catalog->journal_at = 0;
        if (catalog->journal_hash)
            XXH64_reset(catalog->journal_hash, 0);
    }
    while (file >= 0 && catalog->journal_hash && catalog->journal_at < end) {
        const uint64_t left = end - catalog->journal_at;
        const ssize_t got =
            pread(file, block, left < BLOCK ? (size_t)left : BLOCK, (off_t)catalog->journal_at);
        if (got <= 0)
            break;
        XXH64_update(catalog->journal_hash, block, (size_t)got);
        catalog->journal_at += (uint64_t)got;
    }
    if (file >= 0)
        close(file);
    return catalog->journal_hash && catalog->journal_at == end;
}

static int64_t digest(const struct ind_catalog *catalog)
{
    return (int64_t)XXH64_digest(catalog->journal_hash);
}

uint64_t ind_catalog_place(struct ind_catalog *catalog)
{
    const int64_t place = ind_catalog_meta(catalog, "journal", 0);
    if (place > 0 && (uint64_t)place <= ind_journal_size(catalog->folder) &&
        hash_to(catalog, (uint64_t)place) && digest(catalog) == ind_catalog_meta(catalog, "journal_hash", 0))
        return (uint64_t)place;
    catalog->journal_at = UINT64_MAX; /* begin anew */
    return 0;
}

void ind_catalog_forget_journal(struct ind_catalog *catalog)
{
    XXH64_freeState(catalog->journal_hash);
}

/* ---- What lies in the folders ---- */

/* The journal does not know it: its name tells most of it. */
static void take_unknown(struct following *following, const struct ind_archive_name *name, const char *path)
{
    struct stat facts;
    char plain[PATH_ROOM], series[PATH_ROOM];
    if (fstatat(following->catalog->folder, path, &facts, AT_SYMLINK_NOFOLLOW) != 0 ||
        !S_ISREG(facts.st_mode))
        return;
    snprintf(plain, sizeof plain, "%.*s", IND_ARG(name->plain));
    snprintf(series, sizeof series, "%.*s.log", IND_ARG(name->live_stem));
    sqlite3_stmt *found = call_of(following, IND_CALL_FOUND, plain);
    if (!found)
        return;
    ind_catalog_bind_text(found, 2, series);
    bind_number(found, 3, name->number);
    if (name->compression == IND_COMPRESS_NONE)
        sqlite3_bind_int64(found, 4, facts.st_size);
    sqlite3_bind_int64(found, 5, facts.st_size);
    sqlite3_bind_int(found, 6, (int)name->compression);
    sqlite3_bind_int64(found, 7, (int64_t)facts.st_mtim.tv_sec * IND_SECOND + facts.st_mtim.tv_nsec);
    run(following, found);
}

static bool take_file(void *context, const char *path)
{
    struct following *following = context;
    struct ind_archive_name name;
    if (following->status == IND_CATALOG_GOOD && ind_archive_name_read(ind_slice_of(path), &name)) {
        char plain[PATH_ROOM];
        snprintf(plain, sizeof plain, "%.*s", IND_ARG(name.plain));
        sqlite3_stmt *find = call_of(following, IND_CALL_FILE_OF, plain);
        const bool known = find && sqlite3_step(find) == SQLITE_ROW;
        if (find)
            sqlite3_reset(find);
        if (!known)
            take_unknown(following, &name, path);
    }
    return following->status == IND_CATALOG_GOOD;
}

/* Nobody writes down what becomes of those that nobody has written down. */
static void forget_gone(struct following *following)
{
    int64_t last = 0;
    while (following->status == IND_CATALOG_GOOD) {
        struct stat facts;
        char path[PATH_ROOM];
        sqlite3_stmt *list = ind_catalog_call(following->catalog, IND_CALL_GONE_UNKNOWN, &following->status);
        if (!list)
            return;
        sqlite3_bind_int64(list, 1, last);
        if (sqlite3_step(list) != SQLITE_ROW) {
            sqlite3_reset(list);
            return;
        }
        last = sqlite3_column_int64(list, 0);
        snprintf(path, sizeof path, "%s%s", (const char *)sqlite3_column_text(list, 1),
                 ind_compression_suffix((enum ind_compression)sqlite3_column_int(list, 2)).at);
        sqlite3_reset(list);
        if (fstatat(following->catalog->folder, path, &facts, AT_SYMLINK_NOFOLLOW) != 0)
            following->status = ind_catalog_forget_file(following->catalog, last);
    }
}

enum ind_catalog_status ind_catalog_look_at_all(struct ind_catalog *catalog)
{
    struct following following = {.catalog = catalog};
    (void)ind_walk(catalog->folder, take_file, &following, NULL);
    forget_gone(&following);
    sqlite3_stmt *again = following.status == IND_CATALOG_GOOD
                              ? ind_catalog_call(catalog, IND_CALL_TRY_AGAIN, &following.status)
                              : NULL;
    if (again)
        run(&following, again);
    return following.status;
}

enum ind_catalog_status ind_catalog_look(struct ind_catalog *catalog)
{
    const enum ind_catalog_status status = ind_catalog_begin(catalog);
    return status == IND_CATALOG_GOOD ? ind_catalog_end(catalog, ind_catalog_look_at_all(catalog)) : status;
}

/* ---- All of it ---- */

enum ind_catalog_status ind_catalog_follow_all(struct ind_catalog *catalog,
                                               const struct ind_interrupt *interrupt)
{
    struct following following = {.catalog = catalog, .interrupt = interrupt};
    const uint64_t from = ind_catalog_place(catalog);
    following.from_the_beginning = from == 0;
    if (from == 0)
        following.status = ind_catalog_doubt_all(catalog);
    const uint64_t to = ind_journal_read(catalog->folder, from, NULL, take, &following);
    if (from == 0 && !following.interrupted && following.status == IND_CATALOG_GOOD)
        following.status = ind_catalog_settle_doubts(catalog);
    if (from == 0 && !following.interrupted && following.status == IND_CATALOG_GOOD)
        following.status = ind_catalog_look_at_all(catalog);
    ind_catalog_forget_compacted(catalog);
    if (following.interrupted)
        return IND_CATALOG_LOCKED;
    if (following.status != IND_CATALOG_GOOD || (to == from && from > 0))
        return following.status;
    if (!hash_to(catalog, to))
        return IND_CATALOG_FAILED;
    const enum ind_catalog_status status = ind_catalog_set_meta(catalog, "journal", (int64_t)to);
    return status == IND_CATALOG_GOOD ? ind_catalog_set_meta(catalog, "journal_hash", digest(catalog))
                                      : status;
}

enum ind_catalog_status ind_catalog_follow(struct ind_catalog *catalog, const struct ind_interrupt *interrupt)
{
    const int64_t place = ind_catalog_meta(catalog, "journal", -1);
    if (place == (int64_t)ind_journal_size(catalog->folder))
        return IND_CATALOG_GOOD; /* nearly always */
    const enum ind_catalog_status status = ind_catalog_begin(catalog);
    return status == IND_CATALOG_GOOD ? ind_catalog_end(catalog, ind_catalog_follow_all(catalog, interrupt))
                                      : status;
}
