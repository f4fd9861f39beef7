/* The files of a store with the names of archives: each read to its end, and compared with what is written
 * down. */
#include "store/archive/proof_private.h"

#include "store/disk/walk.h"
#include "thread/mutex.h"
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

enum { THREADS = 64 };

/* ---- Which there are ---- */

struct listing {
    struct ind_proof_files *files;
    int folder;
};

static struct ind_proof_file *add(struct ind_proof_files *files, const char *path)
{
    if (files->count == files->room) {
        const size_t room = files->room ? files->room * 2 : 64;
        struct ind_proof_file *grown = realloc(files->list, room * sizeof *grown);
        if (!grown)
            return NULL;
        files->list = grown;
        files->room = room;
    }
    char *copy = strdup(path);
    if (!copy)
        return NULL;
    files->list[files->count] = (struct ind_proof_file){.path = copy};
    return &files->list[files->count++];
}

/* Within the span that was asked for, as far as is known. */
static bool is_in_span(const struct ind_proof_settings *settings, const struct ind_proof_archive *archive)
{
    return (settings->until == IND_TIME_NONE || archive->first == IND_TIME_NONE ||
            archive->first < settings->until) &&
           (settings->since == IND_TIME_NONE || archive->last == IND_TIME_NONE ||
            archive->last >= settings->since);
}

static bool is_wanted(const struct ind_proof_settings *settings, const struct ind_proof_archive *archive)
{
    return (ind_proof_is_asked_for(settings, archive->path) ||
            ind_proof_is_asked_for(settings, archive->chain->series)) &&
           is_in_span(settings, archive);
}

static bool list_file(void *context, const char *path)
{
    struct listing *listing = context;
    struct ind_archive_name name;
    struct stat facts;
    if (!ind_archive_name_read(ind_slice_of(path), &name) || name.plain.length > IND_PATH ||
        fstatat(listing->folder, path, &facts, AT_SYMLINK_NOFOLLOW) != 0) /* gone already */
        return true;
    struct ind_proof_file *file = add(listing->files, path);
    if (!file) {
        listing->files->out_of_memory = true;
        return false;
    }
    file->compression = name.compression;
    file->is_link = !S_ISREG(facts.st_mode);
    return true;
}

static int by_path(const void *one, const void *other)
{
    return strcmp(((const struct ind_proof_file *)one)->path, ((const struct ind_proof_file *)other)->path);
}

void ind_proof_files_list(int folder, struct ind_proof_files *files)
{
    struct listing listing = {files, folder};
    *files = (struct ind_proof_files){0};
    (void)ind_walk(folder, list_file, &listing, &files->unreadable);
    if (files->count)
        qsort(files->list, files->count, sizeof *files->list, by_path);
}

/* ---- Reading them, on several threads ---- */

struct work {
    const struct ind_proof_settings *settings;
    struct ind_proof_files *files;
    int folder;
    atomic_size_t next;
};

static void *read_files(void *context)
{
    struct work *work = context;
    for (size_t i; (i = atomic_fetch_add(&work->next, 1)) < work->files->count;) {
        struct ind_proof_file *file = &work->files->list[i];
        if (!file->wanted)
            continue;
        file->error =
            ind_digest_file(work->folder, file->path, file->compression, NULL, &file->digest, &file->reason);
        if (work->settings->progress)
            work->settings->progress(work->settings->context, file->digest.bytes);
    }
    return NULL;
}

static void read_all(const struct ind_proof_settings *settings, int folder, struct ind_proof_files *files)
{
    struct work work = {.settings = settings, .files = files, .folder = folder};
    pthread_t threads[THREADS];
    unsigned started = 0;
    atomic_init(&work.next, 0);
    while (started + 1 < settings->threads && started < THREADS && started + 1 < files->count &&
           pthread_create(&threads[started], NULL, read_files, &work) == 0)
        started++;
    (void)read_files(&work);
    while (started > 0)
        pthread_join(threads[--started], NULL);
}

void ind_proof_files_read(const struct ind_proof_settings *settings, int folder,
                          struct ind_proof_ledger *ledger, struct ind_proof_files *files)
{
    for (size_t i = 0; i < files->count; i++) {
        struct ind_proof_file *file = &files->list[i];
        struct ind_archive_name name;
        char plain[IND_PATH + 1];
        (void)ind_archive_name_read(ind_slice_of(file->path), &name);
        snprintf(plain, sizeof plain, "%.*s", IND_ARG(name.plain));
        HASH_FIND_STR(ledger->archives, plain, file->archive);
        file->wanted = !file->is_link && (!file->archive || is_wanted(settings, file->archive));
    }
    read_all(settings, folder, files);
}

