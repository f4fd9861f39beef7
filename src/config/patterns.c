/* config/patterns.c: the section `patterns`: layouts, and the examples that show what they are for. */
#include "config/load.h"

#include <stdlib.h>

struct pattern_text {
    const struct ind_node *name, *app, *text;
};

IND_KEEP_NODE(pattern_text, name)
IND_KEEP_NODE(pattern_text, app)
IND_KEEP_NODE(pattern_text, text)

struct layout_text {
    const struct ind_node *layout, *example, *gives;
};

IND_KEEP_NODE(layout_text, layout)
IND_KEEP_NODE(layout_text, example)
IND_KEEP_NODE(layout_text, gives)

/* What is gathered while the set is filled: examples can be tried when it is complete. */
struct filling {
    struct ind_loader *loader;
    struct layout_text *layouts; /* by the numbers of the set */
    size_t layout_count;
};

enum { MOST_APPS = 64, LONGEST_NAME = 100 };

static size_t read_apps(struct ind_loader *loader, const struct ind_node *app, struct ind_slice *apps)
{
    const struct ind_node *const *list = app && app->kind == IND_NODE_LIST
                                             ? (const struct ind_node *const *)app->parts
                                             : (const struct ind_node *const *)&app;
    size_t count = !app ? 0 : app->kind == IND_NODE_LIST ? app->part_count : 1, good = 0;
    if (count > MOST_APPS) {
        ind_wrong(loader, app, "more than %d apps; leave app: out, and test it in conditions", MOST_APPS);
        return 0;
    }
    for (size_t i = 0; i < count; i++)
        if (ind_expect_text(loader, list[i], "the name of an app such as sshd"))
            apps[good++] = list[i]->text;
    return good;
}

static bool check_name(struct ind_loader *loader, const struct ind_node *name)
{
    uint32_t number;
    if (!ind_expect_text(loader, name, "the name of a pattern"))
        return false;
    if (name->text.length > LONGEST_NAME) {
        ind_wrong(loader, name, "a pattern's name has %d bytes at most", LONGEST_NAME);
        return false;
    }
    if (!ind_pattern_named(loader->config->patterns, name->text, &number))
        return true;
    ind_wrong(loader, name, "the pattern \"%.*s\" is here already; give this one another name",
              IND_ARG(name->text));
    return false;
}

static void add_layout(struct filling *filling, uint32_t pattern, const struct layout_text *text)
{
    struct ind_loader *loader = filling->loader;
    struct ind_config *config = loader->config;
    struct ind_mistake mistake = {0};
    if (!ind_expect_text(loader, text->layout, "a layout such as \"{interface:interface} link down\""))
        return;
    bool good = ind_patterns_add_syntax(config->patterns, pattern, text->layout->text, &mistake);
    if (mistake.made)
        ind_wrong_inside(loader, text->layout, &mistake, false);
    /* A layout may be counted though it is wrong; the places go with the numbers. */
    while (filling->layout_count < ind_patterns_syntax_count(config->patterns)) {
        if (!ind_grow(loader, &filling->layouts, &filling->layout_count, sizeof *filling->layouts) ||
            !ind_grow(loader, &config->layout_places, &config->layout_place_count,
                      sizeof *config->layout_places)) {
            ind_no_memory(loader);
            return;
        }
        filling->layouts[filling->layout_count - 1] = *text;
        config->layout_places[config->layout_place_count - 1] = (struct ind_syntax_place){
            text->layout->source, text->layout->offset, text->layout->length, IND_NOTHING};
    }
    if (!good && !mistake.made)
        ind_no_memory(loader);
}

/* "{a:int}" without quotes, which YAML takes for a map with a key of that name. */
static bool is_unquoted(const struct ind_node *node)
{
    return node->kind == IND_NODE_MAP && node->flow && node->part_count &&
           memchr(node->parts[0]->text.at, ':', node->parts[0]->text.length);
}

