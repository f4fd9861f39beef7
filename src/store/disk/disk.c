#define _GNU_SOURCE /* syncfs */
#include "store/disk/disk.h"

#include "store/disk/journal.h"
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

enum { REPORT_AGAIN = 60 };

static void close_if_open(int file)
{
    if (file >= 0)
        close(file);
}

void ind_disk_report(const struct ind_disk *disk, enum ind_own own, const char *path, const char *format, ...)
{
    char text[1600];
    va_list arguments;
    if (!disk->report)
        return;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    disk->report(disk->context, own, path, text);
}

void ind_disk_act(const struct ind_disk *disk, enum ind_action_kind kind, const char *path, uint64_t size,
                  const char *rule, const char *policy)
{
    const struct ind_action action = {kind, path, size, rule, policy};
    if (disk->act)
        disk->act(disk->context, &action);
}

bool ind_disk_is_full(int error)
{
    return error == ENOSPC || error == EDQUOT || error == EIO || error == EROFS || error == ENOMEM;
}

/* The folder at which it begins, as a path from the store's. */
static const char *place_of(const struct ind_disk *disk, unsigned file_system)
{
    const char *folder = ind_mounts_folder(&disk->mounts, file_system);
    return folder[0] ? folder : ".";
}

bool ind_disk_takes_nothing(const struct ind_disk *disk, unsigned file_system, int error)
{
    return ind_disk_is_full(error) ||
           ((error == EACCES || error == EPERM) &&
            faccessat(disk->folder, place_of(disk, file_system), W_OK | X_OK, AT_EACCESS) != 0);
}

uint64_t ind_path_hash(struct ind_slice path)
{
    return XXH3_64bits(path.at, path.length);
}

/* The folder at which it begins, opened by its own; -1 with errno set. */
static int open_file_system(const struct ind_disk *disk, unsigned file_system)
{
    return openat(disk->folder, place_of(disk, file_system), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
}

void ind_disk_space(const struct ind_disk *disk, unsigned file_system, uint64_t *size, uint64_t *room)
{
    const struct ind_fs *fs = &disk->fs;
    bool good = false;
    if (file_system == 0) {
        good = fs->space(fs->context, disk->folder, size, room) == 0;
    } else {
        int folder = open_file_system(disk, file_system);
        good = folder >= 0 && fs->space(fs->context, folder, size, room) == 0;
        close_if_open(folder);
    }
    if (!good)
        *size = *room = 0;
}

bool ind_disk_flush(const struct ind_disk *disk)
{
#ifdef __linux__
    bool flushed = true;
    for (unsigned i = 0; i < disk->mounts.file_systems; i++) {
        int folder = i == 0 ? disk->folder : open_file_system(disk, i);
        if (folder < 0 || syncfs(folder) != 0)
            flushed = false;
        if (folder != disk->folder)
            close_if_open(folder);
    }
    return flushed;
#else
    (void)disk;
    sync(); /* POSIX has none that tells of errors but for a single file */
    return true;
#endif
}

/* ---- Opening ---- */

static int open_folder(const char *path, char *reason, size_t room, const char *what)
{
    int folder = ind_fs_make_path(path, NULL, NULL) ? open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC) : -1;
    if (folder < 0)
        snprintf(reason, room, "cannot use %s as the %s: %s%s", path, what, strerror(errno),
                 errno == EACCES ? "; it has to belong to the user that the collector runs as" : "");
    return folder;
}

/* Whoever can write there can forge what is stored; who can read there may ask the collector. */
static bool is_kept_close(int folder, const char *path, mode_t wrong, const char *may, char *reason,
                          size_t room)
{
    struct stat facts;
    if (fstat(folder, &facts) != 0 || !(facts.st_mode & wrong))
        return true;
    snprintf(reason, room, "others may %s %s: take that right away with \"chmod o-%s %s\"", may, path,
             wrong & S_IROTH ? "rwx" : "w", path);
    return false;
}

static int open_lock(int folder)
{
    return openat(folder, IND_STORE_OWN "/lock", O_RDWR | O_CREAT | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC,
                  0640);
}

