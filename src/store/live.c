/* store/live.c: lines into live files.
 *
 * The order of steps when a file begins: "opened" into the journal, folders, the file, lines. When it is
 * rotated: what waits is written, the file gets its archive's name, "rotated" into the journal, and the
 * keeping half hears of it. After a stop between any two of them recover.c finishes the rest. */
#include "store/inside.h"

#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utlist.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

/* A disk that took nothing is not asked again for each line. */
#define DISK_AGAIN (IND_SECOND / 20)

enum { BIG_WRITE = 256 << 10, PIECES = 128, TELL_AGAIN = 60 };

void ind_store_tell(const struct ind_store *store, const char *format, ...)
{
    char text[1600];
    va_list arguments;
    if (!store->tell)
        return;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    store->tell(store->context, text);
}

bool ind_disk_is_full(int error)
{
    return error == ENOSPC || error == EDQUOT || error == EIO || error == EROFS || error == ENOMEM;
}

uint64_t ind_path_hash(struct ind_slice path)
{
    return XXH3_64bits(path.at, path.length);
}

struct ind_series *ind_series_for(struct ind_store *store, struct ind_slice name)
{
    struct ind_series *series;
    HASH_FIND(hh, store->series, name.at, (unsigned)name.length, series);
    if (series)
        return series;
    series = calloc(1, sizeof *series);
    if (!series || !(series->name = malloc(name.length + 1))) {
        free(series);
        return NULL;
    }
    memcpy(series->name, name.at, name.length);
    series->name[name.length] = '\0';
    series->next = 1;
    HASH_ADD_KEYPTR(hh, store->series, series->name, (unsigned)name.length, series);
    return series;
}

struct ind_live *ind_live_new(struct ind_store *store, struct ind_slice path, uint64_t hash,
                              struct ind_slice series)
{
    struct ind_live *live = calloc(1, sizeof *live);
    char *copy = malloc(path.length + 1);
    if (!live || !copy || !(live->series = ind_series_for(store, series))) {
        free(live);
        free(copy);
        return NULL;
    }
    memcpy(copy, path.at, path.length);
    copy[path.length] = '\0';
    live->path = copy;
    live->hash = hash;
    live->file = -1;
    live->route = live->policy = IND_NO_POLICY;
    live->first = live->last = IND_TIME_NONE;
    live->facts.period_end = IND_TIME_NONE;
    live->messages_known = true;
    live->stored = IND_STORED_UNKNOWN;
    HASH_ADD_KEYPTR_BYHASHVALUE(hh, store->lives, live->path, (unsigned)path.length, (unsigned)hash, live);
    store->counts.live_files++;
    return live;
}

void ind_live_close(struct ind_store *store, struct ind_live *live)
{
    if (live->file < 0 || !store->open)
        return;
    close(live->file);
    live->file = -1;
    DL_DELETE2(store->open, live, open_prev, open_next); /* NOLINT: an open file is in the list */
    store->open_count--;
}

/* Lets go of what waits, which is written, or lost. */
static void settle_waiting(struct ind_store *store, struct ind_live *live, bool written)
{
    while (live->first_page) {
        struct ind_page *page = live->first_page;
        live->first_page = page->next;
        for (uint32_t i = 0; store->settle && i < page->runs; i++)
            store->settle(store->context, ind_page_run(page, i)->owner, ind_page_run(page, i)->lines,
                          written);
        ind_page_give(&store->pages, page);
    }
    if (live->waiting)
        DL_DELETE2(store->dirty, live, dirty_prev, dirty_next);
    live->last_page = NULL;
    store->counts.waiting -= live->waiting_lines;
    *(written ? &store->counts.lines : &store->counts.lost) += live->waiting_lines;
    live->waiting = 0;
    live->waiting_lines = 0;
}

static void count_live_bytes(struct ind_store *store, const struct ind_live *live, uint64_t more,
                             uint64_t less)
{
    if (live->policy != IND_NO_POLICY)
        atomic_fetch_add(&store->live_bytes[live->policy], more - less);
}

void ind_live_free(struct ind_store *store, struct ind_live *live)
{
    settle_waiting(store, live, false);
    ind_live_close(store, live);
    count_live_bytes(store, live, 0, live->on_disk);
    HASH_DEL(store->lives, live);
    store->counts.live_files--;
    free(live->path);
    free(live->archive);
    free(live);
}

