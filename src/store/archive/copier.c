#include "store/archive/copier.h"

#include "core/line/template.h"
#include "store/disk/journal.h"
#include "store/disk/walk.h"
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { BLOCK = 256 << 10, REASON = 600 };

/* Whoever is last to let go of it frees it: the thread may outlive the copier. */
struct ind_copier {
    struct ind_fs fs;
    int folder;
    atomic_bool *done; /* NULL: there is no thread */
    struct ind_mutex mutex;
    enum ind_copy_state state IND_GUARDED_BY(mutex);
    char reason[REASON] IND_GUARDED_BY(mutex);
    bool abandoned IND_GUARDED_BY(mutex);
    struct ind_copy copy; /* the thread's while one is under way */
};

/* ---- A copy ---- */

static bool wrong(char *reason, const char *place, const char *path, const char *what)
{
    snprintf(reason, REASON, "%.250s/%.250s: %.80s", place, path, what);
    return false;
}

/* Two stores at one place would write over each other's archives. */
static bool is_ours(const struct ind_copier *copier, int place, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    const enum ind_claim claim = ind_store_id_claim(&copier->fs, place, copy->id);
    return claim == IND_CLAIM_OURS ||
           wrong(reason, copy->place, IND_STORE_ID_PATH,
                 claim == IND_CLAIM_OTHERS
                     ? "the copies of another store are there; each needs a place of its own"
                     : strerror(errno));
}

/* A mount point without its share is a folder like any other, and empty. */
static bool is_the_place(const struct ind_copier *copier, int place, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    if (faccessat(place, IND_STORE_OWN, F_OK, 0) == 0)
        return is_ours(copier, place, reason);
    if (copy->known)
        return wrong(reason, copy->place, IND_STORE_OWN, "it is not there any more; is the share mounted?");
    if (copier->fs.make_folder(copier->fs.context, place, IND_STORE_OWN, 0750, -1) != 0 && errno != EEXIST)
        return wrong(reason, copy->place, IND_STORE_OWN, strerror(errno));
    return is_ours(copier, place, reason);
}

static bool make_folders(const struct ind_copier *copier, int place, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    return ind_fs_make_folders_of(&copier->fs, place, copy->path, 0750, -1) ||
           wrong(reason, copy->place, copy->path, strerror(errno));
}

/* The next bytes of what is copied: of the store's file, or of the text. 0 at the end, -1 with errno set. */
static ssize_t next(const struct ind_copier *copier, int from, size_t done, char *to)
{
    const struct ind_copy *copy = &copier->copy;
    if (!copy->text)
        return pread(from, to, BLOCK, (off_t)done);
    const size_t rest = copy->length - done, part = rest < BLOCK ? rest : BLOCK;
    memcpy(to, copy->text + done, part);
    return (ssize_t)part;
}

static bool write_all(const struct ind_copier *copier, int from, int to, char *block, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    ssize_t got = 0;
    size_t done = 0;
    while ((got = next(copier, from, done, block)) > 0) {
        if (!ind_fs_write_all(&copier->fs, to, block, (size_t)got))
            return wrong(reason, copy->place, copy->path, strerror(errno));
        done += (size_t)got;
    }
    if (got == 0 && copier->fs.sync(copier->fs.context, to) == 0)
        return true;
    return wrong(reason, copy->place, copy->path, strerror(errno));
}

/* From the share, where the system can be told to forget what it still has of it. */
static bool compare(const struct ind_copier *copier, int from, int to, char *block, char *other, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    size_t done = 0;
    (void)posix_fadvise(to, 0, 0, POSIX_FADV_DONTNEED);
    for (;;) {
        const ssize_t got = next(copier, from, done, block);
        const ssize_t same = got < 0 ? -1 : pread(to, other, got ? (size_t)got : 1, (off_t)done);
        if (got < 0 || same < 0)
            return wrong(reason, copy->place, copy->path, strerror(errno));
        if (same != got || memcmp(block, other, (size_t)got) != 0)
            return wrong(reason, copy->place, copy->path, "what was written does not read back the same");
        if (got == 0)
            return true;
        done += (size_t)got;
    }
}

