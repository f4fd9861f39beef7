/* Any text is a layout or has a mistake within it; whatever layouts make a set, any text can be matched in
 * bounded steps, its fields lie within it, and where it fits nothing the stops do. Input: layouts, each ended
 * by a line end; behind an empty one the text. */
#include "core/pattern/pattern.h"

#include <stdlib.h>

enum { LAYOUTS = 12 };

static bool lies_in(struct ind_slice part, struct ind_slice whole)
{
    return part.length == 0 || (part.at >= whole.at && part.at + part.length <= whole.at + whole.length);
}

static void tell(void *context, const struct ind_overlap *overlap)
{
    const struct ind_patterns *set = context;
    if (overlap->a >= ind_patterns_syntax_count(set) || overlap->b >= ind_patterns_syntax_count(set) ||
        strlen(overlap->text) >= sizeof overlap->text)
        abort();
}

static struct ind_slice add_layouts(struct ind_patterns *set, struct ind_slice rest)
{
    static const struct ind_slice apps[2] = {{"one", 3}, {"two", 3}};
    uint32_t number = 0;
    for (size_t count = 0; rest.length && count < LAYOUTS; count++) {
        const char *end = memchr(rest.at, '\n', rest.length);
        struct ind_slice layout = {rest.at, end ? (size_t)(end - rest.at) : rest.length};
        struct ind_mistake mistake = {0};
        rest = ind_slice_from(rest, layout.length + (end != NULL));
        if (layout.length == 0)
            break;
        if (!ind_patterns_add(set, IND_SLICE("p"), apps, count % 3, &number))
            abort();
        bool good = ind_patterns_add_syntax(set, number, layout, &mistake);
        if (good == mistake.made || (mistake.made && mistake.offset + mistake.length > layout.length) ||
            (mistake.made && !mistake.text[0]))
            abort();
    }
    return rest;
}

static void match(const struct ind_patterns *set, struct ind_slice text)
{
    struct ind_matcher *matcher = ind_matcher_new(set);
    struct ind_stop stops[IND_STOPS];
    if (!matcher)
        abort();
    for (int round = 0; round < 3; round++) {
        const struct ind_slice app = round ? IND_SLICE("one") : IND_NOTHING;
        const struct ind_pattern_syntax *layout = ind_match(matcher, text, app, round == 2);
        if (ind_matcher_steps(matcher) > 2 * IND_MATCH_STEPS(text.length))
            abort();
        for (size_t i = 0; layout && i < layout->field_count; i++)
            if (!lies_in(ind_match_field(matcher, &layout->fields[i]), text))
                abort();
        size_t count = layout ? 0 : ind_match_stops(matcher, text, app, round == 2, stops);
        for (size_t i = 0; i < count; i++) {
            char room[400];
            struct ind_buffer out = ind_buffer_on(room, sizeof room);
            ind_stop_describe(&stops[i], &out);
            if (out.full || !lies_in(stops[i].found, text) || stops[i].found_at > text.length)
                abort();
        }
    }
    ind_matcher_free(matcher);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static const struct ind_slice examples[2 * LAYOUTS];
    struct ind_patterns *set = ind_patterns_new();
    if (!set)
        abort();
    if (size > 4096)
        size = 4096;
    struct ind_slice text = add_layouts(set, (struct ind_slice){(const char *)bytes, size});
    if (!ind_patterns_compile(set))
        abort();
    match(set, text);
    if (size < 200)
        (void)ind_patterns_overlaps(set, examples, tell, set);
    ind_patterns_free(set);
    return 0;
}
