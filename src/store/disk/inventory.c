/* Of paths, which are long: the table's own hash takes a step for each byte. */
#define XXH_INLINE_ALL
#include <xxhash.h>
#define HASH_FUNCTION(key, length, value) ((value) = (unsigned)XXH3_64bits(key, length))

#include "store/disk/inventory.h"

#include "store/disk/chain.h"
#include "store/disk/stored.h"
#include "store/disk/walk.h"

#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { PATH_ROOM = 1200 };

struct taker {
    const struct ind_config *config;
    struct ind_inventory *inventory;
    int folder;
    bool out_of_memory;
};

struct ind_archive_entry *ind_inventory_entry(struct ind_inventory *inventory, const char *archive)
{
    struct ind_archive_entry *entry;
    HASH_FIND_STR(inventory->entries, archive, entry);
    if (entry)
        return entry;
    entry = calloc(1, sizeof *entry);
    char *copy = strdup(archive);
    if (!entry || !copy) {
        free(entry);
        free(copy);
        return NULL;
    }
    entry->archive = copy;
    entry->route = entry->policy = IND_NO_POLICY;
    entry->stored = IND_STORED_UNKNOWN;
    entry->first = entry->opened = entry->rotated = entry->modified = entry->last = IND_TIME_NONE;
    entry->messages = UINT64_MAX;
    HASH_ADD_KEYPTR(hh, inventory->entries, entry->archive, strlen(entry->archive), entry);
    return entry;
}

static struct ind_archive_entry *entry_for(struct taker *taker, const char *archive)
{
    struct ind_archive_entry *entry = ind_inventory_entry(taker->inventory, archive);
    taker->out_of_memory |= !entry;
    return entry;
}

static void replace(struct taker *taker, char **text, const char *with)
{
    char *copy = with ? strdup(with) : NULL;
    taker->out_of_memory |= with && !copy;
    free(*text);
    *text = copy;
}

/* The route's present policy; that of the record's name where the route is gone. */
void ind_inventory_find_policy(const struct ind_config *config, const char *route, const char *policy,
                               struct ind_archive_entry *entry)
{
    const struct ind_route *present = route ? ind_config_route(config, route) : NULL;
    if (present) {
        entry->route = (size_t)(present - config->routes);
        entry->policy = present->policy;
        return;
    }
    for (size_t i = 0; policy && i < config->policy_count; i++)
        if (strcmp(config->policies[i].name, policy) == 0)
            entry->policy = i;
}

static void add_record(void *context, const struct ind_journal_record *record)
{
    struct taker *taker = context;
    struct ind_archive_entry *entry = record->archive ? entry_for(taker, record->archive) : NULL;
    if (!entry) /* or it is about a whole series */
        return;
    if (!entry->series)
        replace(taker, &entry->series, record->series);
    entry->number = record->number;
    if (record->event == IND_EVENT_OPENED) {
        replace(taker, &entry->live, record->live);
        entry->known_opened = true;
        entry->known_rotated = entry->known_removed = entry->hashed = false;
        entry->copied_to = 0;
        entry->opened = record->at;
        entry->first = record->first;
        entry->made_up = record->made_up;
        entry->stored = ind_stored_read(ind_slice_of(record->layout), record->version);
        ind_inventory_find_policy(taker->config, record->route, record->policy, entry);
    } else if (record->event == IND_EVENT_ROTATED) {
        entry->known_rotated = true;
        entry->rotated = record->at;
        entry->messages = record->messages;
        entry->text = record->bytes;
        entry->last = record->last;
        if (record->first != IND_TIME_NONE)
            entry->first = record->first;
        entry->size_known = false;
    } else if (record->event == IND_EVENT_COMPRESSED) {
        entry->size_known = false;
        entry->level = record->level < 100 ? (int)record->level : 0;
    } else if (record->event == IND_EVENT_COPIED) {
        entry->copied_to = record->file ? ind_path_hash(ind_slice_of(record->file)) : 0;
    } else if (record->event == IND_EVENT_COMPACTED) { /* the last of many: the number goes on from there */
        entry->known_rotated = entry->known_removed = true;
    } else if (record->event == IND_EVENT_REMOVED) {
        entry->known_removed = true;
    } else if (record->event == IND_EVENT_HASHED) {
        entry->hashed = ind_hash_read(ind_slice_of(record->text_hash), entry->hash);
        entry->text = record->bytes;
    } else if (record->event == IND_EVENT_PROTECTED || record->event == IND_EVENT_UNPROTECTED) {
        entry->is_protected = record->event == IND_EVENT_PROTECTED;
        replace(taker, &entry->why, entry->is_protected ? record->reason : NULL);
    }
    entry->chained |= record->linked;
}

static ind_time modified(const struct stat *facts)
{
    return (ind_time)facts->st_mtim.tv_sec * IND_SECOND + facts->st_mtim.tv_nsec;
}

static void found_archive(struct taker *taker, const struct ind_archive_name *name, const struct stat *facts)
{
    char plain[PATH_ROOM];
    snprintf(plain, sizeof plain, "%.*s", IND_ARG(name->plain));
    struct ind_archive_entry *entry = entry_for(taker, plain);
    if (!entry)
        return;
    if (!entry->series) { /* the journal does not know it: its name tells most of it */
        char series[PATH_ROOM];
        snprintf(series, sizeof series, "%.*s.log", IND_ARG(name->live_stem));
        replace(taker, &entry->series, series);
        entry->number = name->number;
    }
    if (name->compression == IND_COMPRESS_NONE) {
        entry->has_plain = true;
        entry->plain_size = (uint64_t)facts->st_size;
        entry->inode = (uint64_t)facts->st_ino;
    } else {
        entry->compression = name->compression;
        entry->compressed_size = (uint64_t)facts->st_size;
    }
    entry->modified = modified(facts);
}

