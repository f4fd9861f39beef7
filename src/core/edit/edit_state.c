#include "core/edit/edit_state.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

#define TELL_EVERY (60 * IND_SECOND)
#define NONE UINT32_MAX

struct entry {
    uint64_t key;
    uint32_t next;         /* of the same slot; of a free one: the next free one */
    uint32_t older, newer; /* by when they were asked for */
    uint8_t kind;          /* enum ind_edit_kind */
    bool taken, settled;
    struct ind_steady from; /* of the span */
    uint64_t count;         /* in the span; of `keep`: ever */
    uint64_t over;          /* dropped and not reported */
    struct ind_steady over_since;
    uint64_t number;
    ind_time span;
    char edit[IND_EDIT_REPORT_NAME], device[IND_EDIT_REPORT_NAME], text[IND_EDIT_REPORT_TEXT];
};

struct ind_edit_state {
    struct entry *entries;
    uint32_t *slots; /* a power of two of them */
    uint32_t room, used, free, slot_count, oldest, newest;
    uint32_t top; /* entries from here on were never used */
    uint64_t evicted;
};

struct ind_edit_state *ind_edit_state_new(uint32_t entries)
{
    struct ind_edit_state *state = calloc(1, sizeof *state);
    if (!state)
        return NULL;
    state->room = entries;
    state->slot_count = 16;
    while (state->slot_count < entries)
        state->slot_count *= 2;
    state->entries = calloc(entries, sizeof *state->entries); /* what is never used takes no memory */
    state->slots = malloc(state->slot_count * sizeof *state->slots);
    state->oldest = state->newest = state->free = NONE;
    if (state->slots)
        memset(state->slots, 0xff, state->slot_count * sizeof *state->slots);
    if (state->entries && state->slots)
        return state;
    ind_edit_state_free(state);
    return NULL;
}

void ind_edit_state_free(struct ind_edit_state *state)
{
    if (!state)
        return;
    free(state->entries);
    free(state->slots);
    free(state);
}

uint32_t ind_edit_state_count(const struct ind_edit_state *state)
{
    return state->used;
}

uint64_t ind_edit_state_evicted(const struct ind_edit_state *state)
{
    return state->evicted;
}

uint64_t ind_edit_state_key(const struct ind_edit *edit, const struct ind_message *message)
{
    uint64_t key = XXH3_64bits_withSeed(edit->name, strlen(edit->name), (uint64_t)edit->kind);
    key = XXH3_64bits_withSeed(message->device.at ? message->device.at : "", message->device.length, key);
    if (edit->kind == IND_EDIT_REPEAT)
        key = XXH3_64bits_withSeed(message->text.at ? message->text.at : "", message->text.length, key);
    return key;
}

/* ---- The table ---- */

static uint32_t *slot_of(const struct ind_edit_state *state, uint64_t key)
{
    return &state->slots[key & (state->slot_count - 1)];
}

static struct entry *find(const struct ind_edit_state *state, uint64_t key)
{
    for (uint32_t i = *slot_of(state, key); i != NONE; i = state->entries[i].next)
        if (state->entries[i].key == key)
            return &state->entries[i];
    return NULL;
}

static void unlink_entry(struct ind_edit_state *state, const struct entry *entry)
{
    if (entry->older != NONE)
        state->entries[entry->older].newer = entry->newer;
    else
        state->oldest = entry->newer;
    if (entry->newer != NONE)
        state->entries[entry->newer].older = entry->older;
    else
        state->newest = entry->older;
}

static void put_newest(struct ind_edit_state *state, struct entry *entry)
{
    uint32_t number = (uint32_t)(entry - state->entries);
    entry->older = state->newest;
    entry->newer = NONE;
    if (state->newest != NONE)
        state->entries[state->newest].newer = number;
    else
        state->oldest = number;
    state->newest = number;
}

static void remove_entry(struct ind_edit_state *state, struct entry *entry)
{
    uint32_t number = (uint32_t)(entry - state->entries), *link = slot_of(state, entry->key);
    while (*link != number)
        link = &state->entries[*link].next;
    *link = entry->next;
    unlink_entry(state, entry);
    entry->next = state->free;
    entry->taken = false;
    entry->over = 0;
    state->free = number;
    state->used--;
}

static void copy(char *to, size_t room, struct ind_slice text)
{
    const struct ind_slice begun = ind_slice_begin(text, room - 1);
    if (begun.length)
        memcpy(to, begun.at, begun.length);
    to[begun.length] = '\0';
}

static void fill_news(const struct entry *entry, struct ind_edit_report *report)
{
    *report = (struct ind_edit_report){.kind = (enum ind_edit_kind)entry->kind,
                                       .count = entry->over,
                                       .number = entry->number,
                                       .span = entry->span};
    memcpy(report->edit, entry->edit, sizeof report->edit);
    memcpy(report->device, entry->device, sizeof report->device);
    memcpy(report->text, entry->text, sizeof report->text);
}

