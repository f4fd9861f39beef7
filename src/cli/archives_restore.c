#include "cli/archives_select.h"
#include "collect/runtime/clock.h"
#include "store/disk/digest.h"
#include "store/disk/reader.h"
#include "store/disk/stored.h"
#include "store/read/lookup.h"
#include "store/read/snapshot.h"
#include "store/search/search.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* ---- What is right ---- */

/* What a digest says, where there is one; else all that can be known is that it can be unpacked. */
static bool is_right(const struct ind_archive_entry *entry, int error, const char *reason,
                     const struct ind_digest *digest)
{
    char path[IND_PATH + 64];
    ind_archive_entry_path(entry, path, sizeof path);
    if (error)
        ind_complain("%s: %s", path, error == EBADMSG && reason ? reason : strerror(error));
    else if (entry->hashed &&
             (digest->bytes != entry->text || memcmp(digest->hash, entry->hash, sizeof digest->hash) != 0))
        ind_complain("%s: its text is not the one that was hashed; it is left out", path);
    else
        return true;
    return false;
}

static size_t leave_out_wrong(struct ind_selected *selected)
{
    size_t kept = 0;
    for (size_t i = 0; i < selected->count; i++) {
        struct ind_digest digest;
        char path[IND_PATH + 64];
        const char *reason = NULL;
        ind_archive_entry_path(selected->list[i], path, sizeof path);
        const int error =
            ind_digest_file(selected->folder, path, selected->list[i]->compression, NULL, &digest, &reason);
        if (is_right(selected->list[i], error, reason, &digest))
            selected->list[kept++] = selected->list[i];
    }
    const size_t wrong = selected->count - kept;
    selected->count = kept;
    return wrong;
}

/* ---- Into a folder ---- */