void ind_proof_files_free(struct ind_proof_files *files)
{
    for (size_t i = 0; i < files->count; i++)
        free(files->list[i].path);
    free(files->list);
    *files = (struct ind_proof_files){0};
}

/* ---- What they should be ---- */

static bool is_hashed_text(const struct ind_proof_archive *archive, const struct ind_digest *digest)
{
    return archive->hashed && archive->bytes == digest->bytes &&
           memcmp(archive->hash, digest->hash, IND_HASH) == 0;
}

/* Another archive that was hashed with this text. */
static struct ind_proof_archive *owner_of(const struct ind_proof_ledger *ledger,
                                          const struct ind_digest *digest,
                                          const struct ind_proof_archive *but)
{
    struct ind_proof_archive *archive = NULL;
    HASH_FIND(by_text, ledger->by_text, digest->hash, IND_HASH, archive);
    return archive && archive != but && digest->bytes && is_hashed_text(archive, digest) ? archive : NULL;
}

static void order_by_text(struct ind_proof_ledger *ledger)
{
    for (struct ind_proof_archive *archive = ledger->archives, *same; archive; archive = archive->hh.next) {
        if (!archive->hashed)
            continue;
        HASH_FIND(by_text, ledger->by_text, archive->hash, IND_HASH, same);
        if (!same)
            HASH_ADD(by_text, ledger->by_text, hash, IND_HASH, archive);
    }
}

static void find_wrong_text(const struct ind_proof_ledger *ledger, struct ind_proof_file *file,
                            struct ind_proof *proof)
{
    struct ind_proof_archive *archive = file->archive;
    const struct ind_proof_archive *owner = owner_of(ledger, &file->digest, archive);
    if (owner)
        ind_proof_find(proof, IND_FOUND_SWAPPED, archive->chain->series, file->path, 0,
                       "it holds the text of %s", owner->path);
    else if (file->digest.bytes < archive->bytes)
        ind_proof_find(proof, IND_FOUND_TRUNCATED, archive->chain->series, file->path, 0,
                       "its text is not the one that was hashed: %llu of %llu bytes are there",
                       (unsigned long long)file->digest.bytes, (unsigned long long)archive->bytes);
    else
        ind_proof_find(proof, IND_FOUND_CHANGED, archive->chain->series, file->path, 0,
                       "its text is not the one that was hashed");
}

static void judge_known(const struct ind_proof_ledger *ledger, struct ind_proof_file *file,
                        struct ind_proof *proof)
{
    struct ind_proof_archive *archive = file->archive;
    struct ind_proof_chain *chain = archive->chain;
    if (file->error == ENOENT)
        return; /* it was packed or removed meanwhile: see find_again */
    archive->is_there = true;
    chain->result.bytes += file->digest.bytes;
    if (file->error == EBADMSG) {
        archive->found = true; /* what is left of it */
        ind_proof_find(proof, IND_FOUND_DAMAGED, chain->series, file->path, 0,
                       "it cannot be unpacked to its end: %s", file->reason);
    } else if (file->error) {
        archive->found = true;
        proof->unreadable++;
    } else if (archive->hashed && !is_hashed_text(archive, &file->digest)) {
        find_wrong_text(ledger, file, proof);
    } else {
        archive->found = true;
    }
}

static void judge_link(struct ind_proof_file *file, struct ind_proof *proof)
{
    file->archive->is_there = true;
    ind_proof_find(proof, IND_FOUND_CHANGED, file->archive->chain->series, file->path, 0,
                   "it is no file any more, but a link, or something else");
}

/* A file of which no record knows is no finding where it could be anybody's. */
static const struct ind_proof_chain *chain_around(const struct ind_proof_ledger *ledger, const char *path)
{
    struct ind_archive_name name;
    struct ind_proof_live *live;
    char live_path[IND_PATH + 8];
    (void)ind_archive_name_read(ind_slice_of(path), &name);
    snprintf(live_path, sizeof live_path, "%.*s.log", IND_ARG(name.live_stem));
    HASH_FIND_STR(ledger->lives, live_path, live);
    if (live)
        return live->chain->last ? live->chain : NULL;
    const char *slash = strrchr(path, '/');
    const size_t folder = slash ? (size_t)(slash - path) + 1 : 0;
    for (live = ledger->lives; live; live = live->hh.next) /* others in the same folder */
        if (live->chain->last && strncmp(live->path, path, folder) == 0 && !strchr(live->path + folder, '/'))
            return live->chain;
    return NULL;
}

