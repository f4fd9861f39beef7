/* What a mask puts in the place of what it found. */
#include "core/base/escape.h"
#include "core/edit/edit.h"
#include "core/message/framing.h"
#include "core/message/structured_data.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

/* More places than that are not kept apart: then nothing of the text is shown. */
enum { MASK_SPANS = 32768, MASK_PLAIN = IND_MESSAGE_LIMIT };

/* In a host name stand addresses and numbers that tell devices apart: those go only where `in:` says so. */
enum { KINDS_IN_HOST = IND_MASK_PHONE | IND_MASK_EMAIL | IND_MASK_CARD | IND_MASK_SECRET };

bool ind_mask_regex_read(struct ind_slice text, struct ind_regex **regex, struct ind_mistake *mistake)
{
    struct ind_regex_error error;
    *regex = ind_regex_new(text, 0, &error);
    if (!*regex) {
        ind_mistake_say(mistake, error.offset < text.length ? error.offset : text.length, 1,
                        "no regular expression: ", ind_slice_of(error.reason), "", IND_NOTHING, "");
        return false;
    }
    if (ind_regex_matches_empty(*regex)) {
        ind_mistake_say(mistake, 0, text.length,
                        "this expression also fits nothing at all, and would hide that; write + where "
                        "there is *, or name what must be there",
                        IND_NOTHING, "", IND_NOTHING, "");
        return false;
    }
    return true;
}

bool ind_masker_begin(struct ind_masker *masker)
{
    *masker =
        (struct ind_masker){.spans = {malloc(MASK_SPANS * sizeof(struct ind_span)), 0, MASK_SPANS, false},
                            .put = malloc(MASK_SPANS * sizeof(struct ind_span)),
                            .plain = malloc(MASK_PLAIN),
                            .places = malloc((MASK_PLAIN + 1) * sizeof(uint32_t))};
    bool regex = ind_regex_room_begin(&masker->regex);
    return masker->spans.list && masker->put && masker->plain && masker->places && regex;
}

void ind_masker_end(struct ind_masker *masker)
{
    free(masker->spans.list);
    free(masker->put);
    free(masker->plain);
    free(masker->places);
    ind_regex_room_end(&masker->regex);
}

static bool goes_on(char c)
{
    return ((unsigned char)c & 0xc0) == 0x80;
}

/* Characters are hidden whole, though the expression counts bytes. */
static void add_whole(struct ind_spans *spans, struct ind_slice text, size_t from, size_t to)
{
    for (int i = 0; i < 3 && from > 0 && goes_on(text.at[from]); i++)
        from--;
    for (int i = 0; i < 3 && to < text.length && goes_on(text.at[to]); i++)
        to++;
    ind_spans_add(spans, from, to);
}

static void find_regex(struct ind_regex *regex, struct ind_slice text, struct ind_masker *masker)
{
    size_t from = 0;
    while (from < text.length) {
        size_t start, end;
        enum ind_regex_found found =
            ind_regex_match(regex, &masker->regex, text, from, from ? PCRE2_NOTBOL : 0, &start, &end);
        if (found == IND_REGEX_NONE)
            return;
        if (found == IND_REGEX_GAVE_UP) { /* it is not known what would have been hidden */
            masker->gave_up++;
            masker->spans.full = true;
            return;
        }
        if (end > start)
            add_whole(&masker->spans, text, start, end);
        from = end > from ? end : from + 1;
    }
}

/* ---- What escapes hide ---- */

/* What an escape of JSON (RFC 8259 section 7), or of those who only put a backslash before a sign, stands
 * for. Returns its length. */
static size_t undo_escape(const char *at, size_t length, char to[3], size_t *count)
{
    static const char letters[] = "b\bf\fn\nr\rt\t";
    const char *letter = length > 1 && at[1] != '\0' ? strchr("bfnrt", at[1]) : NULL;
    int code = length > 5 && at[1] == 'u' ? ind_hex_four(at + 2) : -1;
    *count = 1;
    to[0] = *at;
    if (code >= 0) {
        struct ind_buffer character = ind_buffer_on(to, 3);
        ind_utf8_put(&character, (unsigned)code);
        *count = character.length;
        return 6;
    }
    if (length < 2 || (!letter && (ind_is_alpha(at[1]) || ind_is_digit(at[1]))))
        return 1;
    to[0] = letter ? letters[2 * (letter - "bfnrt") + 1] : at[1];
    return 2;
}

/* The text with its escapes undone; a character of it is never longer than what stands for it. */
static struct ind_slice undo_escapes(struct ind_masker *masker, struct ind_slice text)
{
    size_t out = 0;
    for (size_t at = 0, used; at < text.length && out + 3 <= MASK_PLAIN; at += used) {
        char character[3];
        size_t count = 1;
        used = 1;
        character[0] = text.at[at];
        if (text.at[at] == '\\')
            used = undo_escape(text.at + at, text.length - at, character, &count);
        for (size_t i = 0; i < count; i++) {
            masker->plain[out] = character[i];
            masker->places[out++] = (uint32_t)at;
        }
        masker->places[out] = (uint32_t)(at + used);
    }
    return (struct ind_slice){masker->plain, out};
}

static void find_all(const struct ind_edit *edit, unsigned kinds, bool regexes, struct ind_slice text,
                     struct ind_masker *masker)
{
    if (kinds)
        ind_mask_find(kinds, text, &masker->spans);
    for (struct ind_regex **regex = edit->regexes; regex && *regex && regexes; regex++)
        find_regex(*regex, text, masker);
}