static bool copy_into(const struct ind_copier *copier, int place, int from, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    char temporary[IND_PATH + 128], *blocks = malloc(2 * (size_t)BLOCK);
    ind_temporary_name(copy->path, temporary, sizeof temporary);
    const int to =
        blocks ? copier->fs.open(copier->fs.context, place, temporary, O_RDWR | O_CREAT | O_TRUNC, 0640) : -1;
    bool good = to >= 0 || wrong(reason, copy->place, temporary, strerror(blocks ? errno : ENOMEM));
    good = good && write_all(copier, from, to, blocks, reason) &&
           compare(copier, from, to, blocks, blocks + BLOCK, reason);
    if (good && copier->fs.rename(copier->fs.context, place, temporary, copy->path) != 0)
        good = wrong(reason, copy->place, copy->path, strerror(errno));
    const int error = good ? ind_fs_sync_folders_of(&copier->fs, place, copy->path) : 0;
    if (error)
        good = wrong(reason, copy->place, copy->path, strerror(error));
    if (to >= 0)
        close(to);
    free(blocks);
    return good;
}

static bool make_copy(const struct ind_copier *copier, char *reason)
{
    const struct ind_copy *copy = &copier->copy;
    const int place = open(copy->place, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (place < 0) {
        snprintf(reason, REASON, "%s: %s", copy->place, strerror(errno));
        return false;
    }
    const int from = copy->text ? -1 : openat(copier->folder, copy->path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    bool good = copy->text || from >= 0;
    if (!good)
        snprintf(reason, REASON, "%s: %s", copy->path, strerror(errno));
    good = good && is_the_place(copier, place, reason) && make_folders(copier, place, reason) &&
           copy_into(copier, place, from, reason);
    if (from >= 0)
        close(from);
    close(place);
    return good;
}

/* ---- On its thread ---- */

static void forget(struct ind_copy *copy)
{
    free(copy->place);
    free(copy->path);
    free(copy->text);
    *copy = (struct ind_copy){0};
}

static void destroy(struct ind_copier *copier)
{
    forget(&copier->copy);
    if (copier->folder >= 0)
        close(copier->folder);
    ind_mutex_end(&copier->mutex);
    free(copier);
}

static void *run(void *context)
{
    struct ind_copier *copier = context;
    char reason[REASON] = "";
    const bool good = make_copy(copier, reason);
    ind_mutex_lock(&copier->mutex);
    copier->state = good ? IND_COPY_DONE : IND_COPY_FAILED;
    memcpy(copier->reason, reason, sizeof reason);
    const bool abandoned = copier->abandoned;
    if (!abandoned && copier->done) /* else that may be gone */
        atomic_store(copier->done, true);
    ind_mutex_unlock(&copier->mutex);
    if (abandoned)
        destroy(copier);
    return NULL;
}

struct ind_copier *ind_copier_new(const struct ind_fs *fs, int folder, atomic_bool *done)
{
    struct ind_copier *copier = calloc(1, sizeof *copier);
    if (!copier)
        return NULL;
    copier->fs = *fs;
    copier->folder = dup(folder);
    copier->done = done;
    ind_mutex_begin(&copier->mutex);
    return copier;
}

void ind_copier_free(struct ind_copier *copier)
{
    if (!copier)
        return;
    ind_mutex_lock(&copier->mutex);
    copier->abandoned = copier->state == IND_COPY_UNDER_WAY;
    const bool abandoned = copier->abandoned;
    ind_mutex_unlock(&copier->mutex);
    if (!abandoned)
        destroy(copier);
}

void ind_copier_begin(struct ind_copier *copier, const struct ind_copy *copy)
{
    pthread_t thread;
    forget(&copier->copy);
    copier->copy = *copy;
    ind_mutex_lock(&copier->mutex);
    copier->state = IND_COPY_UNDER_WAY;
    ind_mutex_unlock(&copier->mutex);
    if (copier->done && pthread_create(&thread, NULL, run, copier) == 0)
        (void)pthread_detach(thread);
    else
        (void)run(copier);
}

enum ind_copy_state ind_copier_look(struct ind_copier *copier, char *reason, size_t room)
{
    ind_mutex_lock(&copier->mutex);
    const enum ind_copy_state state = copier->state;
    if (state != IND_COPY_UNDER_WAY)
        copier->state = IND_COPY_NONE;
    snprintf(reason, room, "%s", copier->reason);
    ind_mutex_unlock(&copier->mutex);
    return state;
}