/* Each piece of text that was unpacked, into the new file and into the digest. 0, or the error. */
static int copy_text(struct ind_reader *reader, int to, struct ind_digest *digest, const char **reason)
{
    struct ind_digesting *digesting = ind_digesting_new();
    struct ind_slice block;
    enum ind_read read = IND_READ_BLOCK;
    uint64_t at;
    int error = digesting ? 0 : ENOMEM;
    while (!error && (read = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        if (!ind_digesting_add(digesting, block.at, block.length))
            error = EIO;
        else if (!ind_fs_write_all(&ind_fs_posix, to, block.at, block.length))
            error = errno;
    }
    if (!error && read == IND_READ_FAILED) {
        *reason = ind_reader_reason(reader);
        error = EBADMSG;
    }
    if (!error && !ind_digesting_end(digesting, digest))
        error = EIO;
    ind_digesting_free(digesting);
    return error;
}

static int restore_file(const struct ind_selected *selected, const struct ind_archive_entry *entry,
                        int folder, const char *part, bool *made, struct ind_digest *digest,
                        const char **reason)
{
    char path[IND_PATH + 64];
    ind_archive_entry_path(entry, path, sizeof path);
    const int file = openat(selected->folder, path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (file < 0)
        return errno;
    const int to = openat(folder, part, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0640);
    int error = to < 0 ? errno : 0;
    *made = to >= 0;
    struct ind_reader *reader = ind_reader_open(file, entry->compression, 0, UINT64_MAX);
    error = error ? error : reader ? copy_text(reader, to, digest, reason) : ENOMEM;
    if (!error && fsync(to) != 0)
        error = errno;
    if (to >= 0)
        close(to);
    ind_reader_close(reader);
    return error;
}

static bool make_folders(int folder, const char *path)
{
    char part[IND_PATH + 1];
    for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
        snprintf(part, sizeof part, "%.*s", (int)(slash - path), path);
        if (mkdirat(folder, part, 0750) != 0 && errno != EEXIST)
            return false;
    }
    return true;
}

/* Whole and right, or not at all. */
static bool restore_one(const struct ind_selected *selected, const struct ind_archive_entry *entry,
                        int folder)
{
    char part[IND_PATH + 64];
    struct ind_digest digest;
    const char *reason = NULL;
    bool made = false;
    snprintf(part, sizeof part, "%s.part", entry->archive);
    if (!make_folders(folder, entry->archive)) {
        ind_complain("%s: %s", entry->archive, strerror(errno));
        return false;
    }
    int error = restore_file(selected, entry, folder, part, &made, &digest, &reason);
    if (error == EEXIST && !made) {
        ind_complain(
            "%s is there already: of a restore that was stopped, or that is under way; remove it, and "
            "try again",
            part);
        return false;
    }
    const bool right = is_right(entry, error, reason, &digest);
    if (right && linkat(folder, part, folder, entry->archive, 0) != 0) {
        ind_complain("%s: %s", entry->archive,
                     errno == EEXIST ? "it is there already, and is left as it is" : strerror(errno));
        error = EEXIST;
    }
    if (made) /* one of that name that was there is somebody else's */
        (void)unlinkat(folder, part, 0);
    return right && !error;
}

static int restore_to_folder(const struct ind_config *config, const struct ind_archives_call *given,
                             struct ind_selected *selected)
{
    char number[2][32];
    uint64_t bytes = 0;
    size_t done = 0;
    if (mkdir(given->to, 0750) != 0 && errno != EEXIST) {
        ind_complain("%s: %s", given->to, strerror(errno));
        return IND_EXIT_FAILED;
    }
    if (ind_lies_in(config->store, given->to)) {
        ind_complain("--to: %s lies in the store, which belongs to the collector; name another place",
                     given->to);
        return IND_EXIT_CALL;
    }
    const int folder = open(given->to, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) {
        ind_complain("%s: %s", given->to, strerror(errno));
        return IND_EXIT_FAILED;
    }
    for (size_t i = 0; i < selected->count; i++) {
        if (!restore_one(selected, selected->list[i], folder))
            continue;
        done++;
        bytes += selected->list[i]->text;
        ind_progress(NULL, selected->list[i]->text);
    }
    ind_progress_end();
    close(folder);
    if (given->json)
        printf("{\"restored\":%zu,\"failed\":%zu}\n", done, selected->count - done);
    else
        printf("%s archives restored to %s, %s of text\n", ind_grouped(done, number[0]), given->to,
               ind_size_text(bytes, number[1]));
    return done == selected->count ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

/* ---- To standard output ---- */

/* In the layout of the archives, where they have one and the same. */
static enum ind_layout layout_of(const struct ind_selected *selected)
{
    const int first = selected->list[0]->stored;
    for (size_t i = 1; i < selected->count; i++)
        if (selected->list[i]->stored != first)
            return IND_LAYOUT_PLAIN;
    return first >= 0 && first < IND_LAYOUTS ? (enum ind_layout)first : IND_LAYOUT_PLAIN;
}

static bool is_selected(const struct ind_selected *selected, const char *path)
{
    struct ind_archive_name name;
    if (!ind_archive_name_read(ind_slice_of(path), &name))
        return false;
    for (size_t i = 0; i < selected->count; i++)
        if (ind_slice_equal(name.plain, ind_slice_of(selected->list[i]->archive)))
            return true;
    return false;
}

struct printed {
    bool failed, broken; /* broken: whoever reads has seen enough */
};

static bool print_line(void *context, struct ind_slice line)
{
    struct printed *printed = context;
    errno = 0;
    printed->failed = fwrite(line.at, 1, line.length, stdout) != line.length;
    printed->broken = printed->failed && errno == EPIPE;
    return !printed->failed;
}

static int print_found(const struct ind_search_settings *settings, struct printed *printed)
{
    struct ind_search_result result;
    ind_search_run(settings, &result);
    ind_progress_end();
    errno = 0;
    if (!printed->failed && fflush(stdout) != 0) {
        printed->failed = true;
        printed->broken = errno == EPIPE;
    }
    const bool whole = result.unread_files == 0 && !result.failed;
    const int code = !result.found                                    ? IND_EXIT_NO
                     : whole && (!printed->failed || printed->broken) ? IND_EXIT_DONE
                                                                      : IND_EXIT_FAILED;
    if (printed->failed && !printed->broken)
        ind_complain("cannot write the lines: %s", strerror(errno));
    ind_search_free(&result);
    return code;
}

static int print_lines(const struct ind_config *config, const struct ind_selected *selected)
{
    struct ind_snapshot snapshot;
    struct printed printed = {false, false};
    struct ind_search_settings settings = {.config = config,
                                           .since = selected->since,
                                           .until = selected->until,
                                           .layout = layout_of(selected),
                                           .zone = config->zone,
                                           .as_stored = true,
                                           .now = ind_now(),
                                           .without_index = true, /* what is proven is the text */
                                           .temporary = ind_temporary_folder(),
                                           .write = print_line,
                                           .context = &printed,
                                           .report = ind_complain_text,
                                           .progress = ind_progress_of};
    int code = IND_EXIT_FAILED;
    if (!ind_snapshot_take(config->store, NULL, NULL, &snapshot)) {
        ind_complain("%s: %s", config->store, strerror(errno));
        return code;
    }
    struct ind_search_file *files = calloc(snapshot.count + 1, sizeof *files);
    for (size_t i = 0; files && i < snapshot.count; i++)
        if (snapshot.files[i].file < 0 && is_selected(selected, snapshot.files[i].path))
            files[settings.file_count++] = (struct ind_search_file){
                .name = snapshot.files[i].path, .snapshot = &snapshot, .stored = &snapshot.files[i]};
    settings.files = files;
    if (files && ind_condition_option(config, NULL, &settings.conditions, &settings.when))
        code = print_found(&settings, &printed);
    ind_conditions_free(settings.conditions);
    free(files);
    ind_snapshot_free(&snapshot);
    return code;
}

int ind_archives_restore(const struct ind_config *config, const struct ind_archives_call *given)
{
    struct ind_selected selected;
    int code = ind_archives_select(config, given, &selected);
    if (code == IND_EXIT_DONE && given->to) {
        code = restore_to_folder(config, given, &selected);
    } else if (code == IND_EXIT_DONE) {
        const size_t wrong = leave_out_wrong(&selected);
        code = selected.count ? print_lines(config, &selected) : IND_EXIT_FAILED;
        code = wrong ? IND_EXIT_FAILED : code;
    }
    ind_archives_select_free(&selected);
    return code;
}
