#include "store/disk/mounts.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* What one line of the table says of a file system within the store, or of the one that holds it. */
struct found {
    char *path;              /* below the store; "": the store's own */
    size_t length, depth;    /* depth: of the mount point, to tell which of those above the store holds it */
    struct ind_slice device; /* its numbers, in the table */
};

struct founds {
    struct found *list;
    size_t count, room;
};

static struct ind_slice next_word(struct ind_slice *line)
{
    size_t length = 0;
    while (length < line->length && line->at[length] != ' ')
        length++;
    struct ind_slice word = {line->at, length};
    *line = ind_slice_from(*line, length < line->length ? length + 1 : length);
    return word;
}

/* Spaces, tabs, line ends and backslashes stand as three octal digits. New, terminated. */
static char *unescaped(struct ind_slice word)
{
    char *text = malloc(word.length + 1);
    size_t length = 0;
    for (size_t i = 0; text && i < word.length; i++) {
        bool octal = word.at[i] == '\\' && word.length - i > 3 && word.at[i + 1] >= '0' &&
                     word.at[i + 1] <= '3' && word.at[i + 2] >= '0' && word.at[i + 2] <= '7' &&
                     word.at[i + 3] >= '0' && word.at[i + 3] <= '7';
        if (octal) {
            text[length++] =
                (char)((word.at[i + 1] - '0') << 6 | (word.at[i + 2] - '0') << 3 | (word.at[i + 3] - '0'));
            i += 3;
        } else {
            text[length++] = word.at[i];
        }
    }
    if (text)
        text[length] = '\0';
    return text;
}

/* Whether `path` is `folder` or below it. */
static bool is_within(const char *path, const char *folder)
{
    size_t length = strlen(folder);
    while (length > 0 && folder[length - 1] == '/')
        length--;
    return strncmp(path, folder, length) == 0 && (path[length] == '\0' || path[length] == '/');
}

/* One that is mounted over another at the same place hides it. */
static struct found *place_for(struct founds *founds, const char *path)
{
    for (size_t i = 0; i < founds->count; i++)
        if (strcmp(founds->list[i].path, path) == 0)
            return &founds->list[i];
    if (founds->count == founds->room) {
        size_t room = founds->room ? founds->room * 2 : 16;
        struct found *grown = realloc(founds->list, room * sizeof *grown);
        if (!grown)
            return NULL;
        founds->list = grown;
        founds->room = room;
    }
    founds->list[founds->count] = (struct found){0};
    return &founds->list[founds->count++];
}

/* False where memory is out. */
static bool take_line(struct ind_slice line, const char *store, struct founds *founds)
{
    (void)next_word(&line); /* its number, and its parent's */
    (void)next_word(&line);
    struct ind_slice device = next_word(&line);
    (void)next_word(&line); /* what of it is mounted here */
    char *point = unescaped(next_word(&line));
    bool holds = point && is_within(store, point), inside = point && !holds && is_within(point, store);
    if (point && !holds && !inside) {
        free(point);
        return true;
    }
    size_t depth = point ? strlen(point) : 0;
    char *path = !point ? NULL : strdup(holds ? "" : point + strlen(store) + 1);
    free(point);
    size_t before = founds->count;
    struct found *found = path ? place_for(founds, path) : NULL;
    if (!found) {
        free(path);
        return false;
    }
    bool fresh = founds->count > before;
    if (!fresh && holds && found->depth > depth) { /* another above the store is nearer to it */
        free(path);
        return true;
    }
    if (!fresh)
        free(found->path);
    *found = (struct found){path, strlen(path), depth, device};
    return true;
}

static int longest_first(const void *one, const void *other)
{
    const struct found *a = one, *b = other;
    return a->length != b->length ? (a->length < b->length ? 1 : -1) : strcmp(a->path, b->path);
}

