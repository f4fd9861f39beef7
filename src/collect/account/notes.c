#include "collect/account/notes.h"

#include "thread/mutex.h"
#include <stdlib.h>
#include <string.h>

enum { CHUNK = 64, LOOKED_AT = 64, TENTHS = 10, A_TENTH = IND_NOTES_A_SECOND / TENTHS };

struct kept {
    uint64_t stamp; /* of the last message: they are counted */
    struct ind_note note;
};

struct ind_notes {
    struct ind_mutex mutex; /* all but what is the intake thread's */
    struct kept *chunks[IND_NOTES / CHUNK];
    size_t count;
    uint32_t *place_of; /* + 1, by account; 0: none */
    size_t place_room;
    struct ind_notes_unfit unfit;

    /* The intake thread's. */
    struct ind_steady tenth; /* when the present tenth of a second began */
    unsigned firsts, others; /* that were wanted in it */
    uint64_t stamp;
    size_t hand; /* where room is looked for */
};

struct ind_notes *ind_notes_new(void)
{
    struct ind_notes *notes = calloc(1, sizeof *notes);
    if (notes)
        ind_mutex_begin(&notes->mutex);
    return notes;
}

IND_NOT_SHARED void ind_notes_free(struct ind_notes *notes)
{
    if (!notes)
        return;
    for (size_t i = 0; i < IND_NOTES / CHUNK; i++)
        free(notes->chunks[i]);
    free(notes->place_of);
    ind_mutex_end(&notes->mutex);
    free(notes);
}

bool ind_notes_wants(struct ind_notes *notes, struct ind_steady now, bool first)
{
    unsigned *used = first ? &notes->firsts : &notes->others;
    if (!ind_steady_lately(notes->tenth, now, IND_SECOND / TENTHS)) {
        notes->tenth = now;
        notes->firsts = notes->others = 0;
    }
    if (*used == A_TENTH / 2)
        return false;
    ++*used;
    return true;
}

static struct kept *at_place(const struct ind_notes *notes, size_t place)
{
    return &notes->chunks[place / CHUNK][place % CHUNK];
}

/* ---- A place for an account ---- */

static bool make_index(struct ind_notes *notes, uint32_t account)
{
    if (account < notes->place_room)
        return true;
    size_t room = (size_t)account + 1024;
    ind_mutex_lock(&notes->mutex);
    uint32_t *grown = realloc(notes->place_of, room * sizeof *grown);
    if (grown) {
        memset(grown + notes->place_room, 0, (room - notes->place_room) * sizeof *grown);
        notes->place_of = grown;
        notes->place_room = room;
    }
    ind_mutex_unlock(&notes->mutex);
    return grown != NULL;
}

/* The stranger that was looked at longest ago, of the next few; IND_NOTES: there is none. */
static size_t find_victim(struct ind_notes *notes)
{
    size_t victim = IND_NOTES;
    for (int i = 0; i < LOOKED_AT; i++, notes->hand = (notes->hand + 1) % IND_NOTES) {
        const struct kept *kept = at_place(notes, notes->hand);
        if (!kept->note.configured && (victim == IND_NOTES || kept->stamp < at_place(notes, victim)->stamp))
            victim = notes->hand;
    }
    return victim;
}

/* IND_NOTES: there is none. What is there of another is forgotten, under the lock. */
static size_t make_place(struct ind_notes *notes)
{
    if (notes->count == IND_NOTES)
        return find_victim(notes);
    struct kept **chunk = &notes->chunks[notes->count / CHUNK];
    if (!*chunk && !(*chunk = calloc(CHUNK, sizeof **chunk)))
        return IND_NOTES;
    return notes->count;
}

/* NULL: none. With the lock held. */
static struct ind_note *note_for(struct ind_notes *notes, uint32_t account, bool configured)
    IND_REQUIRES(notes->mutex)
{
    size_t place = notes->place_of[account];
    if (place == 0) {
        if ((place = make_place(notes)) == IND_NOTES)
            return NULL;
        struct ind_note *note = &at_place(notes, place)->note;
        if (place < notes->count)
            notes->place_of[note->account] = 0;
        else
            notes->count++;
        memset(note, 0, sizeof *note);
        note->account = account;
        note->configured = configured;
        notes->place_of[account] = (uint32_t)++place;
    }
    at_place(notes, place - 1)->stamp = ++notes->stamp;
    return &at_place(notes, place - 1)->note;
}

/* ---- What is remembered ---- */

