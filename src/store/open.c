/* store/open.c: taking hold of a store, and letting it go. */
#include "store/inside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

enum { PAGES = 8192, FILES_A_DAY = 10000, RESERVED_FILES = 96 };

static bool make_path(const char *path)
{
    char part[4096];
    size_t length = strlen(path);
    if (length >= sizeof part) {
        errno = ENAMETOOLONG;
        return false;
    }
    for (size_t i = 1; i <= length; i++) {
        if (path[i] != '/' && path[i] != '\0')
            continue;
        memcpy(part, path, i);
        part[i] = '\0';
        if (mkdir(part, 0750) != 0 && errno != EEXIST)
            return false;
    }
    return true;
}

static int open_folder(const char *path, char *reason, size_t room, const char *what)
{
    int folder = make_path(path) ? open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC) : -1;
    if (folder < 0)
        snprintf(reason, room, "cannot use %s as the %s: %s", path, what, strerror(errno));
    return folder;
}

/* A lock that a crash cannot leave behind, and that tells who holds it. */
static enum ind_store_status take_lock(struct ind_store *store, char *reason, size_t room)
{
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    store->lock = openat(store->folder, IND_STORE_OWN "/lock",
                         O_RDWR | O_CREAT | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC, 0640);
    if (store->lock < 0) {
        snprintf(reason, room, "cannot lock %s: %s", store->config->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    if (fcntl(store->lock, F_SETLK, &lock) == 0)
        return IND_STORE_OK;
    if (errno != EACCES && errno != EAGAIN) {
        snprintf(reason, room, "cannot lock %s: %s", store->config->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    if (fcntl(store->lock, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK)
        snprintf(reason, room, "another indagator (process %ld) writes to %s", (long)lock.l_pid,
                 store->config->store);
    else
        snprintf(reason, room, "another indagator writes to %s", store->config->store);
    return IND_STORE_BUSY;
}

/* No more than the process may have open; some are needed for all else. */
static size_t open_limit(uint64_t wanted)
{
    struct rlimit limit;
    uint64_t most = UINT64_MAX;
    if (getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_cur != RLIM_INFINITY)
        most = limit.rlim_cur > 2 * RESERVED_FILES ? limit.rlim_cur - RESERVED_FILES : limit.rlim_cur / 2;
    return (size_t)(wanted < most ? wanted : most ? most : 1);
}

static bool make_tables(struct ind_store *store, const struct ind_store_settings *settings)
{
    char reason[200];
    store->first_plan = ind_plan_new(store, settings->config, reason, sizeof reason);
    if (!store->first_plan || !ind_pages_init(&store->pages, PAGES))
        return false;
    ind_store_adopt(store, store->first_plan);
    ind_keeper_adopt(store, store->first_plan);
    return true;
}

static enum ind_store_status set_up(struct ind_store *store, const struct ind_store_settings *settings,
                                    char *reason, size_t room)
{
    store->folder = open_folder(store->config->store, reason, room, "store");
    if (store->folder < 0)
        return IND_STORE_FAILED;
    store->state = open_folder(store->config->state, reason, room, "state folder");
    if (store->state < 0)
        return IND_STORE_FAILED;
    if (mkdirat(store->folder, IND_STORE_OWN, 0750) != 0 && errno != EEXIST) {
        snprintf(reason, room, "cannot write to the store %s: %s", store->config->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    struct stat own;
    if (fstatat(store->folder, IND_STORE_OWN, &own, AT_SYMLINK_NOFOLLOW) != 0 || !S_ISDIR(own.st_mode)) {
        snprintf(reason, room, "%s/" IND_STORE_OWN " is no folder: move it away", store->config->store);
        return IND_STORE_FAILED;
    }
    enum ind_store_status status = take_lock(store, reason, room);
    if (status != IND_STORE_OK)
        return status;
    store->journal = ind_journal_open(&store->fs, store->folder);
    if (store->journal < 0) {
        snprintf(reason, room, "cannot write the journal of %s: %s", store->config->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    if (!make_tables(store, settings)) {
        snprintf(reason, room, "out of memory");
        return IND_STORE_FAILED;
    }
    return ind_store_recover(store, settings->now, reason, room) ? IND_STORE_OK : IND_STORE_FAILED;
}

/* ---- Made again ---- */

static bool is_gone(int file)
{
    struct stat facts;
    return fstat(file, &facts) == 0 && facts.st_nlink == 0;
}

/* The descriptors keep their numbers, which the keeping half has in use. */
static bool put_in_place(int *fresh, int file)
{
    bool good = *fresh >= 0 && dup2(*fresh, file) >= 0 && fcntl(file, F_SETFD, FD_CLOEXEC) == 0;
    if (*fresh >= 0)
        close(*fresh);
    *fresh = -1;
    return good;
}

static bool make_again(struct ind_store *store)
{
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    int folder =
        make_path(store->config->store) ? open(store->config->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC) : -1;
    if (folder < 0 || (mkdirat(folder, IND_STORE_OWN, 0750) != 0 && errno != EEXIST)) {
        if (folder >= 0)
            close(folder);
        return false;
    }
    int locked =
        openat(folder, IND_STORE_OWN "/lock", O_RDWR | O_CREAT | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC, 0640);
    int journal = ind_journal_open(&store->fs, folder);
    bool good = locked >= 0 && journal >= 0;
    good &= put_in_place(&folder, store->folder);
    good &= put_in_place(&locked, store->lock);
    good &= put_in_place(&journal, store->journal);
    (void)fcntl(store->lock, F_SETLK, &lock);
    return good;
}

bool ind_store_look_after(struct ind_store *store, struct ind_clocks now)
{
    struct ind_live *live, *next;
    if (!is_gone(store->folder) && !is_gone(store->journal))
        return false;
    if (!make_again(store)) {
        int error = errno;
        if (!ind_steady_told_lately(&store->gone_told, now.steady, 60 * IND_SECOND))
            ind_store_tell(store, "the store %s was removed by somebody, and cannot be made again: %s",
                           store->config->store, strerror(error));
        errno = error;
        return false;
    }
    HASH_ITER(hh, store->lives, live, next)
    live->journaled = false; /* the new journal does not know it */
    store->gone_told = IND_STEADY_NEVER;
    ind_store_tell(store, "the store %s was removed by somebody; it is made again, and goes on empty",
                   store->config->store);
    return true;
}

enum ind_store_status ind_store_open(const struct ind_store_settings *settings, struct ind_store **store,
                                     char *reason, size_t room)
{
    *store = calloc(1, sizeof **store);
    if (!*store) {
        snprintf(reason, room, "out of memory");
        return IND_STORE_FAILED;
    }
    struct ind_store *made = *store;
    made->config = settings->config;
    made->fs = *settings->fs;
    made->folder = made->journal = made->lock = made->state = -1;
    made->tell = settings->tell;
    made->settle = settings->settle;
    made->context = settings->context;
    made->by_messages = settings->by_messages;
    made->files_a_day = settings->files_a_day ? settings->files_a_day : FILES_A_DAY;
    made->open_limit = settings->open_files ? settings->open_files : open_limit(settings->config->open_files);
    made->last_run = IND_TIME_NONE;
    made->today = INT64_MIN;
    pthread_mutex_init(&made->handing, NULL);
    enum ind_store_status status = set_up(made, settings, reason, room);
    if (status != IND_STORE_OK) {
        ind_store_close(made);
        *store = NULL;
    }
    return status;
}

static void close_if_open(int file)
{
    if (file >= 0)
        close(file);
}

void ind_store_close(struct ind_store *store)
{
    if (!store)
        return;
    struct ind_live *live, *next;
    HASH_ITER(hh, store->lives, live, next)
    ind_live_free(store, live);
    struct ind_series *series, *after;
    HASH_ITER(hh, store->series, series, after)
    {
        HASH_DEL(store->series, series);
        free(series->name);
        free(series);
    }
    while (store->handed) {
        struct ind_handed *handed = store->handed;
        store->handed = handed->next;
        free(handed->archive.path);
        free(handed->archive.series);
        free(handed);
    }
    for (size_t i = 0; i < store->archive_count; i++) {
        free(store->archives[i].path);
        free(store->archives[i].series);
    }
    free(store->archives);
    ind_made_forget(store);
    ind_plan_free(store->first_plan);
    for (size_t i = 0; i < store->policy_places; i++)
        free(store->policy_names[i]);
    ind_pages_close(&store->pages);
    pthread_mutex_destroy(&store->handing);
    close_if_open(store->journal);
    close_if_open(store->lock); /* gives the lock up */
    close_if_open(store->folder);
    close_if_open(store->state);
    free(store);
}
