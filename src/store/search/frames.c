/* Which frames of an archive are read: those of which its index does not say that they hold no answer. What
 * an index does not know, or what cannot be told from a condition, leaves nothing out. */
#include "store/search/search_private.h"

#include <stdlib.h>

enum { FACILITIES = 24, SEVERITIES = 8 };

/* ---- Keys of the texts that are asked for ---- */

static void add_key(void *context, uint64_t key)
{
    struct ind_search_keys *keys = context;
    if (keys->count == keys->room) {
        const size_t room = keys->room ? 2 * keys->room : 64;
        uint64_t *grown = realloc(keys->list, room * sizeof *grown);
        if (!grown) {
            keys->failed = true;
            return;
        }
        keys->list = grown;
        keys->room = room;
    }
    keys->list[keys->count++] = key;
}

/* What of a text stands as whole tokens wherever the test holds. */
static struct ind_slice whole_tokens(struct ind_slice text, enum ind_asked_for op)
{
    const bool inside = op == IND_ASKED_CONTAINS || op == IND_ASKED_NEEDS;
    return ind_index_inside(text, inside || op == IND_ASKED_ENDS, inside || op == IND_ASKED_STARTS);
}

static void add_text(struct ind_search_keys *keys, struct ind_slice text)
{
    char *scratch = malloc(text.length + 1);
    if (scratch)
        ind_index_keys(text, scratch, add_key, keys);
    keys->failed |= !scratch;
    free(scratch);
}

/* All the ways in which a host that fits may be written; false where it is longer than any. */
static bool add_host(struct ind_search_keys *keys, struct ind_slice name, struct ind_slice domain)
{
    char text[600];
    const struct ind_slice bare = ind_without_domain(name, domain);
    for (int i = 0; i < 4; i++) {
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
        ind_buffer_slice(&buffer, bare);
        if (i & 1) {
            ind_buffer_byte(&buffer, '.');
            ind_buffer_slice(&buffer, domain);
        }
        if (i & 2)
            ind_buffer_byte(&buffer, '.');
        if (buffer.full)
            return false;
        add_key(keys, ind_index_key(IND_INDEX_HOST, ind_buffer_view(&buffer)));
    }
    return true;
}

/* Called once for each test: its values, each with its keys. */
static enum ind_verdict note_keys(void *context, const struct ind_asked *asked)
{
    struct ind_search *search = context;
    struct ind_search_keys *keys = &search->keys;
    struct ind_search_test *test = &search->tests[asked->test];
    const bool is = asked->op == IND_ASKED_IS, by_text = asked->field == IND_FIELD_TEXT;
    if (test->known || asked->count == 0 || asked->op == IND_ASKED_OTHER)
        return IND_OPEN;
    test->any = asked->field == IND_FIELD_HOST && is;
    test->known =
        test->any || by_text || ((asked->field == IND_FIELD_APP || asked->field == IND_FIELD_MSGID) && is);
    if (!test->known || !(test->ends = calloc(asked->count, sizeof *test->ends)))
        return IND_OPEN;
    test->from = keys->count;
    for (size_t i = 0; i < asked->count; i++) {
        const struct ind_slice text = asked->texts[i];
        if (by_text)
            add_text(keys, whole_tokens(text, asked->op));
        else if (asked->field == IND_FIELD_HOST)
            test->known &= add_host(keys, text, asked->domain);
        else
            add_key(keys,
                    ind_index_key(asked->field == IND_FIELD_APP ? IND_INDEX_APP : IND_INDEX_MSGID, text));
        test->ends[i] = keys->count;
    }
    return IND_OPEN;
}

static void note_pris(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    for (unsigned facility = 0; facility < FACILITIES; facility++)
        for (unsigned severity = 0; severity < SEVERITIES; severity++) {
            const bool may =
                ind_condition_by_pri(settings->conditions, settings->when, facility, severity) != IND_NO;
            search->may_be[facility] |= (uint8_t)(may << severity);
        }
}