static bool add_address(struct ind_note *note, const struct ind_address *from)
{
    for (unsigned i = 0; i < note->address_count; i++)
        if (ind_address_equal(&note->addresses[i], from))
            return true;
    bool room = note->address_count < IND_NOTE_ADDRESSES;
    if (room)
        note->addresses[note->address_count++] = *from;
    return room;
}

static bool add_word(struct ind_note_word *list, unsigned *count, unsigned most, struct ind_slice word)
{
    word.length = word.length < sizeof list->text ? word.length : sizeof list->text;
    for (unsigned i = 0; i < *count; i++)
        if (list[i].length == word.length && memcmp(list[i].text, word.at, word.length) == 0) {
            list[i].messages++;
            return true;
        }
    if (*count == most)
        return false;
    struct ind_note_word *added = &list[(*count)++];
    added->messages = 1;
    added->length = (uint8_t)word.length;
    memcpy(added->text, word.at, word.length);
    return true;
}

static void add_message(struct ind_note *note, const struct ind_notable *notable)
{
    struct ind_note_message *message = &note->last[note->next];
    note->next = (note->next + 1) % IND_NOTE_MESSAGES;
    message->time = notable->time;
    message->from = notable->from;
    message->transport = notable->transport;
    message->dropped = notable->dropped;
    const struct ind_slice line = ind_slice_begin(notable->line, sizeof message->line);
    message->cut = notable->cut || line.length < notable->line.length;
    message->length = (uint16_t)line.length;
    memcpy(message->line, line.at, line.length);
}

void ind_notes_count_unfit(struct ind_notes_unfit *unfit, struct ind_slice app, uint64_t messages)
{
    struct ind_note_word *least = &unfit->apps[0];
    app.length = app.length < sizeof least->text ? app.length : sizeof least->text;
    for (unsigned i = 0; i < unfit->app_count; i++) {
        struct ind_note_word *known = &unfit->apps[i];
        if (known->length == app.length && memcmp(known->text, app.at ? app.at : "", app.length) == 0) {
            known->messages += messages;
            return;
        }
        least = known->messages < least->messages ? known : least;
    }
    if (unfit->app_count < IND_NOTE_UNFIT)
        least = &unfit->apps[unfit->app_count++];
    least->messages += messages;
    least->length = (uint8_t)app.length;
    if (app.length)
        memcpy(least->text, app.at, app.length);
}

static void count_fit(struct ind_notes *notes, const struct ind_notable *notable)
{
    notes->unfit.asked += notable->asked;
    if (!notable->asked || notable->fits)
        return;
    notes->unfit.unfit++;
    ind_notes_count_unfit(&notes->unfit, notable->app, 1);
}

void ind_notes_add_unfit(struct ind_notes *notes, struct ind_notes_unfit *sum)
{
    ind_mutex_lock(&notes->mutex);
    sum->asked += notes->unfit.asked;
    sum->unfit += notes->unfit.unfit;
    for (unsigned i = 0; i < notes->unfit.app_count; i++) {
        const struct ind_note_word *word = &notes->unfit.apps[i];
        ind_notes_count_unfit(sum, (struct ind_slice){word->text, word->length}, word->messages);
    }
    ind_mutex_unlock(&notes->mutex);
}

void ind_notes_add(struct ind_notes *notes, uint32_t account, const struct ind_notable *notable)
{
    if (!make_index(notes, account))
        return;
    ind_mutex_lock(&notes->mutex);
    count_fit(notes, notable);
    struct ind_note *note = note_for(notes, account, notable->configured);
    if (note) {
        note->messages++;
        if (notable->from.bits)
            note->more_addresses |= !add_address(note, &notable->from);
        if (notable->name.length)
            note->more_names |= !add_word(note->names, &note->name_count, IND_NOTE_NAMES, notable->name);
        if (notable->app.length)
            note->more_apps |= !add_word(note->apps, &note->app_count, IND_NOTE_APPS, notable->app);
        add_message(note, notable);
    }
    ind_mutex_unlock(&notes->mutex);
}

/* ---- Read ---- */

bool ind_notes_of(struct ind_notes *notes, uint32_t account, struct ind_note *note)
{
    ind_mutex_lock(&notes->mutex);
    size_t place = account < notes->place_room ? notes->place_of[account] : 0;
    if (place)
        *note = at_place(notes, place - 1)->note;
    ind_mutex_unlock(&notes->mutex);
    return place > 0;
}

bool ind_notes_at(struct ind_notes *notes, size_t place, struct ind_note *note)
{
    ind_mutex_lock(&notes->mutex);
    bool there = place < notes->count;
    if (there)
        *note = at_place(notes, place)->note;
    ind_mutex_unlock(&notes->mutex);
    return there;
}
