/* Archives, one after the other, to the second place of their policy; and the journal of what is there, so
 * that it can be searched and verified there. What is not there yet does not go here. */
#include "store/archive/copier.h"
#include "store/archive/keeper_private.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <uthash.h>

/* Seconds: after a failure it is tried again after the first, then after twice as long each time, up to the
 * second. */
enum { LEAST_PAUSE = 10, MOST_PAUSE = 600, TELL_AGAIN = 3600 };

struct ind_copies {
    struct ind_copier *copier;
    bool busy;
    char *archive;             /* that is under way; NULL: it is a journal */
    char *place;               /* of what is under way, or was last */
    bool journal_due;          /* that place has got something since its journal was copied */
    int64_t pause;             /* seconds */
    char id[IND_STORE_ID + 1]; /* of the store; empty: not read yet */
    struct ind_steady again, reported;
};

static const char *place_of(const struct ind_keeper *keeper, const struct ind_archive *archive)
{
    const struct ind_policy *policy = ind_keeper_policy(keeper, archive);
    return policy ? policy->second_place : NULL;
}

bool ind_keeper_waits_for_copy(const struct ind_keeper *keeper, const struct ind_archive *archive)
{
    const char *place = place_of(keeper, archive);
    return place && !archive->removed && archive->copied_to != ind_path_hash(ind_slice_of(place));
}

/* The first one that waits and has nothing else done to it, and how many wait. */
static const struct ind_archive *next_to_copy(const struct ind_keeper *keeper, uint64_t *waiting)
{
    const struct ind_archive *first = NULL;
    *waiting = 0;
    for (size_t i = 0; i < keeper->archive_count; i++) {
        const struct ind_archive *archive = &keeper->archives[i];
        if (!ind_keeper_waits_for_copy(keeper, archive))
            continue;
        first = first || archive->to_do ? first : archive;
        ++*waiting;
    }
    return first;
}

static bool has_been_there(const struct ind_keeper *keeper, const char *place)
{
    for (size_t i = 0; i < keeper->archive_count; i++) {
        if (keeper->archives[i].copied_to == ind_path_hash(ind_slice_of(place)))
            return true;
    }
    return false;
}

/* ---- The journal there ---- */

struct name {
    UT_hash_handle hh;
    const char *text; /* borrowed from the keeper */
    bool ended;       /* of a series: nothing more of it is taken */
};

/* Of each series that is copied to a place, up to the first archive that is not there yet. */
struct excerpt {
    struct name *series, *missing; /* missing: paths of archives */
    const char *line;              /* the present one, as it is in the journal */
    size_t length;
    FILE *out;
};

static void add_name(struct name **table, const char *text)
{
    struct name *name;
    HASH_FIND_STR(*table, text, name);
    if (name || !(name = calloc(1, sizeof *name)))
        return;
    name->text = text;
    HASH_ADD_KEYPTR(hh, *table, name->text, strlen(name->text), name);
}

static void free_names(struct name *table)
{
    struct name *name, *next;
    HASH_ITER(hh, table, name, next)
    {
        HASH_DEL(table, name);
        free(name);
    }
}

static void take(void *context, const struct ind_journal_record *record)
{
    struct excerpt *excerpt = context;
    struct name *series, *missing = NULL;
    HASH_FIND_STR(excerpt->series, record->series, series);
    if (!series || series->ended)
        return;
    if (record->event == IND_EVENT_ROTATED)
        HASH_FIND_STR(excerpt->missing, record->archive, missing);
    series->ended = missing != NULL;
    if (!missing)
        fprintf(excerpt->out, "%.*s\n", (int)excerpt->length, excerpt->line);
}

static void take_line(void *context, char *line, size_t length)
{
    struct excerpt *excerpt = context;
    char *copy = malloc(length + 1);
    if (!copy)
        return;
    memcpy(copy, line, length + 1);
    excerpt->line = line;
    excerpt->length = length;
    (void)ind_record_read(copy, length, take, excerpt);
    free(copy);
}