/* What stands behind the escapes of a text is hidden where it stands: fields and other readers undo them.
 * Places that the text as it is has are kept. */
static void find_behind_escapes(const struct ind_edit *edit, unsigned kinds, bool regexes,
                                struct ind_slice text, struct ind_masker *masker)
{
    struct ind_spans *spans = &masker->spans, all = *spans;
    struct ind_slice plain = undo_escapes(masker, text);
    *spans = (struct ind_spans){masker->put, 0, all.room, all.full};
    find_all(edit, kinds, regexes, plain, masker);
    for (size_t i = 0; i < spans->count && !all.full; i++) {
        size_t from = masker->places[spans->list[i].from], to = masker->places[spans->list[i].to];
        if (all.count == all.room)
            all.full = true;
        else
            all.list[all.count++] = (struct ind_span){(uint32_t)from, (uint32_t)to};
    }
    all.full |= spans->full;
    *spans = all;
}

static int by_place(const void *a, const void *b)
{
    const struct ind_span *x = a, *y = b;
    return (x->from > y->from) - (x->from < y->from);
}

/* What came from several searches stands in no order. */
static void sort(struct ind_spans *spans)
{
    size_t count = spans->count;
    qsort(spans->list, count, sizeof *spans->list, by_place);
    spans->count = 0;
    for (size_t i = 0; i < count; i++)
        ind_spans_add(spans, spans->list[i].from, spans->list[i].to);
}

/* Of structured data only the values of parameters are hidden, and of an escape both bytes or none: what
 * comes out is structured data. The part of the places from *next on that lies in the value. */
static size_t clip(const struct ind_spans *spans, size_t *next, struct ind_slice data, struct ind_slice value,
                   struct ind_span *put, size_t count)
{
    size_t start = (size_t)(value.at - data.at), end = start + value.length;
    while (*next < spans->count && spans->list[*next].to <= start)
        ++*next;
    size_t look = *next;
    for (size_t at = start, step; at < end && look < spans->count; at += step) {
        step = ind_data_is_escape(value, at - start) ? 2 : 1;
        while (look < spans->count && spans->list[look].to <= at)
            look++;
        if (look == spans->count || spans->list[look].from >= at + step)
            continue;
        if (count > 0 && put[count - 1].to == at)
            put[count - 1].to = (uint32_t)(at + step);
        else
            put[count++] = (struct ind_span){(uint32_t)at, (uint32_t)(at + step)};
    }
    return count;
}

static void keep_to_values(struct ind_masker *masker, struct ind_slice data)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0, next = 0, count = 0;
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after)
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            count = clip(&masker->spans, &next, data, param.value, masker->put, count);
    memcpy(masker->spans.list, masker->put, count * sizeof *masker->put);
    masker->spans.count = count;
}

static void put(const struct ind_edit *edit, enum ind_place_in_message in, struct ind_slice hidden,
                struct ind_buffer *out)
{
    if (edit->stars) {
        size_t count = 0, room = out->capacity - out->length;
        for (size_t i = 0; i < hidden.length; i++)
            count += !goes_on(hidden.at[i]);
        out->full |= count > room;
        count = count < room ? count : room;
        memset(out->at + out->length, '*', count);
        out->length += count;
        return;
    }
    for (size_t i = 0; in == IND_IN_DATA && i < edit->with.length; i++) {
        char c = edit->with.at[i];
        if (c == '"' || c == '\\' || c == ']')
            ind_buffer_cut(out, IND_SLICE("\\"));
        ind_buffer_cut(out, (struct ind_slice){&edit->with.at[i], 1});
    }
    if (in != IND_IN_DATA)
        ind_buffer_cut(out, edit->with);
}

bool ind_mask_write(const struct ind_edit *edit, enum ind_place_in_message in, struct ind_slice text,
                    struct ind_masker *masker, struct ind_buffer *out)
{
    struct ind_spans *spans = &masker->spans;
    unsigned kinds = edit->kinds;
    size_t at = 0;
    bool by_itself = in == IND_IN_HOST && !edit->places;
    if (edit->places && !(edit->places >> in & 1))
        return false;
    if (by_itself)
        kinds &= KINDS_IN_HOST;
    spans->count = 0;
    spans->full = false;
    find_all(edit, kinds, !by_itself, text, masker);
    bool escapes = text.length && memchr(text.at, '\\', text.length);
    if (escapes && !spans->full)
        find_behind_escapes(edit, kinds, !by_itself, text, masker);
    if (spans->count > 1 && !spans->full && (escapes || edit->regexes))
        sort(spans);
    if (spans->full) {
        spans->list[0] = (struct ind_span){0, (uint32_t)text.length};
        spans->count = 1;
    }
    if (spans->count > 0 && in == IND_IN_DATA)
        keep_to_values(masker, text);
    if (spans->count == 0)
        return false;
    for (size_t i = 0; i < spans->count; i++) {
        const struct ind_span *span = &spans->list[i];
        ind_buffer_cut(out, (struct ind_slice){text.at + at, span->from - at});
        masker->put[i].from = (uint32_t)out->length;
        put(edit, in, (struct ind_slice){text.at + span->from, span->to - span->from}, out);
        masker->put[i].to = (uint32_t)out->length;
        at = span->to;
    }
    ind_buffer_cut(out, ind_slice_from(text, at));
    return !ind_slice_equal(ind_buffer_view(out), text);
}
