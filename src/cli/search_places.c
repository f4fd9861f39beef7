#include "cli/search_places.h"

#include "store/disk/walk.h"
#include "store/read/lookup.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

/* ---- Lists ---- */

static bool grow(void *array, size_t *count, size_t size)
{
    void **list = array;
    if ((*count & (*count - 1)) == 0) {
        void *grown = realloc(*list, (*count ? *count * 2 : 1) * size);
        if (!grown)
            return false;
        *list = grown;
    }
    ++*count;
    return true;
}

static bool add_file(struct ind_search_places *places, struct ind_search_file file)
{
    bool good = grow(&places->files, &places->count, sizeof file);
    if (good)
        places->files[places->count - 1] = file;
    else
        errno = ENOMEM;
    return good;
}

/* A copy that lives as long as the places. */
static char *keep(struct ind_search_places *places, const char *text)
{
    char *copy = strdup(text);
    if (copy && grow(&places->names, &places->name_count, sizeof copy))
        return places->names[places->name_count - 1] = copy;
    free(copy);
    errno = ENOMEM;
    return NULL;
}

/* ---- A store, or a folder of one ---- */

static bool is_below(const char *path, const char *folder)
{
    size_t length = strlen(folder);
    return length == 0 || (strncmp(path, folder, length) == 0 && path[length] == '/');
}

/* `inside`: the folder of the store that is gone through; "" for all. */
static bool add_store(struct ind_search_places *places, const char *store, const char *inside)
{
    struct ind_snapshot *snapshot = calloc(1, sizeof *snapshot);
    if (!snapshot || !grow(&places->snapshots, &places->snapshot_count, sizeof(struct ind_snapshot *))) {
        free(snapshot);
        errno = ENOMEM;
        return false;
    }
    places->snapshots[places->snapshot_count - 1] = snapshot;
    snapshot->folder = -1;
    if (!ind_snapshot_take(store, NULL, NULL, snapshot))
        return false;
    places->unreadable += snapshot->unreadable;
    for (size_t i = 0; i < snapshot->count; i++) {
        const struct ind_snapshot_file *file = &snapshot->files[i];
        if (!file->twice && is_below(file->path, inside) &&
            !add_file(places,
                      (struct ind_search_file){.name = file->path, .snapshot = snapshot, .stored = file}))
            return false;
    }
    return true;
}

static int find_store(const struct ind_config *config, struct ind_search_places *places)
{
    if (!ind_has_store(config))
        return IND_EXIT_CALL;
    if (!add_store(places, config->store, "")) {
        ind_complain("cannot read the store %s: %s", config->store, strerror(errno));
        return IND_EXIT_FAILED;
    }
    places->is_whole_store = true;
    if (places->count == 0)
        ind_complain("the store %s holds no file: nothing has been filed there yet", config->store);
    return IND_EXIT_DONE;
}

/* ---- Paths ---- */

static int stored_by_option(const char *as)
{
    return strcmp(as, "raw") == 0 ? IND_STORED_UNKNOWN : ind_layout_read(ind_slice_of(as));
}

/* A line is never believed because of what it looks like: its sender may have made it look so. *looks: as
 * what it looks, where that is said and not followed; or -1. */
static int layout_of(const char *path, const char *as, int *looks)
{
    *looks = -1;
    if (as)
        return stored_by_option(as);
    if (strcmp(path, "-") == 0)
        return IND_STORED_UNKNOWN;
    int stored = ind_stored_of_path(path);
    *looks = stored < 0 ? ind_looks_stored(path) : -1;
    return stored;
}

static void say_what_it_looks_like(const char *path, size_t files, int looks)
{
    ind_complain("%s: read as messages, since no journal says that its lines are stored ones; %s so: --as %s "
                 "reads them as such",
                 path, files > 1 ? "those of several files look" : "they look",
                 ind_layout_name((enum ind_layout)looks).at);
}

/* A folder that is no store's: its files in the order of their names. */
struct folder {
    struct ind_search_places *places;
    const char *path, *as;
    size_t looking; /* files whose lines look like stored ones */
    int looks;      /* the last of them */
};

static bool add_found(void *context, const char *path)
{
    struct folder *folder = context;
    char whole[4096];
    struct stat facts;
    int length = snprintf(whole, sizeof whole, "%s/%s", folder->path, path);
    const char *name = strrchr(whole, '/') + 1;
    if (length < 0 || (size_t)length >= sizeof whole || ind_is_temporary_name(name) ||
        lstat(whole, &facts) != 0 || !S_ISREG(facts.st_mode))
        return true;
    int looks, layout = layout_of(whole, folder->as, &looks);
    folder->looking += looks >= 0;
    folder->looks = looks >= 0 ? looks : folder->looks;
    char *kept = keep(folder->places, whole);
    const bool of_store = !folder->as && layout >= 0;
    return kept &&
           add_file(folder->places,
                    (struct ind_search_file){.name = kept, .path = kept, .as = layout, .of_store = of_store});
}