static void write_excerpt(const struct ind_keeper *keeper, const char *place, FILE *out)
{
    struct excerpt excerpt = {.out = out};
    for (size_t i = 0; i < keeper->archive_count; i++) {
        const struct ind_archive *archive = &keeper->archives[i];
        const char *own = place_of(keeper, archive);
        if (!own || strcmp(own, place) != 0)
            continue;
        add_name(&excerpt.series, archive->series);
        if (ind_keeper_waits_for_copy(keeper, archive))
            add_name(&excerpt.missing, archive->path);
    }
    (void)ind_journal_lines(keeper->disk->folder, 0, take_line, &excerpt);
    free_names(excerpt.series);
    free_names(excerpt.missing);
}

/* ---- What is copied next ---- */

static void forget(struct ind_copy *copy)
{
    free(copy->place);
    free(copy->path);
    free(copy->text);
}

static bool begin(struct ind_copies *copies, struct ind_copy *copy, bool good)
{
    memcpy(copy->id, copies->id, sizeof copy->id);
    if (good)
        ind_copier_begin(copies->copier, copy);
    else
        forget(copy);
    copies->busy = good;
    return good;
}

static bool begin_journal(struct ind_keeper *keeper)
{
    struct ind_copies *copies = keeper->copies;
    struct ind_copy copy = {.place = strdup(copies->place), .known = true, .path = strdup(IND_JOURNAL_PATH)};
    FILE *out = open_memstream(&copy.text, &copy.length);
    bool good = copy.place && copy.path && out;
    if (out) {
        write_excerpt(keeper, copies->place, out);
        good = good && !ferror(out);
        good = fclose(out) == 0 && good;
    }
    return begin(copies, &copy, good);
}

static bool begin_archive(struct ind_keeper *keeper, const struct ind_archive *archive)
{
    struct ind_copies *copies = keeper->copies;
    char path[IND_ARCHIVE_PATH];
    const char *place = place_of(keeper, archive);
    ind_keeper_path(archive, path);
    ind_disk_act(keeper->disk, IND_ACTION_COPY, path, archive->size, "second place",
                 ind_keeper_policy(keeper, archive)->name);
    struct ind_copy copy = {
        .place = strdup(place), .known = has_been_there(keeper, place), .path = strdup(path)};
    free(copies->archive);
    free(copies->place);
    copies->archive = strdup(archive->path);
    copies->place = strdup(place);
    return begin(copies, &copy, copy.place && copy.path && copies->archive && copies->place);
}

/* All of a place first, then its journal. */
static bool begin_next(struct ind_keeper *keeper)
{
    struct ind_copies *copies = keeper->copies;
    const struct ind_disk *disk = keeper->disk;
    const struct ind_archive *archive = next_to_copy(keeper, &keeper->counts.to_copy);
    if ((archive || copies->journal_due) && !disk->dry_run && !copies->id[0] &&
        !ind_store_id(&disk->fs, disk->folder, copies->id)) {
        copies->id[0] = '\0';
        return false; /* the disk takes nothing: later */
    }
    if (copies->journal_due && (!archive || strcmp(place_of(keeper, archive), copies->place) != 0))
        return begin_journal(keeper);
    return archive && begin_archive(keeper, archive);
}

/* ---- What became of it ---- */

static void note_copied(struct ind_keeper *keeper, ind_time now)
{
    struct ind_copies *copies = keeper->copies;
    for (size_t i = 0; i < keeper->archive_count; i++) {
        struct ind_archive *archive = &keeper->archives[i];
        if (strcmp(archive->path, copies->archive) != 0)
            continue;
        const struct ind_journal_record record = {.event = IND_EVENT_COPIED,
                                                  .at = now,
                                                  .series = archive->series,
                                                  .number = archive->number,
                                                  .archive = archive->path,
                                                  .file = copies->place,
                                                  .bytes = archive->size};
        if (ind_chain_journal(keeper->disk, &record, ind_keeper_policy(keeper, archive)))
            archive->copied_to = ind_path_hash(ind_slice_of(copies->place));
        copies->journal_due = true;
        keeper->heads_moved = true;
    }
}