static struct entry *add(struct ind_edit_state *state, uint64_t key, const struct ind_edit *edit,
                         struct ind_steady now, struct ind_edit_report *report, bool *reported)
{
    if (state->used == state->room) {
        struct entry *oldest = &state->entries[state->oldest];
        *reported = oldest->over > 0;
        if (*reported)
            fill_news(oldest, report);
        remove_entry(state, oldest);
        state->evicted++;
    }
    uint32_t number = state->free;
    if (number != NONE)
        state->free = state->entries[number].next;
    else
        number = state->top++;
    state->used++;
    struct entry *entry = &state->entries[number];
    uint32_t *slot = slot_of(state, key);
    *entry =
        (struct entry){.key = key, .next = *slot, .kind = (uint8_t)edit->kind, .taken = true, .from = now};
    copy(entry->edit, sizeof entry->edit, ind_slice_of(edit->name));
    *slot = number;
    put_newest(state, entry);
    return entry;
}

/* ---- Deciding ---- */

static bool drop(struct entry *entry, struct ind_steady now)
{
    if (entry->over++ == 0)
        entry->over_since = now;
    return false;
}

/* A span begins with the first message in it. One that goes back, as times in files can, begins a new one. */
static bool is_over(const struct entry *entry, struct ind_steady now)
{
    int64_t since = ind_steady_from(entry->from, now);
    return since >= entry->span || -since >= entry->span;
}

static bool ask_repeat(struct entry *entry, struct ind_steady now, bool fresh, struct ind_edit_report *report,
                       bool *reported)
{
    if (fresh)
        return true;
    if (!is_over(entry, now))
        return drop(entry, now);
    if (entry->over > 0) {
        fill_news(entry, report);
        *reported = true;
    }
    entry->over = 0;
    entry->from = now;
    entry->settled = false;
    return true;
}

static bool ask_limit(struct entry *entry, struct ind_steady now)
{
    if (is_over(entry, now)) {
        entry->from = now;
        entry->count = 0;
    }
    return ++entry->count <= entry->number || drop(entry, now);
}

bool ind_edit_state_ask(struct ind_edit_state *state, uint64_t key, const struct ind_edit *edit,
                        struct ind_steady now, struct ind_edit_report *report, bool *reported)
{
    struct entry *entry = find(state, key);
    bool fresh = !entry;
    *reported = false;
    if (fresh) {
        entry = add(state, key, edit, now, report, reported);
    } else if (entry->newer != NONE) {
        unlink_entry(state, entry);
        put_newest(state, entry);
    }
    entry->number = edit->number; /* a reload may have changed them */
    entry->span = edit->span;
    switch (edit->kind) {
    case IND_EDIT_THIN:
        return entry->count++ % entry->number == 0;
    case IND_EDIT_REPEAT:
        return ask_repeat(entry, now, fresh, report, reported);
    default:
        return ask_limit(entry, now);
    }
}

void ind_edit_state_settle(struct ind_edit_state *state, uint64_t key, struct ind_slice device,
                           struct ind_slice text)
{
    struct entry *entry = find(state, key);
    if (!entry || entry->settled)
        return;
    entry->settled = true;
    copy(entry->device, sizeof entry->device, device);
    if (entry->kind == IND_EDIT_REPEAT)
        copy(entry->text, sizeof entry->text, text);
}

/* ---- Telling ---- */

bool ind_edit_state_due(struct ind_edit_state *state, struct ind_steady now, bool all, uint32_t *from,
                        struct ind_edit_report *report)
{
    while (*from < state->top) {
        struct entry *entry = &state->entries[(*from)++];
        if (!entry->taken || entry->kind == IND_EDIT_THIN)
            continue;
        bool past = is_over(entry, now);
        bool due =
            entry->over > 0 &&
            (all ||
             (entry->kind == IND_EDIT_REPEAT ? past : ind_steady_from(entry->over_since, now) >= TELL_EVERY));
        if (due)
            fill_news(entry, report);
        entry->over = due ? 0 : entry->over;
        if (past && entry->over == 0) /* nothing is left that a new entry would not know */
            remove_entry(state, entry);
        if (due)
            return true;
    }
    return false;
}

static void write_times(struct ind_buffer *buffer, uint64_t count)
{
    ind_buffer_number(buffer, count);
    ind_buffer_text(buffer, count == 1 ? " time" : " times");
}

void ind_edit_report_write(const struct ind_edit_report *report, struct ind_buffer *buffer)
{
    const char *device = report->device[0] ? report->device : "a device";
    ind_buffer_text(buffer, "edit \"");
    ind_buffer_text(buffer, report->edit);
    ind_buffer_text(buffer, "\": ");
    ind_buffer_text(buffer, device);
    if (report->kind == IND_EDIT_REPEAT) {
        ind_buffer_text(buffer, " said ");
        write_times(buffer, report->count);
        ind_buffer_text(buffer, " more within ");
        ind_span_write_short(buffer, report->span / IND_SECOND);
        ind_buffer_text(buffer, ": ");
        ind_buffer_text(buffer, report->text[0] ? report->text : "(the same)");
        return;
    }
    ind_buffer_text(buffer, " was over its limit of ");
    ind_buffer_number(buffer, report->number);
    ind_buffer_text(buffer, ind_limit_unit(report->span));
    ind_buffer_byte(buffer, ' ');
    write_times(buffer, report->count);
    ind_buffer_text(buffer, "; these messages were dropped");
}
