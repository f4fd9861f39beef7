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
    uint64_t over;          /* dropped and not told */
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
    struct ind_edit_state *recall = calloc(1, sizeof *recall);
    if (!recall)
        return NULL;
    recall->room = entries;
    recall->slot_count = 16;
    while (recall->slot_count < entries)
        recall->slot_count *= 2;
    recall->entries = calloc(entries, sizeof *recall->entries); /* what is never used takes no memory */
    recall->slots = malloc(recall->slot_count * sizeof *recall->slots);
    recall->oldest = recall->newest = recall->free = NONE;
    if (recall->slots)
        memset(recall->slots, 0xff, recall->slot_count * sizeof *recall->slots);
    if (recall->entries && recall->slots)
        return recall;
    ind_edit_state_free(recall);
    return NULL;
}

void ind_edit_state_free(struct ind_edit_state *recall)
{
    if (!recall)
        return;
    free(recall->entries);
    free(recall->slots);
    free(recall);
}

uint32_t ind_edit_state_count(const struct ind_edit_state *recall)
{
    return recall->used;
}

uint64_t ind_edit_state_evicted(const struct ind_edit_state *recall)
{
    return recall->evicted;
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

static uint32_t *slot_of(const struct ind_edit_state *recall, uint64_t key)
{
    return &recall->slots[key & (recall->slot_count - 1)];
}

static struct entry *find(const struct ind_edit_state *recall, uint64_t key)
{
    for (uint32_t i = *slot_of(recall, key); i != NONE; i = recall->entries[i].next)
        if (recall->entries[i].key == key)
            return &recall->entries[i];
    return NULL;
}

static void take_out(struct ind_edit_state *recall, const struct entry *entry)
{
    if (entry->older != NONE)
        recall->entries[entry->older].newer = entry->newer;
    else
        recall->oldest = entry->newer;
    if (entry->newer != NONE)
        recall->entries[entry->newer].older = entry->older;
    else
        recall->newest = entry->older;
}

static void put_newest(struct ind_edit_state *recall, struct entry *entry)
{
    uint32_t number = (uint32_t)(entry - recall->entries);
    entry->older = recall->newest;
    entry->newer = NONE;
    if (recall->newest != NONE)
        recall->entries[recall->newest].newer = number;
    else
        recall->oldest = number;
    recall->newest = number;
}

static void remove_entry(struct ind_edit_state *recall, struct entry *entry)
{
    uint32_t number = (uint32_t)(entry - recall->entries), *link = slot_of(recall, entry->key);
    while (*link != number)
        link = &recall->entries[*link].next;
    *link = entry->next;
    take_out(recall, entry);
    entry->next = recall->free;
    entry->taken = false;
    entry->over = 0;
    recall->free = number;
    recall->used--;
}

static void copy(char *to, size_t room, struct ind_slice text)
{
    size_t length = text.length < room - 1 ? text.length : room - 1;
    while (length > 0 && length < text.length && ((unsigned char)text.at[length] & 0xc0) == 0x80)
        length--; /* no half of a character */
    if (length)
        memcpy(to, text.at, length);
    to[length] = '\0';
}

static void fill_news(const struct entry *entry, struct ind_edit_report *news)
{
    *news = (struct ind_edit_report){.kind = (enum ind_edit_kind)entry->kind,
                                     .count = entry->over,
                                     .number = entry->number,
                                     .span = entry->span};
    memcpy(news->edit, entry->edit, sizeof news->edit);
    memcpy(news->device, entry->device, sizeof news->device);
    memcpy(news->text, entry->text, sizeof news->text);
}

static struct entry *add(struct ind_edit_state *recall, uint64_t key, const struct ind_edit *edit,
                         struct ind_steady now, struct ind_edit_report *news, bool *told)
{
    if (recall->used == recall->room) {
        struct entry *oldest = &recall->entries[recall->oldest];
        *told = oldest->over > 0;
        if (*told)
            fill_news(oldest, news);
        remove_entry(recall, oldest);
        recall->evicted++;
    }
    uint32_t number = recall->free;
    if (number != NONE)
        recall->free = recall->entries[number].next;
    else
        number = recall->top++;
    recall->used++;
    struct entry *entry = &recall->entries[number];
    uint32_t *slot = slot_of(recall, key);
    *entry =
        (struct entry){.key = key, .next = *slot, .kind = (uint8_t)edit->kind, .taken = true, .from = now};
    copy(entry->edit, sizeof entry->edit, ind_slice_of(edit->name));
    *slot = number;
    put_newest(recall, entry);
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

static bool ask_repeat(struct entry *entry, struct ind_steady now, bool fresh, struct ind_edit_report *news,
                       bool *told)
{
    if (fresh)
        return true;
    if (!is_over(entry, now))
        return drop(entry, now);
    if (entry->over > 0) {
        fill_news(entry, news);
        *told = true;
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

bool ind_edit_state_ask(struct ind_edit_state *recall, uint64_t key, const struct ind_edit *edit,
                        struct ind_steady now, struct ind_edit_report *news, bool *told)
{
    struct entry *entry = find(recall, key);
    bool fresh = !entry;
    *told = false;
    if (fresh) {
        entry = add(recall, key, edit, now, news, told);
    } else if (entry->newer != NONE) {
        take_out(recall, entry);
        put_newest(recall, entry);
    }
    entry->number = edit->number; /* a reload may have changed them */
    entry->span = edit->span;
    switch (edit->kind) {
    case IND_EDIT_KEEP:
        return entry->count++ % entry->number == 0;
    case IND_EDIT_REPEAT:
        return ask_repeat(entry, now, fresh, news, told);
    default:
        return ask_limit(entry, now);
    }
}

void ind_edit_state_settle(struct ind_edit_state *recall, uint64_t key, struct ind_slice device,
                           struct ind_slice text)
{
    struct entry *entry = find(recall, key);
    if (!entry || entry->settled)
        return;
    entry->settled = true;
    copy(entry->device, sizeof entry->device, device);
    if (entry->kind == IND_EDIT_REPEAT)
        copy(entry->text, sizeof entry->text, text);
}

/* ---- Telling ---- */

bool ind_edit_state_due(struct ind_edit_state *recall, struct ind_steady now, bool all, uint32_t *from,
                        struct ind_edit_report *news)
{
    while (*from < recall->top) {
        struct entry *entry = &recall->entries[(*from)++];
        if (!entry->taken || entry->kind == IND_EDIT_KEEP)
            continue;
        bool past = is_over(entry, now);
        bool due =
            entry->over > 0 &&
            (all ||
             (entry->kind == IND_EDIT_REPEAT ? past : ind_steady_from(entry->over_since, now) >= TELL_EVERY));
        if (due)
            fill_news(entry, news);
        entry->over = due ? 0 : entry->over;
        if (past && entry->over == 0) /* nothing is left that a new entry would not know */
            remove_entry(recall, entry);
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

void ind_edit_report_write(const struct ind_edit_report *news, struct ind_buffer *buffer)
{
    const char *device = news->device[0] ? news->device : "a device";
    ind_buffer_text(buffer, "edit \"");
    ind_buffer_text(buffer, news->edit);
    ind_buffer_text(buffer, "\": ");
    ind_buffer_text(buffer, device);
    if (news->kind == IND_EDIT_REPEAT) {
        ind_buffer_text(buffer, " said ");
        write_times(buffer, news->count);
        ind_buffer_text(buffer, " more within ");
        ind_span_write_short(buffer, news->span / IND_SECOND);
        ind_buffer_text(buffer, ": ");
        ind_buffer_text(buffer, news->text[0] ? news->text : "(the same)");
        return;
    }
    ind_buffer_text(buffer, " was over its limit of ");
    ind_buffer_number(buffer, news->number);
    ind_buffer_text(buffer, ind_limit_unit(news->span));
    ind_buffer_byte(buffer, ' ');
    write_times(buffer, news->count);
    ind_buffer_text(buffer, "; these messages were dropped");
}