/* A file holds one layout, so that a raw line is never taken for another: where the route has a new one, it
 * is due at once. */
void ind_live_settle_period(const struct ind_store *store, struct ind_live *live)
{
    const struct ind_policy *policy = ind_live_policy(store, live);
    if (!live->begun)
        return;
    live->facts.period_end =
        policy ? ind_period_end(policy->rotate.every, store->config->zone, live->first) : IND_TIME_NONE;
    if (live->route != IND_NO_POLICY && live->stored != IND_STORED_UNKNOWN &&
        live->stored != ind_stored_by(&store->config->routes[live->route]))
        live->facts.period_end = 0;
}

void ind_live_set_route(struct ind_store *store, struct ind_live *live, size_t route)
{
    live->route = route;
    if (route != IND_NO_POLICY) {
        count_live_bytes(store, live, 0, live->on_disk);
        live->policy = store->plan->place_of_policy[store->config->routes[route].policy];
        count_live_bytes(store, live, live->on_disk, 0);
    }
    ind_live_settle_period(store, live);
}

static void turn_day(struct ind_store *store, struct ind_clocks now)
{
    int64_t seconds = ind_time_seconds(now.wall);
    int64_t day = (seconds + ind_zone_offset(store->config->zone, seconds)) / IND_DAY_SECONDS;
    if (day == store->today)
        return;
    store->today = day;
    memset(store->made_today, 0, store->config->route_count * sizeof *store->made_today);
    ind_made_forget(store);
}

void ind_made_forget(struct ind_store *store)
{
    struct ind_made *made, *next;
    HASH_ITER(hh, store->made, made, next)
    {
        HASH_DEL(store->made, made);
        free(made);
    }
}

bool ind_made_count(struct ind_store *store, uint64_t path, uint32_t route)
{
    struct ind_made *made,
        probe = {.key = {path, ind_path_hash(ind_slice_of(store->config->routes[route].name))}};
    HASH_FIND(hh, store->made, &probe.key, sizeof probe.key, made);
    if (made)
        return true;
    if (store->made_today[route] >= store->files_a_day || !(made = calloc(1, sizeof *made)))
        return false;
    made->key = probe.key;
    HASH_ADD(hh, store->made, key, sizeof made->key, made);
    store->made_today[route]++;
    return true;
}

/* The first folder of the route's path, where it is a literal one. */
static struct ind_slice overflow_path(const struct ind_route *route, char *room, size_t size)
{
    struct ind_slice source = route->file.source;
    const char *slash = memchr(source.at, '/', source.length);
    size_t first = slash ? (size_t)(slash - source.at) : 0;
    if (first && memchr(source.at, '{', first))
        first = 0;
    int length = snprintf(room, size, "%.*s%soverflow.log", (int)first, source.at, first ? "/" : "");
    return (struct ind_slice){room, (size_t)length};
}

static struct ind_live *find_live(const struct ind_store *store, struct ind_slice path, uint64_t hash)
{
    struct ind_live *live;
    HASH_FIND_BYHASHVALUE(hh, store->lives, path.at, (unsigned)path.length, (unsigned)hash, live);
    return live;
}

static struct ind_live *overflow_file(struct ind_store *store, const struct ind_target *target)
{
    char room[IND_PATH + 16];
    const struct ind_route *route = &store->config->routes[target->route];
    struct ind_slice path = overflow_path(route, room, sizeof room);
    uint64_t hash = ind_path_hash(path);
    if (store->made_today[target->route]++ == store->files_a_day)
        ind_store_tell(store,
                       "route \"%s\": messages made up more than %llu files today; the rest goes to %.*s. "
                       "Who sends such "
                       "names? A narrower allow: or devices: keeps them out",
                       route->name, (unsigned long long)store->files_a_day, IND_ARG(path));
    struct ind_live *live = find_live(store, path, hash);
    live = live ? live : ind_live_new(store, path, hash, path);
    if (live)
        live->overflow = true;
    return live;
}

struct ind_live *ind_store_file(struct ind_store *store, const struct ind_target *target,
                                struct ind_clocks now)
{
    struct ind_live *live = find_live(store, target->path, target->hash);
    if (!live) {
        turn_day(store, now);
        if (target->made_up && !ind_made_count(store, target->hash, target->route))
            live = overflow_file(store, target);
        else
            live = ind_live_new(store, target->path, target->hash, target->series);
        if (!live)
            return NULL;
        live->made_up = target->made_up && !live->overflow;
    }
    if (live->route != target->route)
        ind_live_set_route(store, live, target->route);
    return live;
}

