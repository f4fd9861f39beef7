#include "collect/output/day_book.h"

#include "store/disk/aside.h"
#include "thread/mutex.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SAVE_EVERY (60 * IND_SECOND)

struct ind_day_book {
    char *state;
    struct ind_mutex mutex;
    struct ind_days days IND_GUARDED_BY(mutex);
    bool changed IND_GUARDED_BY(mutex);
    uint64_t last[IND_DAY_COUNTS]; /* of whoever notes */
    struct ind_edit_count *edits;  /* likewise */
    struct ind_steady saved;       /* of whoever saves */
};

IND_NOT_SHARED struct ind_day_book *ind_day_book_new(const char *state, bool *damaged)
{
    struct ind_day_book *book = calloc(1, sizeof *book);
    *damaged = false;
    if (!book || !(book->state = strdup(state))) {
        free(book);
        return NULL;
    }
    ind_mutex_begin(&book->mutex);
    if (ind_days_read(state, &book->days) == IND_DAYS_DAMAGED)
        *damaged = ind_database_set_aside(state, IND_DAYS_NAME, IND_DAYS_NAME ".damaged");
    return book;
}

IND_NOT_SHARED void ind_day_book_free(struct ind_day_book *book)
{
    if (!book)
        return;
    ind_days_free(&book->days);
    ind_edit_counts_free(&book->edits);
    ind_mutex_end(&book->mutex);
    free(book->state);
    free(book);
}

static void write_date(ind_time now, const struct ind_zone *zone, char date[11])
{
    struct ind_civil civil;
    char text[40];
    ind_zone_civil(zone, now, &civil);
    snprintf(text, sizeof text, "%04d-%02d-%02d", (int)civil.year, (int)civil.month, (int)civil.day);
    memcpy(date, text, 10);
    date[10] = '\0';
}

static uint64_t more(uint64_t now, uint64_t before)
{
    return now > before ? now - before : 0;
}

static bool note(struct ind_day_book *book, struct ind_day *day, const uint64_t counts[IND_DAY_COUNTS],
                 const struct ind_edit_count *edits)
{
    bool changed = false;
    for (int i = 0; i < IND_DAY_COUNTS; i++) {
        const uint64_t added = more(counts[i], book->last[i]);
        day->counts[i] += added;
        book->last[i] += added;
        changed |= added > 0;
    }
    for (; edits; edits = edits->hh.next) {
        struct ind_edit_count *before;
        HASH_FIND_STR(book->edits, edits->name, before);
        const uint64_t added = more(edits->dropped, before ? before->dropped : 0);
        ind_day_add_edit(day, edits->name, added);
        ind_edit_counts_add(&book->edits, edits->name, 0, added, 0);
        changed |= added > 0;
    }
    return changed;
}

void ind_day_book_note(struct ind_day_book *book, const uint64_t counts[IND_DAY_COUNTS],
                       const struct ind_edit_count *edits, ind_time now, const struct ind_zone *zone)
{
    char date[11];
    write_date(now, zone, date);
    ind_mutex_lock(&book->mutex);
    struct ind_day *day = ind_days_at(&book->days, date);
    if (day)
        book->changed |= note(book, day, counts, edits);
    ind_mutex_unlock(&book->mutex);
}

bool ind_day_book_save(struct ind_day_book *book, bool all, struct ind_steady now)
{
    if (!all && ind_steady_lately(book->saved, now, SAVE_EVERY))
        return true;
    ind_mutex_lock(&book->mutex);
    char *text = book->changed ? ind_days_text(&book->days) : NULL;
    book->changed &= !text;
    ind_mutex_unlock(&book->mutex);
    if (!text)
        return true;
    book->saved = now;
    const bool good = ind_days_write(book->state, text);
    free(text);
    if (!good) {
        ind_mutex_lock(&book->mutex);
        book->changed = true;
        ind_mutex_unlock(&book->mutex);
    }
    return good;
}