static void found_live(struct taker *taker, const char *path, const struct stat *facts)
{
    struct ind_live_path *live = calloc(1, sizeof *live);
    char *copy = strdup(path);
    if (!live || !copy) {
        free(live);
        free(copy);
        taker->out_of_memory = true;
        return;
    }
    *live = (struct ind_live_path){.path = copy,
                                   .size = (uint64_t)facts->st_size,
                                   .inode = (uint64_t)facts->st_ino,
                                   .modified = modified(facts)};
    HASH_ADD_KEYPTR(hh, taker->inventory->lives, live->path, strlen(live->path), live);
}

/* A link to a folder, or one with the name of a file of ours. */
static bool is_in_the_way(int folder, const char *path)
{
    struct ind_archive_name name;
    struct stat facts;
    bool to_folder = fstatat(folder, path, &facts, 0) == 0 && S_ISDIR(facts.st_mode);
    return to_folder || ind_is_live_name(ind_slice_of(path)) ||
           ind_archive_name_read(ind_slice_of(path), &name);
}

/* One whose size is known is there, and no more is asked of it. */
static bool add_known(struct taker *taker, const struct ind_archive_name *name)
{
    struct ind_archive_entry *entry;
    HASH_FIND(hh, taker->inventory->entries, name->plain.at, name->plain.length, entry);
    if (!entry || !entry->size_known || entry->packed_as != name->compression)
        return false;
    entry->has_plain |= name->compression == IND_COMPRESS_NONE;
    if (name->compression != IND_COMPRESS_NONE)
        entry->compression = name->compression;
    return true;
}

static bool add_file(void *context, const char *path)
{
    struct taker *taker = context;
    struct ind_inventory *inventory = taker->inventory;
    struct ind_archive_name name;
    struct stat facts;
    const bool named = ind_archive_name_read(ind_slice_of(path), &name);
    if (named && add_known(taker, &name))
        return true;
    const char *slash = strrchr(path, '/');
    if (ind_is_temporary_name(slash ? slash + 1 : path)) {
        char **list = realloc(inventory->leftovers, (inventory->leftover_count + 1) * sizeof *list);
        char *copy = strdup(path);
        if (list)
            inventory->leftovers = list;
        if (list && copy)
            list[inventory->leftover_count++] = copy;
        else
            free(copy);
        return true;
    }
    if (fstatat(taker->folder, path, &facts, AT_SYMLINK_NOFOLLOW) != 0)
        return true; /* gone meanwhile */
    if (S_ISLNK(facts.st_mode) && !inventory->link && is_in_the_way(taker->folder, path))
        replace(taker, &inventory->link, path);
    if (!S_ISREG(facts.st_mode))
        return true; /* not ours */
    if (named)
        found_archive(taker, &name, &facts);
    else if (ind_is_live_name(ind_slice_of(path)))
        found_live(taker, path, &facts);
    return !taker->out_of_memory;
}

/* The newest file opened under a path is the live one there, unless its archive is on disk already. */
static void join_lives(struct ind_inventory *inventory)
{
    struct ind_archive_entry *entry, *next;
    HASH_ITER(hh, inventory->entries, entry, next)
    {
        struct ind_live_path *live = NULL;
        if (entry->live)
            HASH_FIND_STR(inventory->lives, entry->live, live);
        if (live && (!live->entry || entry->number > live->entry->number))
            live->entry = entry;
    }
    struct ind_live_path *live, *after;
    HASH_ITER(hh, inventory->lives, live, after)
    {
        struct ind_archive_entry *is = live->entry;
        if (is && is->known_rotated && !is->has_plain && !is->compression && !is->known_removed)
            live->to_rename = is;
        if (is && (is->has_plain || is->compression || is->known_rotated || is->known_removed))
            live->entry = NULL;
        else if (is)
            is->is_live = true;
    }
}

bool ind_inventory_resume(const struct ind_config *config, int folder, uint64_t journal,
                          struct ind_inventory *inventory)
{
    struct taker taker = {config, inventory, folder, false};
    (void)ind_journal_read(folder, journal, NULL, add_record, &taker);
    (void)ind_walk(folder, add_file, &taker, NULL);
    join_lives(inventory);
    return !taker.out_of_memory;
}

bool ind_inventory(const struct ind_config *config, int folder, struct ind_inventory *inventory)
{
    *inventory = (struct ind_inventory){0};
    return ind_inventory_resume(config, folder, 0, inventory);
}

void ind_inventory_free(struct ind_inventory *inventory)
{
    struct ind_archive_entry *entry, *next;
    HASH_ITER(hh, inventory->entries, entry, next)
    {
        HASH_DEL(inventory->entries, entry);
        free(entry->archive);
        free(entry->series);
        free(entry->live);
        free(entry->why);
        free(entry);
    }
    struct ind_live_path *live, *after;
    HASH_ITER(hh, inventory->lives, live, after)
    {
        HASH_DEL(inventory->lives, live);
        free(live->path);
        free(live);
    }
    for (size_t i = 0; i < inventory->leftover_count; i++)
        free(inventory->leftovers[i]);
    free(inventory->leftovers);
    free(inventory->link);
    *inventory = (struct ind_inventory){0};
}