/* Gives the file its number and its archive's name. */
static bool begin(struct ind_store *store, struct ind_live *live, ind_time time)
{
    char name[IND_PATH + 64];
    struct ind_buffer buffer = ind_buffer_on(name, sizeof name - 1);
    live->number = live->series->next;
    ind_archive_name_write(&buffer, ind_slice_of(live->path), time, live->number);
    name[buffer.length] = '\0';
    free(live->archive);
    live->archive = strdup(name);
    if (!live->archive)
        return false;
    live->series->next++;
    live->begun = true;
    live->journaled = false;
    live->first = live->last = time;
    live->facts = (struct ind_live_facts){.period_end = IND_TIME_NONE};
    live->messages_known = true;
    live->stored = live->route == IND_NO_POLICY ? IND_STORED_UNKNOWN
                                                : ind_stored_by(&store->config->routes[live->route]);
    ind_live_settle_period(store, live);
    return true;
}

static bool journal_opened(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    const struct ind_config *config = store->config;
    const struct ind_policy *policy = ind_live_policy(store, live);
    bool known = live->route != IND_NO_POLICY;
    struct ind_record record = {
        .event = IND_EVENT_OPENED,
        .at = now.wall,
        .series = live->series->name,
        .number = live->number,
        .archive = live->archive,
        .live = live->path,
        .route = known ? config->routes[live->route].name : NULL,
        .policy = policy ? policy->name : NULL,
        .layout = live->stored < 0 ? NULL : ind_stored_name(live->stored),
        .version = IND_STORED_VERSION,
        .first = live->first,
        .made_up = live->made_up,
    };
    live->journaled = ind_journal_add(&store->fs, store->journal, &record);
    return live->journaled;
}

static bool make_folders(struct ind_store *store, const struct ind_live *live)
{
    char path[IND_PATH + 1];
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    for (const char *slash = strchr(live->path, '/'); slash; slash = strchr(slash + 1, '/')) {
        snprintf(path, sizeof path, "%.*s", (int)(slash - live->path), live->path);
        if (store->fs.make_folder(store->fs.context, store->folder, path, route ? route->folder_mode : 0750,
                                  route ? route->group : -1) != 0 &&
            errno != EEXIST)
            return false;
    }
    return true;
}

static int open_live(struct ind_store *store, struct ind_live *live)
{
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    int flags = O_WRONLY | O_APPEND | O_CREAT | O_NOFOLLOW | O_NONBLOCK; /* a pipe must not stop us */
    int file =
        store->fs.open(store->fs.context, store->folder, live->path, flags, route ? route->file_mode : 0640);
    if (file < 0 && errno == ENOENT && make_folders(store, live))
        file = store->fs.open(store->fs.context, store->folder, live->path, flags,
                              route ? route->file_mode : 0640);
    return file;
}

/* Takes the facts of the file just opened, which may have been there before. */
static bool settle_open(struct ind_store *store, struct ind_live *live, int file)
{
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    struct stat facts;
    if (fstat(file, &facts) != 0 || !S_ISREG(facts.st_mode)) {
        errno = S_ISREG(facts.st_mode) ? errno : EISDIR;
        return false;
    }
    if (facts.st_size == 0 && route &&
        store->fs.own(store->fs.context, file, route->file_mode, route->group) != 0)
        return false;
    count_live_bytes(store, live, (uint64_t)facts.st_size, live->on_disk);
    if (live->on_disk != (uint64_t)facts.st_size) {
        live->on_disk = (uint64_t)facts.st_size;
        live->facts.size = live->on_disk + live->waiting;
        live->messages_known = false;
    }
    return true;
}

static void close_least_used(struct ind_store *store)
{
    if (store->open)
        ind_live_close(store, store->open);
}