static int by_name(const void *left, const void *right)
{
    const struct ind_search_file *a = left, *b = right;
    return strcmp(a->name, b->name);
}

static bool add_folder(struct ind_search_places *places, const char *path, const char *as)
{
    const char *inside;
    char *store = as ? NULL : ind_store_around(path, &inside);
    size_t before = places->count;
    bool good;
    if (store) {
        good = add_store(places, store, inside);
        free(store);
    } else {
        int folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
        struct folder found = {places, path, as, 0, -1};
        good = folder >= 0 && ind_walk(folder, add_found, &found, &places->unreadable);
        if (folder >= 0)
            close(folder);
        if (found.looking)
            say_what_it_looks_like(path, found.looking, found.looks);
        if (good && places->count > before)
            qsort(places->files + before, places->count - before, sizeof *places->files, by_name);
    }
    if (good && places->count == before)
        ind_complain("%s is a folder without files", path);
    return good;
}

static bool add_path(struct ind_search_places *places, const char *path, const char *as)
{
    struct stat facts = {0};
    bool there = strcmp(path, "-") == 0 || stat(path, &facts) == 0;
    if (there && strcmp(path, "-") != 0 && S_ISDIR(facts.st_mode))
        return add_folder(places, path, as);
    /* What cannot be read is reported when its turn comes. */
    if (there || strchr(path, '/') || errno != ENOENT) {
        int looks = -1, layout = there ? layout_of(path, as, &looks) : IND_STORED_UNKNOWN;
        if (looks >= 0)
            say_what_it_looks_like(path, 1, looks);
        places->read_once |= there && !S_ISREG(facts.st_mode); /* standard input, too */
        return add_file(places,
                        (struct ind_search_file){
                            .name = path, .path = path, .as = layout, .of_store = !as && layout >= 0});
    }
    if (!grow(&places->words, &places->word_count, sizeof *places->words))
        return false;
    places->words[places->word_count - 1] = path;
    ind_complain(
        "\"%s\" is no file here: looking for it in the text, device, host, app and msgid of messages", path);
    return true;
}

int ind_search_places_find(const struct ind_config *config, const char **arguments, const char *as,
                           struct ind_search_places *places)
{
    *places = (struct ind_search_places){0};
    size_t named = 0;
    for (size_t i = 0; arguments[i]; i++) {
        if (arguments[i][0] == '\0') {
            ind_complain("an empty argument is neither a path nor a word; leave it out");
            return IND_EXIT_CALL;
        }
        size_t words = places->word_count;
        if (!add_path(places, arguments[i], as)) {
            ind_complain("cannot read %s: %s", arguments[i], strerror(errno));
            return IND_EXIT_FAILED;
        }
        named += places->word_count == words;
    }
    return named ? IND_EXIT_DONE : find_store(config, places);
}

void ind_search_places_free(struct ind_search_places *places)
{
    for (size_t i = 0; i < places->snapshot_count; i++) {
        ind_snapshot_free(places->snapshots[i]);
        free(places->snapshots[i]);
    }
    for (size_t i = 0; i < places->name_count; i++)
        free(places->names[i]);
    free(places->snapshots);
    free(places->names);
    free(places->words);
    free(places->files);
}

/* ---- Words ---- */

static void put_quoted(FILE *out, const char *word)
{
    fputc('"', out);
    for (; *word; word++)
        fprintf(out, *word == '"' || *word == '\\' ? "\\%c" : "%c", *word);
    fputc('"', out);
}

char *ind_search_words_condition(const struct ind_search_places *places, const char *when)
{
    static const char *const fields[] = {"text", "device", "host", "app", "msgid"};
    char *text = NULL;
    size_t size = 0;
    FILE *out = places->word_count ? open_memstream(&text, &size) : NULL;
    if (!out)
        return NULL;
    if (when && *when)
        fprintf(out, "(%s) and ", when);
    for (size_t i = 0; i < places->word_count; i++) {
        fputs(i ? " and (" : "(", out);
        for (size_t f = 0; f < sizeof fields / sizeof *fields; f++) {
            fprintf(out, "%s%s contains ", f ? " or " : "", fields[f]);
            put_quoted(out, places->words[i]);
            fputs(" ignoring case", out);
        }
        fputc(')', out);
    }
    return fclose(out) == 0 ? text : NULL;
}
