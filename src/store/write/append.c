/* Lines into pages, and what time brings. */
#include "store/write/write_private.h"

#include <stdlib.h>
#include <utlist.h>

enum { BIG_WRITE = 256 << 10 };

/* Gives the file its number and its archive's name. */
static bool begin(struct ind_store *store, struct ind_live *live, ind_time time)
{
    enum { LONGEST_NAME = IND_PATH + 64 };
    char *name = malloc(LONGEST_NAME + 1);
    if (!name)
        return false;
    struct ind_buffer buffer = ind_buffer_on(name, LONGEST_NAME);
    live->number = ind_series_take(store, live->series);
    ind_archive_name_write(&buffer, ind_slice_of(live->path), time, live->number);
    name[buffer.length] = '\0';
    char *shorter = realloc(name, buffer.length + 1);
    free(live->archive);
    live->archive = shorter ? shorter : name;
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

/* Room for `length` bytes more, at the cost of writing what has waited longest. */
static bool make_room(struct ind_store *store, size_t length, struct ind_clocks now)
{
    size_t needed = length / (IND_PAGE_BYTES - 2 * sizeof(struct ind_run)) + 2;
    while (store->pages.free_count < needed)
        if (!store->dirty || ind_live_flush(store, store->dirty, now) != 0)
            return false;
    return true;
}

static void add_line(struct ind_store *store, struct ind_live *live, struct ind_slice bytes, uint32_t owner)
{
    while (bytes.length > 0) {
        if (!live->last_page || ind_page_room(live->last_page) == 0) {
            struct ind_page *page = ind_page_acquire(&store->pages);
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
 * has been reported), the file goes on as it is, and it is tried again in a while: one file must not hold up
 * the others. */
static bool rotate_before(struct ind_store *store, struct ind_live *live,
                          const struct ind_rotation_rule *rule, size_t length, ind_time time,
                          struct ind_clocks now)
{
    enum ind_rotation_reason reason = ind_rotation_before(rule, &live->facts, time, length);
    if (reason == IND_ROTATION_NOT ||
        (ind_steady_is_set(live->rotate_again) && ind_steady_from(now.steady, live->rotate_again) > 0))
        return true;
    live->rotate_again = IND_STEADY_NEVER;
    int error = ind_live_rotate(store, live, reason, now);
    if (!error)
        return true;
    if (live->waiting || ind_disk_is_full(error))
        return false;
    live->rotate_again = ind_steady_after(now.steady, IND_REPORT_AGAIN * IND_SECOND);
    return true;
}

enum ind_append ind_store_append(struct ind_store *store, struct ind_live *live, struct ind_slice line,
                                 ind_time time, uint32_t owner, struct ind_clocks now)
{
    if (live->begun && !rotate_before(store, live, ind_live_rule(store, live), line.length, time, now))
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

/* Whether so many bytes, of so many lines, go into pages that there are, and nothing is written for it. */
static bool has_pages(const struct ind_store *store, const struct ind_live *live, size_t bytes, size_t lines)
{
    const size_t room = IND_PAGE_BYTES - 2 * sizeof(struct ind_run), free = store->pages.free_count;
    return live->waiting > 0 && live->waiting + bytes < BIG_WRITE && free > 2 &&
           bytes + lines * sizeof(struct ind_run) <= (free - 2) * room;
}

size_t ind_store_append_lines(struct ind_store *store, struct ind_live *live,
                              const struct ind_new_line *lines, size_t count, struct ind_clocks now)
{
    size_t bytes = 0, done = 0;
    ind_time latest = live->last;
    for (size_t i = 0; i < count; i++) {
        bytes += lines[i].bytes.length;
        latest = lines[i].time > latest ? lines[i].time : latest;
    }
    if (!has_pages(store, live, bytes, count) || !ind_live_only_grows(store, live, latest, bytes, count)) {
        while (done < count && ind_store_append(store, live, lines[done].bytes, lines[done].time,
                                                lines[done].owner, now) == IND_APPENDED)
            done++;
        return done;
    }
    for (size_t i = 0; i < count; i++)
        add_line(store, live, lines[i].bytes, lines[i].owner);
    live->waiting += bytes;
    live->waiting_lines += count;
    live->facts.size += bytes;
    live->facts.messages += count;
    live->last = latest;
    store->counts.overflowed += live->overflow ? count : 0;
    store->counts.waiting += count;
    return count;
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
        all &= ind_live_flush(store, live, now) == 0;
    }
    return all;
}

bool ind_store_flush(struct ind_store *store, struct ind_clocks now)
{
    return flush_older(store, INT64_MIN, now);
}

bool ind_store_tick(struct ind_store *store, struct ind_clocks now, int64_t wait)
{
    size_t failed = 0;
    bool all = flush_older(store, wait, now);
    if (ind_steady_reported_lately(&store->looked_for_due, now.steady, IND_SECOND))
        return all;
    (void)ind_store_look_after(store, now);
    if (!store->by_messages) {
        (void)ind_store_rotate(store, true, now, &failed);
    }
    return all && failed == 0;
}

void ind_store_waiting(struct ind_store *store, void (*visit)(void *context, uint32_t owner, uint32_t lines),
                       void *context)
{
    struct ind_live *live;
    DL_FOREACH2(store->dirty, live, dirty_next)
    for (struct ind_page *page = live->first_page; page; page = page->next)
        for (uint32_t i = 0; i < page->runs; i++)
            visit(context, ind_page_run(page, i)->owner, ind_page_run(page, i)->lines);
}

struct ind_store_counts ind_store_counts(const struct ind_store *store)
{
    struct ind_store_counts counts = store->counts;
    counts.open_files = store->open_count;
    counts.disk_error = store->disk_error;
    return counts;
}

struct ind_store_counts ind_store_counts_of_all(const struct ind_store *store)
{
    struct ind_store_counts sum = {0};
    for (unsigned i = 0; i < store->part_count; i++) {
        const struct ind_store_counts counts = ind_store_counts(store->parts[i]);
        sum.lines += counts.lines;
        sum.bytes += counts.bytes;
        sum.lost += counts.lost;
        sum.waiting += counts.waiting;
        sum.overflowed += counts.overflowed;
        sum.rotated += counts.rotated;
        sum.live_files += counts.live_files;
        sum.open_files += counts.open_files;
        sum.disk_error = sum.disk_error ? sum.disk_error : counts.disk_error;
    }
    return sum;
}