static bool ensure_open(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    struct stat facts;
    if (live->file >= 0) {
        DL_DELETE2(store->open, live, open_prev, open_next);
        DL_APPEND2(store->open, live, open_prev, open_next);
        if (fstat(live->file, &facts) != 0 || facts.st_nlink > 0)
            return true;
        ind_store_tell(store, "%s was removed by somebody while it was written to; it is begun anew",
                       live->path);
        ind_live_close(store, live);
        count_live_bytes(store, live, 0, live->on_disk);
        live->on_disk = 0;
        (void)ind_store_look_after(store, now);
    }
    if (!live->journaled && !journal_opened(store, live, now))
        return false;
    while (store->open_count >= store->open_limit)
        close_least_used(store);
    int file = open_live(store, live);
    while (file < 0 && (errno == EMFILE || errno == ENFILE) && store->open) {
        close_least_used(store);
        file = open_live(store, live);
    }
    if (file < 0 && errno == ENOENT && ind_store_look_after(store, now))
        file = journal_opened(store, live, now) ? open_live(store, live) : -1;
    if (file < 0)
        return false;
    if (!settle_open(store, live, file)) {
        int error = errno;
        close(file);
        errno = error;
        return false;
    }
    live->file = file;
    DL_APPEND2(store->open, live, open_prev, open_next);
    store->open_count++;
    return true;
}

/* As many pages as go into one write. Returns the bytes written, which are `*wanted` where all went well. */
static ssize_t write_some(struct ind_store *store, struct ind_live *live, struct ind_page **page,
                          size_t *wanted)
{
    struct iovec pieces[PIECES];
    int count = 0;
    for (*wanted = 0; *page && count < PIECES; *page = (*page)->next) {
        pieces[count++] = (struct iovec){(*page)->bytes, (*page)->used};
        *wanted += (*page)->used;
    }
    ssize_t written;
    do
        written = store->fs.write(store->fs.context, live->file, pieces, count);
    while (written < 0 && errno == EINTR);
    return written;
}

/* All that waits, or nothing: lines go over the ends of pages, and no torn one may stay. */
static bool write_pages(struct ind_store *store, struct ind_live *live)
{
    struct ind_page *page = live->first_page;
    bool began = false;
    while (page) {
        size_t wanted;
        ssize_t written = write_some(store, live, &page, &wanted);
        if (written == (ssize_t)wanted) {
            began = true;
            continue;
        }
        int error = written < 0 ? errno : ENOSPC;
        if (began || written > 0)
            (void)store->fs.truncate(store->fs.context, live->file, live->on_disk);
        errno = error;
        return false;
    }
    return true;
}

static void tell_lost(struct ind_store *store, struct ind_live *live, int error, struct ind_clocks now)
{
    if (ind_steady_told_lately(&live->told, now.steady, TELL_AGAIN * IND_SECOND))
        return;
    bool link = error == ELOOP || error == ENOTDIR;
    ind_store_tell(store, "cannot write %s: %s; its messages are lost until this is mended", live->path,
                   link ? "a symbolic link, or a file, stands in the place of it or of its folder"
                        : strerror(error));
}

/* A full disk concerns all files: it is told once, and so is its end. */
static void tell_disk(struct ind_store *store, const struct ind_live *live, int error, struct ind_clocks now)
{
    store->disk_full = true;
    store->disk_again = ind_steady_after(now.steady, DISK_AGAIN);
    if (ind_steady_told_lately(&store->disk_told, now.steady, TELL_AGAIN * IND_SECOND))
        return;
    ind_store_tell(store, "cannot write %s: %s; messages wait in memory until there is room", live->path,
                   strerror(error));
}

static void tell_room(struct ind_store *store)
{
    store->disk_full = false;
    if (ind_steady_is_set(store->disk_told))
        ind_store_tell(store, "the disk takes messages again; nothing that waited was lost");
    store->disk_told = IND_STEADY_NEVER;
}

bool ind_live_flush(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    if (live->waiting == 0)
        return true;
    if (ensure_open(store, live, now) && write_pages(store, live)) {
        live->on_disk += live->waiting;
        count_live_bytes(store, live, live->waiting, 0);
        store->counts.bytes += live->waiting;
        settle_waiting(store, live, true);
        live->told = IND_STEADY_NEVER;
        if (store->disk_full && !store->dirty)
            tell_room(store); /* all that waited is written */
        return true;
    }
    int error = errno;
    bool wait = ind_disk_is_full(error) || error == EMFILE || error == ENFILE;
    if (wait) {
        tell_disk(store, live, error, now);
        atomic_store(&store->wanted, true); /* the keeping half may find something to remove */
        errno = error;
        return false;
    }
    tell_lost(store, live, error, now);
    live->facts.size -= live->waiting;
    live->facts.messages -= live->waiting_lines;
    settle_waiting(store, live, false);
    return true;
}

