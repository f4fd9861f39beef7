#include "collect/queue/causes.h"

#include "thread/mutex.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

enum { ROOM = 1 << 20, SLOTS = 4096 };

struct record {
    uint64_t hash, count;
    ind_time time, last;
    uint16_t name, key, line; /* lengths of what follows */
    bool ends;
};

enum { LONGEST = sizeof(struct record) + IND_ALERT_NAME + IND_ALERT_KEY + IND_ALERT_LINE + 8 };

struct page {
    size_t used;
    uint32_t slots[SLOTS]; /* where the last record of that hash is, and 1 more; 0: none */
    uint64_t missed;
    bool told; /* that half of it is used up */
    _Alignas(struct record) char bytes[ROOM];
};

struct ind_causes {
    struct ind_mutex mutex;
    struct page *filled IND_GUARDED_BY(mutex); /* by the one who adds */
    struct record *last IND_GUARDED_BY(mutex); /* in it, whose line may follow; NULL: none */
    void (*half_full)(void *context) IND_GUARDED_BY(mutex);
    void *context IND_GUARDED_BY(mutex);
    struct page *other; /* of the one who takes */
};

IND_NOT_SHARED struct ind_causes *ind_causes_new(void)
{
    struct ind_causes *causes = calloc(1, sizeof *causes);
    if (!causes)
        return NULL;
    ind_mutex_begin(&causes->mutex);
    causes->filled = calloc(1, sizeof *causes->filled);
    causes->other = calloc(1, sizeof *causes->other);
    if (causes->filled && causes->other)
        return causes;
    ind_causes_free(causes);
    return NULL;
}

IND_NOT_SHARED void ind_causes_free(struct ind_causes *causes)
{
    if (!causes)
        return;
    free(causes->filled);
    free(causes->other);
    ind_mutex_end(&causes->mutex);
    free(causes);
}

static uint64_t hash_of(const struct ind_alert_cause *cause)
{
    const uint64_t second = (uint64_t)ind_time_seconds(cause->time) * 2 + cause->ends;
    const uint64_t name = XXH3_64bits_withSeed(cause->alert.at, cause->alert.length, second);
    return XXH3_64bits_withSeed(cause->key.at ? cause->key.at : "", cause->key.length, name);
}

static char *text_of(struct record *record)
{
    return (char *)(record + 1);
}

static bool is_of(struct record *record, const struct ind_alert_cause *cause, uint64_t hash)
{
    const struct ind_slice name = {text_of(record), record->name};
    const struct ind_slice key = {text_of(record) + record->name, record->key};
    return record->hash == hash && record->ends == cause->ends && ind_slice_equal(name, cause->alert) &&
           ind_slice_equal(key, cause->key) &&
           ind_time_seconds(record->time) == ind_time_seconds(cause->time);
}

static size_t whole(size_t size)
{
    const size_t step = _Alignof(struct record);
    return (size + step - 1) / step * step;
}

void ind_causes_wake(struct ind_causes *causes, void (*half_full)(void *context), void *context)
{
    ind_mutex_lock(&causes->mutex);
    causes->half_full = half_full;
    causes->context = context;
    ind_mutex_unlock(&causes->mutex);
}

bool ind_causes_add(struct ind_causes *causes, const struct ind_alert_cause *cause)
{
    const uint64_t hash = hash_of(cause);
    struct record *record = NULL;
    bool wanted = false;
    ind_mutex_lock(&causes->mutex);
    struct page *page = causes->filled;
    uint32_t *slot = &page->slots[hash % SLOTS];
    if (*slot)
        record = (struct record *)(void *)(page->bytes + *slot - 1);
    causes->last = NULL;
    if (record && is_of(record, cause, hash)) {
        record->count += cause->count;
        record->last = cause->last > record->last ? cause->last : record->last;
    } else if (ROOM - page->used < LONGEST) {
        page->missed += cause->count;
    } else {
        record = (struct record *)(void *)(page->bytes + page->used);
        *record = (struct record){.hash = hash,
                                  .count = cause->count,
                                  .time = cause->time,
                                  .last = cause->last,
                                  .name = (uint16_t)cause->alert.length,
                                  .key = (uint16_t)cause->key.length,
                                  .ends = cause->ends};
        memcpy(text_of(record), cause->alert.at, record->name);
        if (record->key)
            memcpy(text_of(record) + record->name, cause->key.at, record->key);
        *slot = (uint32_t)page->used + 1;
        page->used += whole(sizeof *record + record->name + record->key);
        causes->last = record;
        wanted = true;
    }
    if (page->used > ROOM / 2 && !page->told && causes->half_full) {
        page->told = true;
        causes->half_full(causes->context); /* it only rings */
    }
    ind_mutex_unlock(&causes->mutex);
    return wanted;
}

/* The page may have been taken meanwhile: then it has no line. */
void ind_causes_add_line(struct ind_causes *causes, struct ind_slice line)
{
    const struct ind_slice begin = ind_slice_begin(line, IND_ALERT_LINE);
    ind_mutex_lock(&causes->mutex);
    struct record *record = causes->last;
    if (record) {
        const size_t before = sizeof *record + record->name + record->key;
        if (begin.length)
            memcpy(text_of(record) + record->name + record->key, begin.at, begin.length);
        record->line = (uint16_t)begin.length;
        causes->filled->used += whole(before + begin.length) - whole(before);
        causes->last = NULL;
    }
    ind_mutex_unlock(&causes->mutex);
}

static void visit_page(struct page *page, void (*visit)(void *context, const struct ind_alert_cause *cause),
                       void *context)
{
    for (size_t at = 0; at < page->used;) {
        struct record *record = (struct record *)(void *)(page->bytes + at);
        const char *text = text_of(record);
        const struct ind_alert_cause cause = {.alert = {text, record->name},
                                              .key = {text + record->name, record->key},
                                              .ends = record->ends,
                                              .count = record->count,
                                              .time = record->time,
                                              .last = record->last,
                                              .line = {text + record->name + record->key, record->line}};
        visit(context, &cause);
        at += whole(sizeof *record + record->name + record->key + record->line);
    }
}

uint64_t ind_causes_take(struct ind_causes *causes,
                         void (*visit)(void *context, const struct ind_alert_cause *cause), void *context)
{
    struct page *page = causes->other;
    page->used = 0;
    page->missed = 0;
    page->told = false;
    memset(page->slots, 0, sizeof page->slots);
    ind_mutex_lock(&causes->mutex);
    causes->other = causes->filled;
    causes->filled = page;
    causes->last = NULL;
    ind_mutex_unlock(&causes->mutex);
    page = causes->other;
    visit_page(page, visit, context);
    return page->missed;
}