static void judge_unknown(const struct ind_proof_settings *settings, struct ind_proof_ledger *ledger,
                          struct ind_proof_file *file, struct ind_proof *proof)
{
    struct ind_proof_archive *owner = file->error ? NULL : owner_of(ledger, &file->digest, NULL);
    const struct ind_proof_chain *chain = chain_around(ledger, file->path);
    if (owner && !owner->is_there) {
        owner->found = owner->is_there = true;
        ind_proof_find(proof, IND_FOUND_RENAMED, owner->chain->series, file->path, 0, "it is %s",
                       owner->path);
    } else if (chain && !chain->holes &&
               (ind_proof_is_asked_for(settings, file->path) ||
                ind_proof_is_asked_for(settings, chain->series))) {
        ind_proof_find(proof, IND_FOUND_ADDED, chain->series, file->path, 0,
                       "no record of the journal knows it: it was put in, or the power failed before its "
                       "record was on the disk");
    } else {
        proof->unknown++;
    }
}

/* ---- What came of those that are not there ---- */

/* It may have been packed, or begun, since the files were listed. */
static void find_again(const struct ind_proof_ledger *ledger, int folder, struct ind_proof_archive *archive,
                       struct ind_proof *proof)
{
    for (int with = 0; with < 3 && !archive->is_there; with++) {
        struct ind_proof_file file = {.compression = (enum ind_compression)with, .archive = archive};
        char path[IND_PATH + 64];
        snprintf(path, sizeof path, "%s%s", archive->path, ind_compression_suffix(file.compression).at);
        file.path = path;
        file.error = ind_digest_file(folder, path, file.compression, NULL, &file.digest, &file.reason);
        judge_known(ledger, &file, proof);
    }
}

static void note_removed(void *context, const struct ind_journal_record *record)
{
    struct ind_proof_ledger *ledger = context;
    struct ind_proof_archive *archive = NULL;
    if (record->event == IND_EVENT_REMOVED)
        HASH_FIND_STR(ledger->archives, record->archive, archive);
    if (archive)
        archive->removed = true;
}

/* An archive of which there is no file. A removal is in the journal before the file goes: what was removed
 * since the journal was read stands behind that. */
static void judge_absent(struct ind_proof_ledger *ledger, int folder, struct ind_proof_archive *archive,
                         struct ind_proof *proof)
{
    if (archive->is_there || archive->removed || !archive->rotated)
        return;
    find_again(ledger, folder, archive, proof);
    if (archive->is_there)
        return;
    ledger->length = ind_journal_read(folder, ledger->length, "removed", note_removed, ledger);
    if (archive->removed)
        return;
    /* What is missing in the journal may have been its removal. */
    if (archive->chain->holes)
        archive->chain->result.unhashed++;
    else
        ind_proof_find(proof, IND_FOUND_MISSING, archive->chain->series, archive->path, 0,
                       "it is not there, and nothing says that it was removed");
}

static void count(struct ind_proof_archive *archive, bool wanted)
{
    struct ind_proof_series *result = &archive->chain->result;
    if (archive->removed)
        result->removed++;
    else if (!archive->rotated && !archive->is_there)
        return; /* it is live, or never came to be */
    else if (!wanted)
        result->unlooked++;
    else if (!archive->hashed && archive->is_there)
        result->unhashed++;
    else if (archive->found)
        result->verified++;
}

void ind_proof_files_judge(const struct ind_proof_settings *settings, int folder,
                           struct ind_proof_ledger *ledger, struct ind_proof_files *files,
                           struct ind_proof *proof)
{
    order_by_text(ledger);
    for (size_t i = 0; i < files->count; i++) {
        struct ind_proof_file *file = &files->list[i];
        if (file->archive && file->wanted && !file->archive->removed)
            judge_known(ledger, file, proof);
        else if (file->archive && file->is_link)
            judge_link(file, proof);
    }
    for (size_t i = 0; i < files->count; i++) {
        struct ind_proof_file *file = &files->list[i];
        if (!file->archive && !file->is_link)
            judge_unknown(settings, ledger, file, proof);
        else if (file->archive && file->wanted && file->archive->removed && file->archive->hashed &&
                 file->error != ENOENT && (file->error || !is_hashed_text(file->archive, &file->digest)))
            ind_proof_find(proof, IND_FOUND_ADDED, file->archive->chain->series, file->path, 0,
                           "the archive of that name was removed, and this is another one");
    }
    for (struct ind_proof_archive *archive = ledger->archives; archive; archive = archive->hh.next) {
        const bool wanted = is_wanted(settings, archive);
        if (wanted)
            judge_absent(ledger, folder, archive, proof);
        count(archive, wanted);
    }
}