bool ind_search_frames_begin(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    note_pris(search);
    search->test_count = ind_conditions_tests(settings->conditions);
    search->tests = calloc(search->test_count + 1, sizeof *search->tests);
    if (search->tests)
        (void)ind_condition_of_many(settings->conditions, settings->when, note_keys, search);
    return search->tests && !search->keys.failed;
}

void ind_search_frames_end(struct ind_search *search)
{
    for (size_t i = 0; search->tests && i < search->test_count; i++)
        free(search->tests[i].ends);
    free(search->tests);
    free(search->keys.list);
}

/* ---- Frames ---- */

bool ind_search_span_meets(const struct ind_search_settings *settings, ind_time first, ind_time last)
{
    return settings->by_sent || ((settings->since == IND_TIME_NONE || last >= settings->since) &&
                                 (settings->until == IND_TIME_NONE || first < settings->until));
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

struct asked_frame {
    const struct ind_search *search;
    const struct ind_index *index;
    const struct ind_index_frame *frame;
    bool words; /* keys are asked for, too */
};

static enum ind_verdict of_bits(uint32_t there, uint32_t fit)
{
    return (there & fit) == 0 ? IND_NO : (there & ~fit) == 0 ? IND_YES : IND_OPEN;
}

static enum ind_verdict of_devices(const struct asked_frame *at, const struct ind_asked *asked)
{
    bool none = true, all = !at->frame->devices_as_keys && at->frame->lines > 0;
    if (!at->frame->devices_known || asked->op >= IND_ASKED_NEEDS || asked->count == 0 ||
        at->frame->devices_as_keys)
        return IND_OPEN;
    for (uint32_t i = 0; i < at->frame->device_count; i++) {
        const bool fits = ind_asked_fits(at->search->settings->conditions, asked,
                                         ind_index_device(at->index, at->frame, i));
        none &= !fits;
        all &= fits;
    }
    return none ? IND_NO : all ? IND_YES : IND_OPEN;
}

static enum ind_verdict of_keys(const struct asked_frame *at, const struct ind_asked *asked)
{
    const struct ind_search_test *test = &at->search->tests[asked->test];
    if (!at->frame->keys_known || !test->known || !test->ends)
        return IND_OPEN;
    for (size_t i = 0, key = test->from; i < asked->count; i++) {
        bool all = true, any = key == test->ends[i];
        for (; key < test->ends[i]; key++) {
            const bool has = ind_index_has_key(at->frame, at->search->keys.list[key]);
            all &= has;
            any |= has;
        }
        if (test->any ? any : all)
            return IND_OPEN;
    }
    return IND_NO;
}

static enum ind_verdict ask_frame(void *context, const struct ind_asked *asked)
{
    const struct asked_frame *at = context;
    switch (asked->field) {
    case IND_FIELD_FACILITY:
        return at->frame->pri_known ? of_bits(at->frame->facilities, asked->numbers) : IND_OPEN;
    case IND_FIELD_SEVERITY:
        return at->frame->pri_known ? of_bits(at->frame->severities, asked->numbers) : IND_OPEN;
    case IND_FIELD_DEVICE:
        return of_devices(at, asked);
    default:
        return at->words ? of_keys(at, asked) : IND_OPEN;
    }
}

enum ind_left_out ind_search_frame(const struct ind_search *search, const struct ind_index *index,
                                   const struct ind_index_frame *frame)
{
    struct asked_frame at = {search, index, frame, false};
    const struct ind_search_settings *settings = search->settings;
    if (frame->times_known && !ind_search_span_meets(settings, frame->first, frame->last))
        return IND_LEFT_OUT_BY_TIME;
    if (settings->context_lines)
        return ind_among_meets(settings->among, index, frame) ? IND_READ_IT : IND_LEFT_OUT_BY_DEVICE;
    if (!may_have_pri(search, frame))
        return IND_LEFT_OUT_BY_PRI;
    if (ind_condition_of_many(settings->conditions, settings->when, ask_frame, &at) == IND_NO)
        return IND_LEFT_OUT_BY_DEVICE;
    at.words = true;
    return ind_condition_of_many(settings->conditions, settings->when, ask_frame, &at) == IND_NO
               ? IND_LEFT_OUT_BY_WORDS
               : IND_READ_IT;
}