static void read_layout(struct filling *filling, uint32_t pattern, const struct ind_node *node)
{
    static const struct ind_key keys[] = {
        {"layout", keep_layout}, {"example", keep_example}, {"gives", keep_gives}};
    struct layout_text text = {0};
    if (node->kind == IND_NODE_SCALAR || is_unquoted(node))
        text.layout = node;
    else if (!ind_read_map(filling->loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (!text.layout)
        ind_wrong(filling->loader, node, "a text without a layout; add \"layout: '…'\"");
    else
        add_layout(filling, pattern, &text);
}

static void read_pattern(struct filling *filling, const struct ind_node *node)
{
    static const struct ind_key keys[] = {{"name", keep_name}, {"app", keep_app}, {"text", keep_text}};
    struct ind_loader *loader = filling->loader;
    struct pattern_text text = {0};
    struct ind_slice apps[MOST_APPS];
    uint32_t number;
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (!text.name)
        ind_wrong(loader, node, "a pattern without a name; add \"name: …\"");
    if (!text.text)
        ind_wrong(loader, node, "a pattern without a text; add \"text: '…'\" with its layout");
    if (!text.name || !text.text || !check_name(loader, text.name))
        return;
    size_t count = read_apps(loader, text.app, apps);
    if (!ind_patterns_add(loader->config->patterns, text.name->text, apps, count, &number)) {
        ind_no_memory(loader);
        return;
    }
    if (text.text->kind != IND_NODE_LIST)
        read_layout(filling, number, text.text);
    else
        for (size_t i = 0; i < text.text->part_count; i++)
            read_layout(filling, number, text.text->parts[i]);
}

/* ---- Examples ---- */

static void report_stop(struct ind_loader *loader, const struct ind_node *example,
                        struct ind_matcher *matcher, struct ind_slice app)
{
    struct ind_stop stops[IND_STOPS];
    struct ind_mistake mistake = {0};
    struct ind_buffer text;
    size_t count = ind_match_stops(matcher, example->text, app, false, stops);
    const struct ind_stop *stop = &stops[0];
    if (!count || !ind_mistake_at(&mistake, stop->found_at, stop->found.length, &text))
        return;
    ind_buffer_text(&text, "the example does not fit: ");
    ind_stop_describe(stop, &text);
    ind_wrong_inside(loader, example, &mistake, false);
}

/* The example alone against its own layout tells where it stops. */
static void report_misfit(struct filling *filling, size_t number, struct ind_slice app)
{
    struct ind_patterns *all = filling->loader->config->patterns, *one = ind_patterns_new();
    const struct ind_pattern_syntax *layout = ind_patterns_syntax(all, number);
    struct ind_mistake mistake = {0};
    uint32_t pattern;
    bool good = one && ind_patterns_add(one, ind_pattern_name(all, layout->pattern), NULL, 0, &pattern) &&
                ind_patterns_add_syntax(one, pattern, layout->source, &mistake) && ind_patterns_compile(one);
    struct ind_matcher *matcher = good ? ind_matcher_new(one) : NULL;
    if (matcher)
        report_stop(filling->loader, filling->layouts[number].example, matcher, app);
    else
        ind_no_memory(filling->loader);
    ind_matcher_free(matcher);
    ind_patterns_free(one);
}

static bool find_field(const struct ind_matcher *matcher, const struct ind_pattern_syntax *layout,
                       struct ind_slice name, struct ind_slice *value)
{
    for (size_t i = 0; i < layout->field_count; i++)
        if (layout->fields[i].name.length && ind_slice_equal(layout->fields[i].name, name)) {
            *value = ind_match_field(matcher, &layout->fields[i]);
            return true;
        }
    return false;
}

static void check_gives(struct ind_loader *loader, const struct ind_node *gives,
                        const struct ind_matcher *matcher, const struct ind_pattern_syntax *layout)
{
    if (gives->kind != IND_NODE_MAP) {
        ind_wrong(loader, gives, "expected the fields that the example gives, such as {user: tern}, found %s",
                  ind_node_kind_name(gives));
        return;
    }
    for (size_t i = 0; i + 1 < gives->part_count; i += 2) {
        const struct ind_node *name = gives->parts[i], *wanted = gives->parts[i + 1];
        struct ind_slice value;
        if (!find_field(matcher, layout, name->text, &value))
            ind_wrong(loader, name, "this layout has no field \"%.*s\"", IND_ARG(name->text));
        else if (wanted->kind != IND_NODE_SCALAR || !ind_slice_equal(wanted->text, value))
            ind_wrong(loader, wanted, "the example gives \"%.*s\" for %.*s; correct one of the two",
                      IND_ARG(value), IND_ARG(name->text));
    }
}

/* The example is tried as a message would be: against all patterns, as from the pattern's first app. */
static void try_example(struct filling *filling, size_t number, struct ind_matcher *matcher)
{
    struct ind_loader *loader = filling->loader;
    const struct ind_patterns *set = loader->config->patterns;
    const struct layout_text *text = &filling->layouts[number];
    const struct ind_pattern_syntax *syntax = ind_patterns_syntax(set, number);
    struct ind_slice app =
        ind_pattern_app_count(set, syntax->pattern) ? ind_pattern_app(set, syntax->pattern, 0) : IND_NOTHING;
    if (!text->example) {
        if (text->gives)
            ind_wrong(loader, text->gives, "what gives this? add an \"example:\" above it");
        return;
    }
    if (!ind_expect_text(loader, text->example, "a text that fits the layout"))
        return;
    const char *kept = ind_keep(loader, text->example->text);
    if (kept)
        loader->config->layout_places[number].example = ind_slice_of(kept);
    ind_matcher_next(matcher);
    const struct ind_pattern_syntax *layout = ind_match(matcher, text->example->text, app, false);
    if (!layout)
        report_misfit(filling, number, app);
    else if (layout->pattern != syntax->pattern)
        ind_wrong(
            loader, text->example,
            "the pattern \"%.*s\" takes this example, by \"%.*s\"; make this layout the narrower one, or "
            "take another example",
            IND_ARG(ind_pattern_name(set, layout->pattern)), IND_ARG(layout->source));
    else if (text->gives)
        check_gives(loader, text->gives, matcher, layout);
}

static void try_examples(struct filling *filling)
{
    struct ind_matcher *matcher = ind_matcher_new(filling->loader->config->patterns);
    for (size_t i = 0; matcher && i < filling->layout_count; i++)
        try_example(filling, i, matcher);
    if (!matcher)
        ind_no_memory(filling->loader);
    ind_matcher_free(matcher);
}

bool ind_load_patterns(struct ind_loader *loader)
{
    struct filling filling = {.loader = loader};
    struct ind_config *config = loader->config;
    config->patterns = ind_patterns_new();
    if (!config->patterns)
        return false;
    size_t mistakes = loader->diagnostics->mistakes;
    for (size_t i = 0; i < loader->pattern_count; i++)
        read_pattern(&filling, loader->patterns[i]);
    bool good = ind_patterns_compile(config->patterns);
    if (good && loader->diagnostics->mistakes == mistakes)
        try_examples(&filling);
    free(filling.layouts);
    return good;
}

/* ---- Overlaps ---- */

enum { OVERLAPS_REPORTED = 3, PAIRS_REPORTED = 5 };

struct comparing {
    struct ind_loaded *loaded;
    size_t *overlaps; /* of each layout */
    size_t unknown;   /* pairs that could not be compared */
    char list[400];
    struct ind_buffer pairs;
};

static void add_pair(struct comparing *comparing, const struct ind_overlap *overlap)
{
    const struct ind_patterns *set = comparing->loaded->config->patterns;
    struct ind_buffer before = comparing->pairs;
    if (comparing->unknown++ >= PAIRS_REPORTED)
        return;
    ind_buffer_text(&comparing->pairs, before.length ? ", \"" : "\"");
    ind_buffer_slice(&comparing->pairs, ind_pattern_name(set, ind_patterns_syntax(set, overlap->a)->pattern));
    ind_buffer_text(&comparing->pairs, "\" and \"");
    ind_buffer_slice(&comparing->pairs, ind_pattern_name(set, ind_patterns_syntax(set, overlap->b)->pattern));
    ind_buffer_text(&comparing->pairs, "\"");
    if (comparing->pairs.full)
        comparing->pairs = before;
}

static void report_overlap(void *context, const struct ind_overlap *overlap)
{
    struct comparing *comparing = context;
    struct ind_loaded *loaded = comparing->loaded;
    const struct ind_config *config = loaded->config;
    if (overlap->kind == IND_OVERLAP_UNKNOWN) {
        add_pair(comparing, overlap);
        return;
    }
    if (comparing->overlaps[overlap->b]++ >= OVERLAPS_REPORTED)
        return;
    const struct ind_syntax_place *place = &config->layout_places[overlap->b];
    const struct ind_pattern_syntax *winner = ind_patterns_syntax(config->patterns, overlap->a);
    ind_diagnostic_add(
        &loaded->diagnostics, true, place->source, place->offset, place->length,
        "\"%s\" fits this and \"%.*s\" of the pattern \"%.*s\", which takes it; see that this is meant",
        overlap->text, IND_ARG(winner->source), IND_ARG(ind_pattern_name(config->patterns, winner->pattern)));
}

/* A layout that fits nearly everything overlaps with nearly every other. */
static void report_more(struct comparing *comparing, size_t count)
{
    const struct ind_config *config = comparing->loaded->config;
    for (size_t i = 0; i < count; i++)
        if (comparing->overlaps[i] > OVERLAPS_REPORTED) {
            const struct ind_syntax_place *place = &config->layout_places[i];
            ind_diagnostic_add(&comparing->loaded->diagnostics, true, place->source, place->offset,
                               place->length,
                               "this layout fits texts of %zu more patterns' layouts; make it narrower",
                               comparing->overlaps[i] - OVERLAPS_REPORTED);
        }
}

void ind_config_compare_patterns(struct ind_loaded *loaded)
{
    struct comparing comparing = {.loaded = loaded};
    const struct ind_config *config = loaded->config;
    size_t count = config ? ind_patterns_syntax_count(config->patterns) : 0;
    struct ind_slice *examples = calloc(count + 1, sizeof *examples);
    comparing.overlaps = calloc(count + 1, sizeof *comparing.overlaps);
    bool good = count && examples && comparing.overlaps;
    for (size_t i = 0; good && i < count; i++)
        examples[i] = config->layout_places[i].example;
    comparing.pairs = ind_buffer_on(comparing.list, sizeof comparing.list - 1);
    size_t left_out =
        good ? ind_patterns_overlaps(config->patterns, examples, report_overlap, &comparing) : 0;
    if (good)
        report_more(&comparing, count);
    free(examples);
    free(comparing.overlaps);
    comparing.list[comparing.pairs.length] = '\0';
    if (comparing.unknown)
        ind_diagnostic_add(
            &loaded->diagnostics, true, NULL, 0, 0,
            "whether one text may fit both could not be found out for %zu pair%s of layouts: %s%s",
            comparing.unknown, comparing.unknown == 1 ? "" : "s", comparing.list,
            comparing.unknown > PAIRS_REPORTED ? ", …" : "");
    if (left_out == SIZE_MAX)
        ind_diagnostic_add(&loaded->diagnostics, true, NULL, 0, 0,
                           "out of memory while comparing the patterns");
    else if (left_out)
        ind_diagnostic_add(&loaded->diagnostics, true, NULL, 0, 0,
                           "too many pairs of layouts begin alike: %zu of them were not compared", left_out);
    ind_diagnostics_sort(&loaded->diagnostics);
}