/* The store's own first, so that it is 0; more than there are numbers for are counted with it. */
static void number(const struct founds *founds, struct ind_mounts *mounts)
{
    struct ind_slice devices[IND_MOST_FILE_SYSTEMS];
    unsigned count = 0;
    for (size_t i = founds->count; i-- > 0;) {
        unsigned known = 0;
        while (known < count && !ind_slice_equal(devices[known], founds->list[i].device))
            known++;
        if (known == count && count < IND_MOST_FILE_SYSTEMS)
            devices[count++] = founds->list[i].device;
        mounts->list[i].file_system = known < count ? known : 0;
    }
    mounts->file_systems = count;
}

static bool settle(struct founds *founds, struct ind_mounts *mounts)
{
    struct found *own = place_for(founds, "");
    if (own && !own->path)
        own->path = strdup("");
    mounts->list = calloc(founds->count + 1, sizeof *mounts->list);
    if (!own || !own->path || !mounts->list)
        return false;
    qsort(founds->list, founds->count, sizeof *founds->list, longest_first);
    for (size_t i = 0; i < founds->count; i++)
        mounts->list[i] = (struct ind_mount){founds->list[i].path, founds->list[i].length, 0};
    mounts->count = founds->count;
    number(founds, mounts);
    founds->count = 0; /* their paths have passed on */
    return true;
}

bool ind_mounts_read(struct ind_slice table, const char *store, struct ind_mounts *mounts)
{
    struct founds founds = {0};
    bool good = true;
    *mounts = (struct ind_mounts){.file_systems = 1};
    while (good && table.length > 0) {
        const char *end = memchr(table.at, '\n', table.length);
        size_t length = end ? (size_t)(end - table.at) : table.length;
        good = take_line((struct ind_slice){table.at, length}, store, &founds);
        table = ind_slice_from(table, end ? length + 1 : length);
    }
    good = good && settle(&founds, mounts);
    for (size_t i = 0; i < founds.count; i++)
        free(founds.list[i].path);
    free(founds.list);
    return good;
}

/* New in *text, to be freed; "" where there is no such table. False where memory is out. */
static bool read_table(char **text, size_t *length)
{
    FILE *file = fopen("/proc/self/mountinfo", "re");
    char block[4096];
    size_t got;
    *length = 0;
    *text = NULL;
    FILE *memory = open_memstream(text, length);
    while (file && memory && (got = fread(block, 1, sizeof block, file)) > 0)
        (void)fwrite(block, 1, got, memory);
    if (file)
        (void)fclose(file);
    return memory && fclose(memory) == 0;
}

bool ind_mounts_find(const char *store, struct ind_mounts *mounts)
{
    char *text, *real = realpath(store, NULL);
    size_t length;
    *mounts = (struct ind_mounts){.file_systems = 1};
    bool good = read_table(&text, &length);
    if (good)
        good = ind_mounts_read((struct ind_slice){text, real ? length : 0}, real ? real : store, mounts);
    free(text);
    free(real);
    return good;
}

void ind_mounts_free(struct ind_mounts *mounts)
{
    for (size_t i = 0; i < mounts->count; i++)
        free(mounts->list[i].path);
    free(mounts->list);
    *mounts = (struct ind_mounts){.file_systems = 1};
}

unsigned ind_mounts_of(const struct ind_mounts *mounts, struct ind_slice path)
{
    for (size_t i = 0; i < mounts->count; i++) {
        const struct ind_mount *mount = &mounts->list[i];
        if (mount->length == 0 || (path.length > mount->length && path.at[mount->length] == '/' &&
                                   memcmp(path.at, mount->path, mount->length) == 0))
            return mount->file_system;
    }
    return 0;
}

const char *ind_mounts_folder(const struct ind_mounts *mounts, unsigned file_system)
{
    for (size_t i = mounts->count; i-- > 0;)
        if (mounts->list[i].file_system == file_system)
            return mounts->list[i].path;
    return "";
}