static void journal_rotated(struct ind_store *store, const struct ind_live *live, uint64_t inode,
                            struct ind_clocks now, enum ind_rotation_reason reason)
{
    struct ind_record record = {
        .event = IND_EVENT_ROTATED,
        .at = now.wall,
        .series = live->series->name,
        .number = live->number,
        .archive = live->archive,
        .reason = ind_rotation_reason_name(reason).at,
        .bytes = live->on_disk,
        .messages = live->messages_known ? live->facts.messages : UINT64_MAX,
        .inode = inode,
        .first = live->first,
        .last = live->last,
    };
    if (!ind_journal_add(&store->fs, store->journal, &record))
        ind_store_tell(store, "cannot write the journal: %s", strerror(errno));
}

/* Forgets the file that was; the next line begins another. */
static void end_file(struct ind_store *store, struct ind_live *live)
{
    ind_live_close(store, live);
    count_live_bytes(store, live, 0, live->on_disk);
    live->on_disk = 0;
    live->begun = live->journaled = false;
    live->facts = (struct ind_live_facts){.period_end = IND_TIME_NONE};
}

bool ind_live_rotate(struct ind_store *store, struct ind_live *live, enum ind_rotation_reason reason,
                     struct ind_clocks now)
{
    struct stat facts;
    if (!ind_live_flush(store, live, now))
        return false;
    if (live->on_disk == 0) { /* all of it was lost: there is no file to rotate */
        end_file(store, live);
        return true;
    }
    if (fstatat(store->folder, live->path, &facts, AT_SYMLINK_NOFOLLOW) != 0 ||
        store->fs.rename(store->fs.context, store->folder, live->path, live->archive) != 0) {
        int error = errno;
        if (error != ENOENT) {
            if (!ind_steady_told_lately(&live->told, now.steady, TELL_AGAIN * IND_SECOND))
                ind_store_tell(store, "cannot rotate %s: %s; it goes on as it is, and is tried again",
                               live->path, strerror(error));
            errno = error;
            return false;
        }
        ind_store_tell(store, "%s was removed by somebody before it could be rotated", live->path);
        end_file(store, live);
        return true;
    }
    journal_rotated(store, live, (uint64_t)facts.st_ino, now, reason);
    struct ind_archive archive = {.path = live->archive,
                                  .series = live->series->name,
                                  .number = live->number,
                                  .size = live->on_disk,
                                  .policy = live->policy,
                                  .rotated = now.wall,
                                  .to_do = true};
    ind_hand_over(store, &archive);
    store->counts.rotated++;
    end_file(store, live);
    return true;
}

/* Room for `length` bytes more, at the cost of writing what has waited longest. */
static bool make_room(struct ind_store *store, size_t length, struct ind_clocks now)
{
    size_t needed = length / (IND_PAGE_BYTES - 2 * sizeof(struct ind_run)) + 2;
    while (store->pages.free_count < needed)
        if (!store->dirty || !ind_live_flush(store, store->dirty, now))
            return false;
    return true;
}

static void add_line(struct ind_store *store, struct ind_live *live, struct ind_slice bytes, uint32_t owner)
{
    while (bytes.length > 0) {
        if (!live->last_page || ind_page_room(live->last_page) == 0) {
            struct ind_page *page = ind_page_take(&store->pages);
            if (live->last_page)
                live->last_page->next = page;
            else
                live->first_page = page;
            live->last_page = page;
        }
        struct ind_page *page = live->last_page;
        size_t room = ind_page_room(page), part = room < bytes.length ? room : bytes.length;
        memcpy(page->bytes + page->used, bytes.at, part);
        page->used += (uint32_t)part;
        bytes = ind_slice_from(bytes, part);
    }
    ind_page_count(live->last_page, owner);
}

/* Rotates where a line calls for it. False where the disk is full. Where it fails for another reason (which
 * has been told), the file goes on as it is, and it is tried again in a while: one file must not hold up the
 * others. */
static bool rotate_before(struct ind_store *store, struct ind_live *live,
                          const struct ind_rotation_rule *rule, size_t length, ind_time time,
                          struct ind_clocks now)
{
    enum ind_rotation_reason reason = ind_rotation_before(rule, &live->facts, time, length);
    if (reason == IND_ROTATION_NOT ||
        (ind_steady_is_set(live->rotate_again) && ind_steady_from(now.steady, live->rotate_again) > 0))
        return true;
    live->rotate_again = IND_STEADY_NEVER;
    if (ind_live_rotate(store, live, reason, now))
        return true;
    if (live->waiting || ind_disk_is_full(errno))
        return false;
    live->rotate_again = ind_steady_after(now.steady, TELL_AGAIN * IND_SECOND);
    return true;
}