static void note_done(struct ind_keeper *keeper, ind_time now)
{
    struct ind_copies *copies = keeper->copies;
    if (ind_steady_is_set(copies->reported))
        ind_disk_report(keeper->disk, IND_OWN_COPY_WORKS, NULL, "archives are copied to %s again",
                        copies->place);
    copies->pause = 0;
    copies->reported = IND_STEADY_NEVER;
    if (copies->archive)
        note_copied(keeper, now);
    else
        copies->journal_due = false;
}

static void note_failed(struct ind_keeper *keeper, const char *reason, struct ind_steady now)
{
    struct ind_copies *copies = keeper->copies;
    copies->pause = copies->pause ? copies->pause * 2 : LEAST_PAUSE;
    copies->pause = copies->pause > MOST_PAUSE ? MOST_PAUSE : copies->pause;
    copies->again = ind_steady_after(now, copies->pause * IND_SECOND);
    if (!ind_steady_reported_lately(&copies->reported, now, TELL_AGAIN * IND_SECOND))
        ind_disk_report(
            keeper->disk, IND_OWN_COPY_FAILED, NULL,
            "cannot copy to the second place: %s; %llu archives wait, and stay here until they are there",
            reason, (unsigned long long)keeper->counts.to_copy);
}

/* False while it is under way. */
static bool look(struct ind_keeper *keeper, struct ind_clocks now)
{
    struct ind_copies *copies = keeper->copies;
    char reason[600];
    const enum ind_copy_state state = ind_copier_look(copies->copier, reason, sizeof reason);
    if (state == IND_COPY_UNDER_WAY)
        return false;
    if (state == IND_COPY_DONE)
        note_done(keeper, now.wall);
    else
        note_failed(keeper, reason, now.steady);
    copies->busy = false;
    free(copies->archive);
    copies->archive = NULL;
    return true;
}

/* ---- Together ---- */

struct ind_copies *ind_copies_new(struct ind_disk *disk)
{
    struct ind_copies *copies = calloc(1, sizeof *copies);
    if (!copies)
        return NULL;
    copies->again = copies->reported = IND_STEADY_NEVER;
    copies->copier = ind_copier_new(&disk->fs, disk->folder, disk->copies_apart ? &disk->wanted : NULL);
    if (copies->copier)
        return copies;
    free(copies);
    return NULL;
}

void ind_copies_free(struct ind_copies *copies)
{
    if (!copies)
        return;
    ind_copier_free(copies->copier);
    free(copies->archive);
    free(copies->place);
    free(copies);
}

static void show_waiting(const struct ind_keeper *keeper)
{
    for (size_t i = 0; i < keeper->archive_count; i++) {
        const struct ind_archive *archive = &keeper->archives[i];
        char path[IND_ARCHIVE_PATH];
        ind_keeper_path(archive, path);
        if (ind_keeper_waits_for_copy(keeper, archive))
            ind_disk_act(keeper->disk, IND_ACTION_COPY, path, archive->size, "second place",
                         ind_keeper_policy(keeper, archive)->name);
    }
}

void ind_keeper_copy(struct ind_keeper *keeper, struct ind_clocks now)
{
    struct ind_copies *copies = keeper->copies;
    if (keeper->disk->dry_run) {
        show_waiting(keeper);
        return;
    }
    do {
        if (copies->busy && !look(keeper, now))
            return;
        if (ind_steady_is_set(copies->again) && ind_steady_from(now.steady, copies->again) > 0)
            return;
    } while (begin_next(keeper));
}
