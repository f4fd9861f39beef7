/* Which frames of an archive are read: those of which its index does not say that they hold no answer. What
 * an index does not know, or what cannot be told from a condition, leaves nothing out. */
#include "store/search/search_private.h"

#include <stdlib.h>

enum { FACILITIES = 24, SEVERITIES = 8 };

struct keys {
    uint64_t *list;
    size_t count, room;
    bool out_of_memory;
};

static void add_key(void *context, uint64_t key)
{
    struct keys *keys = context;
    if (keys->count == keys->room) {
        const size_t room = keys->room ? 2 * keys->room : 64;
        uint64_t *grown = realloc(keys->list, room * sizeof *grown);
        if (!grown) {
            keys->out_of_memory = true;
            return;
        }
        keys->list = grown;
        keys->room = room;
    }
    keys->list[keys->count++] = key;
}

/* Of each literal the keys that a text holds with it. One without any may be in every frame. */
static void find_keys(struct ind_search *search)
{
    struct keys keys = {0};
    bool good = search->literal_count > 0 && !(search->fields & 1u << IND_FIELD_APP);
    for (size_t i = 0; good && i < search->literal_count; i++) {
        const struct ind_slice inside = ind_index_inside(search->list[i]);
        char *scratch = malloc(inside.length + 1);
        const size_t before = keys.count;
        if (scratch)
            ind_index_keys(inside, scratch, add_key, &keys);
        good = scratch && !keys.out_of_memory && keys.count > before;
        search->key_ends[i] = keys.count;
        free(scratch);
    }
    if (!good) {
        free(keys.list);
        keys.list = NULL;
    }
    search->keys = keys.list;
}

void ind_search_frames_begin(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    for (unsigned facility = 0; facility < FACILITIES; facility++)
        for (unsigned severity = 0; severity < SEVERITIES; severity++) {
            const bool may =
                ind_condition_by_pri(settings->conditions, settings->when, facility, severity) != IND_NO;
            search->may_be[facility] |= (uint8_t)(may << severity);
            search->some_pri_is_none |= !may;
        }
    find_keys(search);
}

bool ind_search_frames_help(const struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    return !settings->without_index &&
           (settings->since != IND_TIME_NONE || settings->until != IND_TIME_NONE ||
            search->some_pri_is_none || search->keys);
}

static bool is_in_span(const struct ind_search_settings *settings, const struct ind_index_frame *frame)
{
    return !frame->times_known || ((settings->since == IND_TIME_NONE || frame->last >= settings->since) &&
                                   (settings->until == IND_TIME_NONE || frame->first < settings->until));
}

static bool may_have_pri(const struct ind_search *search, const struct ind_index_frame *frame)
{
    if (!frame->pri_known)
        return true;
    for (unsigned facility = 0; facility < FACILITIES; facility++)
        if (frame->facilities >> facility & 1 && search->may_be[facility] & frame->severities)
            return true;
    return false;
}

static bool may_have_words(const struct ind_search *search, const struct ind_index_frame *frame)
{
    if (!search->keys || !frame->keys_known)
        return true;
    for (size_t i = 0, key = 0; i < search->literal_count; i++) {
        bool all = true;
        for (; key < search->key_ends[i]; key++)
            all &= ind_index_has_key(frame, search->keys[key]);
        if (all)
            return true;
    }
    return false;
}

enum ind_left_out ind_search_frame(const struct ind_search *search, const struct ind_index_frame *frame)
{
    return !is_in_span(search->settings, frame) ? IND_LEFT_OUT_BY_TIME
           : !may_have_pri(search, frame)       ? IND_LEFT_OUT_BY_PRI
           : !may_have_words(search, frame)     ? IND_LEFT_OUT_BY_WORDS
                                                : IND_READ_IT;
}