enum ind_append ind_store_append(struct ind_store *store, struct ind_live *live, struct ind_slice line,
                                 ind_time time, uint32_t owner, struct ind_clocks now)
{
    static const struct ind_rotation_rule never = {IND_PERIOD_NONE, 0, 0};
    const struct ind_policy *policy = ind_live_policy(store, live);
    const struct ind_rotation_rule *rule = policy ? &policy->rotate : &never;
    if (live->begun && !rotate_before(store, live, rule, line.length, time, now))
        return IND_APPEND_FULL;
    if (!make_room(store, line.length, now) || (!live->begun && !begin(store, live, time)))
        return IND_APPEND_FULL;
    if (live->waiting == 0) {
        live->waiting_since = now.steady;
        DL_APPEND2(store->dirty, live, dirty_prev, dirty_next);
    }
    add_line(store, live, line, owner);
    live->waiting += line.length;
    live->waiting_lines++;
    store->counts.overflowed += live->overflow;
    store->counts.waiting++;
    live->facts.size += line.length;
    live->facts.messages++;
    if (time > live->last)
        live->last = time;
    if (live->waiting >= BIG_WRITE &&
        !(store->disk_full && ind_steady_from(now.steady, store->disk_again) > 0))
        (void)ind_live_flush(store, live, now); /* what could not be written waits on; the pages bound it */
    return IND_APPENDED;
}

/* Those that have waited for so long, in the order in which they began to. */
static bool flush_older(struct ind_store *store, int64_t wait, struct ind_clocks now)
{
    bool all = true;
    struct ind_live *live, *next;
    DL_FOREACH_SAFE2(store->dirty, live, next, dirty_next)
    {
        if (ind_steady_from(live->waiting_since, now.steady) < wait)
            break;
        all &= ind_live_flush(store, live, now);
    }
    return all;
}

bool ind_store_flush(struct ind_store *store, struct ind_clocks now)
{
    return flush_older(store, INT64_MIN, now);
}

static enum ind_rotation_reason due(const struct ind_store *store, const struct ind_live *live,
                                    struct ind_clocks now)
{
    const struct ind_policy *policy = ind_live_policy(store, live);
    return policy ? ind_rotation_due(&policy->rotate, &live->facts, now.wall) : IND_ROTATION_NOT;
}

size_t ind_store_rotate(struct ind_store *store, bool only_due, struct ind_clocks now, size_t *failed)
{
    struct ind_live *live, *next;
    size_t count = 0;
    HASH_ITER(hh, store->lives, live, next)
    {
        enum ind_rotation_reason reason = due(store, live, now);
        if (reason == IND_ROTATION_NOT && (only_due || !live->begun))
            continue;
        if (ind_live_rotate(store, live, reason ? reason : IND_ROTATION_ASKED, now)) {
            count++;
            ind_live_free(store, live);
        } else {
            ++*failed;
        }
    }
    return count;
}

bool ind_store_tick(struct ind_store *store, struct ind_clocks now, int64_t wait)
{
    size_t failed = 0;
    bool all = flush_older(store, wait, now);
    if (ind_steady_told_lately(&store->looked_for_due, now.steady, IND_SECOND))
        return all;
    (void)ind_store_look_after(store, now);
    if (!store->by_messages) {
        (void)ind_store_rotate(store, true, now, &failed);
    }
    return all && failed == 0;
}

void ind_store_waiting(struct ind_store *store, void (*take)(void *context, uint32_t owner, uint32_t lines),
                       void *context)
{
    struct ind_live *live;
    DL_FOREACH2(store->dirty, live, dirty_next)
    for (struct ind_page *page = live->first_page; page; page = page->next)
        for (uint32_t i = 0; i < page->runs; i++)
            take(context, ind_page_run(page, i)->owner, ind_page_run(page, i)->lines);
}

struct ind_store_counts ind_store_counts(const struct ind_store *store)
{
    struct ind_store_counts counts = store->counts;
    counts.open_files = store->open_count;
    return counts;
}