/* A lock that a crash cannot leave behind, and that tells who holds it. */
static enum ind_store_status lock_store(struct ind_disk *disk, char *reason, size_t room)
{
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    disk->lock = open_lock(disk->folder);
    if (disk->lock < 0) {
        snprintf(reason, room, "cannot lock %s: %s", disk->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    if (fcntl(disk->lock, F_SETLK, &lock) == 0)
        return IND_STORE_OK;
    if (errno != EACCES && errno != EAGAIN) {
        snprintf(reason, room, "cannot lock %s: %s", disk->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    if (fcntl(disk->lock, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK)
        snprintf(reason, room, "another indagator (process %ld) writes to %s", (long)lock.l_pid, disk->store);
    else
        snprintf(reason, room, "another indagator writes to %s", disk->store);
    return IND_STORE_BUSY;
}

long ind_disk_holder(int folder)
{
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    int file = openat(folder, IND_STORE_OWN "/lock", O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    bool held = file >= 0 && fcntl(file, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
    close_if_open(file);
    return held ? (long)lock.l_pid : 0;
}

static enum ind_store_status look_only(struct ind_disk *disk, char *reason, size_t room)
{
    disk->folder = open(disk->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (disk->folder < 0) {
        snprintf(reason, room, "cannot read the store %s: %s", disk->store, strerror(errno));
        return IND_STORE_FAILED;
    }
    disk->state = open(disk->state_path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    disk->held_elsewhere = ind_disk_holder(disk->folder) != 0;
    return IND_STORE_OK;
}

static enum ind_store_status set_up(struct ind_disk *disk, char *reason, size_t room)
{
    disk->folder = open_folder(disk->store, reason, room, "store");
    if (disk->folder < 0)
        return IND_STORE_FAILED;
    disk->state = open_folder(disk->state_path, reason, room, "state folder");
    if (disk->state < 0)
        return IND_STORE_FAILED;
    if (!is_kept_close(disk->folder, disk->store, S_IWOTH, "write to", reason, room) ||
        !is_kept_close(disk->state, disk->state_path, S_IROTH | S_IWOTH, "look into", reason, room))
        return IND_STORE_FAILED;
    if (mkdirat(disk->folder, IND_STORE_OWN, 0750) != 0 && errno != EEXIST) {
        snprintf(reason, room, "cannot write to the store %s: %s%s", disk->store, strerror(errno),
                 errno == EACCES ? "; it has to belong to the user that the collector runs as" : "");
        return IND_STORE_FAILED;
    }
    struct stat own;
    if (fstatat(disk->folder, IND_STORE_OWN, &own, AT_SYMLINK_NOFOLLOW) != 0 || !S_ISDIR(own.st_mode)) {
        snprintf(reason, room, "%s/" IND_STORE_OWN " is not a folder: move it away", disk->store);
        return IND_STORE_FAILED;
    }
    enum ind_store_status status = lock_store(disk, reason, room);
    if (status != IND_STORE_OK)
        return status;
    disk->journal = ind_journal_open(&disk->fs, disk->folder);
    if (disk->journal >= 0)
        return IND_STORE_OK;
    snprintf(reason, room, "cannot write the journal of %s: %s", disk->store, strerror(errno));
    return IND_STORE_FAILED;
}

enum ind_store_status ind_disk_open(const struct ind_disk_settings *settings, struct ind_disk **disk,
                                    char *reason, size_t room)
{
    struct ind_disk *made = calloc(1, sizeof *made);
    *disk = NULL;
    if (!made || !(made->store = strdup(settings->store)) || !(made->state_path = strdup(settings->state))) {
        if (made)
            free(made->store);
        free(made);
        snprintf(reason, room, "out of memory");
        return IND_STORE_FAILED;
    }
    made->fs = settings->dry_run ? ind_fs_dry : *settings->fs;
    made->dry_run = settings->dry_run;
    made->copies_apart = settings->copies_apart;
    made->no_catalog = settings->no_catalog;
    made->folder = made->journal = made->lock = made->state = -1;
    made->report = settings->report;
    made->act = settings->act;
    made->context = settings->context;
    ind_mutex_begin(&made->handing);
    enum ind_store_status status = made->dry_run ? look_only(made, reason, room) : set_up(made, reason, room);
    if (status == IND_STORE_OK && !ind_mounts_find(made->store, &made->mounts)) {
        snprintf(reason, room, "out of memory");
        status = IND_STORE_FAILED;
    }
    if (status != IND_STORE_OK) {
        ind_disk_close(made);
        made = NULL;
    }
    *disk = made;
    return status;
}

IND_NOT_SHARED void ind_disk_close(struct ind_disk *disk)
{
    if (!disk)
        return;
    for (struct ind_handed *handed = disk->handed, *next; handed; handed = next) {
        next = handed->next;
        free(handed->archive.path);
        free(handed->archive.series);
        free(handed);
    }
    for (size_t i = 0; i < disk->policy_count; i++)
        free(disk->policy_names[i]);
    ind_mutex_end(&disk->handing);
    close_if_open(disk->journal);
    close_if_open(disk->lock); /* gives the lock up */
    close_if_open(disk->folder);
    close_if_open(disk->state);
    ind_mounts_free(&disk->mounts);
    free(disk->store);
    free(disk->state_path);
    free(disk);
}

/* ---- Made again ---- */

static bool is_gone(int file)
{
    struct stat facts;
    return file >= 0 && fstat(file, &facts) == 0 && facts.st_nlink == 0;
}

/* The descriptors keep their numbers, which the keeping half has in use. */
static bool put_in_place(int fresh, int file)
{
    bool good = fresh >= 0 && dup2(fresh, file) >= 0 && fcntl(file, F_SETFD, FD_CLOEXEC) == 0;
    close_if_open(fresh);
    return good;
}

/* 0, or the error. */
static int make_again(struct ind_disk *disk)
{
    struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
    int folder = ind_fs_make_path(disk->store, NULL, NULL)
                     ? open(disk->store, O_RDONLY | O_DIRECTORY | O_CLOEXEC)
                     : -1;
    if (folder < 0 || (mkdirat(folder, IND_STORE_OWN, 0750) != 0 && errno != EEXIST)) {
        int error = errno;
        close_if_open(folder);
        return error;
    }
    int locked = open_lock(folder);
    int error = locked < 0 ? errno : 0;
    int journal = ind_journal_open(&disk->fs, folder);
    error = journal < 0 && !error ? errno : error;
    bool good = put_in_place(folder, disk->folder);
    good &= put_in_place(locked, disk->lock);
    good &= put_in_place(journal, disk->journal);
    (void)fcntl(disk->lock, F_SETLK, &lock);
    return good ? 0 : error ? error : EBADF;
}

enum ind_disk_presence ind_disk_look_after(struct ind_disk *disk, struct ind_steady now)
{
    if (!is_gone(disk->folder) && !is_gone(disk->journal))
        return IND_DISK_PRESENT;
    int error = make_again(disk);
    if (error) {
        if (!ind_steady_reported_lately(&disk->gone_reported, now, REPORT_AGAIN * IND_SECOND))
            ind_disk_report(disk, IND_OWN_FILE_REMOVED, disk->store,
                            "the store %s was removed by somebody, and cannot be made again: %s", disk->store,
                            strerror(error));
        return IND_DISK_GONE;
    }
    disk->gone_reported = IND_STEADY_NEVER;
    atomic_fetch_add(&disk->made_again, 1);
    ind_disk_report(disk, IND_OWN_FILE_REMOVED, disk->store,
                    "the store %s was removed by somebody; it is made again, and goes on empty", disk->store);
    return IND_DISK_MADE_AGAIN;
}

/* ---- The queue of archives ---- */

void ind_disk_hand_over(struct ind_disk *disk, const struct ind_archive *archive)
{
    struct ind_handed *handed = calloc(1, sizeof *handed);
    if (handed) {
        handed->archive = *archive;
        handed->archive.path = strdup(archive->path);
        handed->archive.series = strdup(archive->series);
    }
    if (!handed || !handed->archive.path || !handed->archive.series) {
        ind_disk_report(disk, IND_OWN_OUT_OF_MEMORY, archive->path,
                        "out of memory: %s is compressed at the next start only", archive->path);
        if (handed) {
            free(handed->archive.path);
            free(handed->archive.series);
        }
        free(handed);
        return;
    }
    ind_mutex_lock(&disk->handing);
    handed->next = disk->handed;
    disk->handed = handed;
    ind_mutex_unlock(&disk->handing);
    atomic_store(&disk->wanted, true);
}

struct ind_handed *ind_disk_dequeue_archives(struct ind_disk *disk)
{
    ind_mutex_lock(&disk->handing);
    struct ind_handed *handed = disk->handed, *in_order = NULL;
    disk->handed = NULL;
    ind_mutex_unlock(&disk->handing);
    while (handed) {
        struct ind_handed *next = handed->next;
        handed->next = in_order;
        in_order = handed;
        handed = next;
    }
    return in_order;
}
