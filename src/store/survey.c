#include "store/survey.h"

#include "store/stored.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { DEEPEST = 16, PATH_ROOM = 1200 };

void ind_temporary_name(const char *path, char *name, size_t room)
{
    const char *slash = strrchr(path, '/');
    int folder = slash ? (int)(slash + 1 - path) : 0;
    snprintf(name, room, "%.*s.%s.tmp", folder, path, path + folder);
}

static bool is_temporary(const char *name)
{
    size_t length = strlen(name);
    return name[0] == '.' && length > 5 && strcmp(name + length - 4, ".tmp") == 0;
}

struct walk {
    bool (*take)(void *context, const char *path);
    void *context;
    size_t *unreadable;
    char path[PATH_ROOM];
};

static bool is_folder(int folder, const struct dirent *entry)
{
    struct stat facts;
#ifdef DT_DIR
    if (entry->d_type != DT_UNKNOWN)
        return entry->d_type == DT_DIR;
#endif
    return fstatat(folder, entry->d_name, &facts, AT_SYMLINK_NOFOLLOW) == 0 && S_ISDIR(facts.st_mode);
}

static bool walk_folder(struct walk *walk, int folder, size_t length, int depth)
{
    DIR *stream = fdopendir(folder);
    struct dirent *entry;
    bool good = true;
    if (!stream) {
        close(folder);
        return false;
    }
    while (good && (entry = readdir(stream)) != NULL) {
        bool is_dir = is_folder(dirfd(stream), entry);
        if (entry->d_name[0] == '.' && (is_dir || !is_temporary(entry->d_name)))
            continue;
        int written =
            snprintf(walk->path + length, PATH_ROOM - length, "%s%s", length ? "/" : "", entry->d_name);
        if (written < 0 || (size_t)written >= PATH_ROOM - length)
            continue;
        if (!is_dir) {
            good = walk->take(walk->context, walk->path);
        } else if (depth < DEEPEST) {
            int inner = openat(dirfd(stream), entry->d_name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
            if (inner >= 0)
                good = walk_folder(walk, inner, length + (size_t)written, depth + 1);
            else if (errno != ENOENT && walk->unreadable)
                ++*walk->unreadable;
        }
    }
    closedir(stream);
    return good;
}

bool ind_walk(int folder, bool (*take)(void *, const char *), void *context, size_t *unreadable)
{
    struct walk walk = {take, context, unreadable, ""};
    int top = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    return top >= 0 && walk_folder(&walk, top, 0, 0);
}

struct surveyor {
    const struct ind_config *config;
    struct ind_survey *survey;
    int folder;
    bool out_of_memory;
};

static struct ind_filed *filed_for(struct surveyor *surveyor, const char *archive)
{
    struct ind_filed *filed;
    HASH_FIND_STR(surveyor->survey->filed, archive, filed);
    if (filed)
        return filed;
    filed = calloc(1, sizeof *filed);
    char *copy = strdup(archive);
    if (!filed || !copy) {
        surveyor->out_of_memory = true;
        free(filed);
        free(copy);
        return NULL;
    }
    filed->archive = copy;
    filed->route = filed->policy = IND_NO_POLICY;
    filed->stored = IND_STORED_UNKNOWN;
    filed->first = filed->opened = filed->rotated = filed->modified = IND_TIME_NONE;
    HASH_ADD_KEYPTR(hh, surveyor->survey->filed, filed->archive, strlen(filed->archive), filed);
    return filed;
}

static void replace(struct surveyor *surveyor, char **text, const char *with)
{
    char *copy = with ? strdup(with) : NULL;
    surveyor->out_of_memory |= with && !copy;
    free(*text);
    *text = copy;
}

/* The route's present policy; that of the record's name where the route is gone. */
static void find_policy(const struct ind_config *config, const struct ind_record *record,
                        struct ind_filed *filed)
{
    const struct ind_route *route = record->route ? ind_config_route(config, record->route) : NULL;
    if (route) {
        filed->route = (size_t)(route - config->routes);
        filed->policy = route->policy;
        return;
    }
    for (size_t i = 0; record->policy && i < config->policy_count; i++)
        if (strcmp(config->policies[i].name, record->policy) == 0)
            filed->policy = i;
}

static void take_record(void *context, const struct ind_record *record)
{
    struct surveyor *surveyor = context;
    struct ind_filed *filed = filed_for(surveyor, record->archive);
    if (!filed)
        return;
    if (!filed->series)
        replace(surveyor, &filed->series, record->series);
    filed->number = record->number;
    if (record->event == IND_EVENT_OPENED) {
        replace(surveyor, &filed->live, record->live);
        filed->known_opened = true;
        filed->known_rotated = filed->known_removed = false;
        filed->opened = record->at;
        filed->first = record->first;
        filed->made_up = record->made_up;
        filed->stored = ind_stored_read(ind_slice_of(record->layout), record->version);
        find_policy(surveyor->config, record, filed);
    } else if (record->event == IND_EVENT_ROTATED) {
        filed->known_rotated = true;
        filed->rotated = record->at;
    } else if (record->event == IND_EVENT_REMOVED) {
        filed->known_removed = true;
    }
}

static ind_time modified(const struct stat *facts)
{
    return (ind_time)facts->st_mtim.tv_sec * IND_SECOND + facts->st_mtim.tv_nsec;
}

static void found_archive(struct surveyor *surveyor, const struct ind_archive_name *name,
                          const struct stat *facts)
{
    char plain[PATH_ROOM];
    snprintf(plain, sizeof plain, "%.*s", IND_ARG(name->plain));
    struct ind_filed *filed = filed_for(surveyor, plain);
    if (!filed)
        return;
    if (!filed->series) { /* the journal does not know it: its name tells most of it */
        char series[PATH_ROOM];
        snprintf(series, sizeof series, "%.*s.log", IND_ARG(name->live_stem));
        replace(surveyor, &filed->series, series);
        filed->number = name->number;
    }
    if (name->compression == IND_COMPRESS_NONE) {
        filed->has_plain = true;
        filed->plain_size = (uint64_t)facts->st_size;
        filed->inode = (uint64_t)facts->st_ino;
    } else {
        filed->compression = name->compression;
        filed->compressed_size = (uint64_t)facts->st_size;
    }
    filed->modified = modified(facts);
}

static void found_live(struct surveyor *surveyor, const char *path, const struct stat *facts)
{
    struct ind_live_path *live = calloc(1, sizeof *live);
    char *copy = strdup(path);
    if (!live || !copy) {
        free(live);
        free(copy);
        surveyor->out_of_memory = true;
        return;
    }
    *live = (struct ind_live_path){.path = copy,
                                   .size = (uint64_t)facts->st_size,
                                   .inode = (uint64_t)facts->st_ino,
                                   .modified = modified(facts)};
    HASH_ADD_KEYPTR(hh, surveyor->survey->lives, live->path, strlen(live->path), live);
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

static bool take_file(void *context, const char *path)
{
    struct surveyor *surveyor = context;
    struct ind_survey *survey = surveyor->survey;
    struct ind_archive_name name;
    struct stat facts;
    const char *slash = strrchr(path, '/');
    if (is_temporary(slash ? slash + 1 : path)) {
        char **list = realloc(survey->leftovers, (survey->leftover_count + 1) * sizeof *list);
        char *copy = strdup(path);
        if (list)
            survey->leftovers = list;
        if (list && copy)
            list[survey->leftover_count++] = copy;
        else
            free(copy);
        return true;
    }
    if (fstatat(surveyor->folder, path, &facts, AT_SYMLINK_NOFOLLOW) != 0)
        return true; /* gone meanwhile */
    if (S_ISLNK(facts.st_mode) && !survey->link && is_in_the_way(surveyor->folder, path))
        replace(surveyor, &survey->link, path);
    if (!S_ISREG(facts.st_mode))
        return true; /* not ours */
    if (ind_archive_name_read(ind_slice_of(path), &name))
        found_archive(surveyor, &name, &facts);
    else if (ind_is_live_name(ind_slice_of(path)))
        found_live(surveyor, path, &facts);
    return !surveyor->out_of_memory;
}

/* The newest file opened under a path is the live one there, unless its archive is on disk already. */
static void join_lives(struct ind_survey *survey)
{
    struct ind_filed *filed, *next;
    HASH_ITER(hh, survey->filed, filed, next)
    {
        struct ind_live_path *live = NULL;
        if (filed->live)
            HASH_FIND_STR(survey->lives, filed->live, live);
        if (live && (!live->filed || filed->number > live->filed->number))
            live->filed = filed;
    }
    struct ind_live_path *live, *after;
    HASH_ITER(hh, survey->lives, live, after)
    {
        struct ind_filed *is = live->filed;
        if (is && (is->has_plain || is->compression || is->known_rotated || is->known_removed))
            live->filed = NULL;
        else if (is)
            is->is_live = true;
    }
}

bool ind_survey(const struct ind_config *config, int folder, struct ind_survey *survey)
{
    *survey = (struct ind_survey){0};
    struct surveyor surveyor = {config, survey, folder, false};
    (void)ind_journal_read(folder, 0, NULL, take_record, &surveyor);
    (void)ind_walk(folder, take_file, &surveyor, NULL);
    join_lives(survey);
    return !surveyor.out_of_memory;
}

void ind_survey_free(struct ind_survey *survey)
{
    struct ind_filed *filed, *next;
    HASH_ITER(hh, survey->filed, filed, next)
    {
        HASH_DEL(survey->filed, filed);
        free(filed->archive);
        free(filed->series);
        free(filed->live);
        free(filed);
    }
    struct ind_live_path *live, *after;
    HASH_ITER(hh, survey->lives, live, after)
    {
        HASH_DEL(survey->lives, live);
        free(live->path);
        free(live);
    }
    for (size_t i = 0; i < survey->leftover_count; i++)
        free(survey->leftovers[i]);
    free(survey->leftovers);
    free(survey->link);
    *survey = (struct ind_survey){0};
}
