/* config/edits.c: edits, and what of them cannot be meant. */
#include "config/edit_private.h"

#include <stdlib.h>

IND_KEEP_NODE(ind_edit_text, name)
IND_KEEP_NODE(ind_edit_text, with)
IND_KEEP_NODE(ind_edit_text, in)

static void read_when(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_edit_text *text = into;
    text->when = value;
    text->edit->when_text = ind_read_when(loader, value, false, &text->rule->when);
}

/* ---- One edit ---- */

#define WHAT(kind, number)                                                                                   \
    static void keep_##kind(struct ind_loader *loader, const struct ind_node *value, void *into)             \
    {                                                                                                        \
        (void)loader;                                                                                        \
        ((struct ind_edit_text *)into)->what[number] = value;                                                \
    }
WHAT(mask, IND_EDIT_MASK)
WHAT(label, IND_EDIT_LABEL)
WHAT(drop, IND_EDIT_DROP)
WHAT(set, IND_EDIT_SET)
WHAT(forget, IND_EDIT_FORGET)
WHAT(time, IND_EDIT_TIME)
WHAT(thin, IND_EDIT_THIN)
WHAT(repeat, IND_EDIT_REPEAT)
WHAT(limit, IND_EDIT_LIMIT)

static void former_keep(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    ind_wrong(loader, value, "\"keep\" is now called \"thin\"; write \"thin: %.*s\"",
              IND_ARG(value->kind == IND_NODE_SCALAR ? value->text : IND_SLICE("one in 10")));
}

static void load_edit(struct ind_loader *loader, struct ind_edit_text *text)
{
    static const struct ind_key keys[] = {
        {"name", keep_name},     {"when", read_when},   {"mask", keep_mask}, {"with", keep_with},
        {"in", keep_in},         {"label", keep_label}, {"drop", keep_drop}, {"set", keep_set},
        {"forget", keep_forget}, {"time", keep_time},   {"thin", keep_thin}, {"repeat", keep_repeat},
        {"limit", keep_limit},   {"!keep", former_keep}};
    const struct ind_node *what = NULL;
    size_t mistakes = loader->diagnostics->mistakes;
    if (!ind_read_map(loader, text->node, keys, sizeof keys / sizeof *keys, text))
        return;
    if (!text->name)
        ind_wrong(loader, text->node,
                  "an edit without a name; add \"name: …\": what it drops is counted by it");
    else if (ind_expect_text(loader, text->name, "the edit's name"))
        text->edit->name = text->rule->name = ind_keep(loader, text->name->text);
    if (loader->no_memory)
        return;
    for (int i = 0; i < IND_EDIT_KINDS; i++) {
        if (what && text->what[i])
            ind_wrong(loader, text->what[i], "an edit does one thing; write another one for \"%s\"",
                      ind_edit_kind_names[i]);
        else if (text->what[i])
            text->edit->kind = (enum ind_edit_kind)i;
        what = what ? what : text->what[i];
    }
    if (!what) {
        if (loader->diagnostics->mistakes == mistakes)
            ind_wrong(
                loader, text->node,
                "an edit that does nothing; add mask, label, drop, set, forget, time, thin, repeat or limit");
        return;
    }
    ind_load_edit_kind(loader, text, what);
    if (text->edit->kind != IND_EDIT_MASK && (text->with || text->in))
        ind_wrong(loader, text->with ? text->with : text->in, "\"%s\" goes with mask; leave it out",
                  text->with ? "with" : "in");
    else if (text->in)
        ind_load_edit_places(loader, text->in, text->edit);
}

/* ---- All of them ---- */

static int by_name(const void *a, const void *b)
{
    const struct ind_edit_text *x = *(const struct ind_edit_text *const *)a,
                               *y = *(const struct ind_edit_text *const *)b;
    int order = strcmp(x->edit->name, y->edit->name);
    return order ? order : (x > y) - (x < y);
}

static void check_names(struct ind_loader *loader, const struct ind_edit_text *texts, size_t count)
{
    const struct ind_edit_text **list = calloc(count + 1, sizeof *list);
    if (!list)
        ind_no_memory(loader);
    for (size_t i = 0; list && i < count; i++)
        list[i] = &texts[i];
    if (list)
        qsort(list, count, sizeof *list, by_name);
    for (size_t i = 1; list && i < count; i++)
        if (list[i]->name && strcmp(list[i]->edit->name, list[i - 1]->edit->name) == 0)
            ind_wrong(loader, list[i]->name, "the edit \"%s\" appears twice; give this one another name",
                      list[i]->edit->name);
    free(list);
}

static bool changes_messages(const struct ind_edit *edit)
{
    return edit->kind != IND_EDIT_DROP && !ind_edit_remembers(edit);
}

/* A drop above takes all that this one could, and nothing between changes what it would ask. */
static void check_reachable(struct ind_loader *loader, const struct ind_edit_text *texts, size_t count)
{
    const struct ind_conditions *set = loader->config->conditions;
    for (size_t i = 0; i < count; i++) {
        const struct ind_node *node = texts[i].when ? texts[i].when : texts[i].name;
        if (texts[i].edit->kind == IND_EDIT_DROP && ind_condition_always(set, texts[i].rule->when))
            ind_warn(loader, node, "this edit drops every message that comes to it; say which: when: …");
        for (size_t k = i; k-- > 0 && !changes_messages(texts[k].edit);)
            if (texts[k].edit->kind == IND_EDIT_DROP &&
                ind_condition_implies(set, texts[i].rule->when, texts[k].rule->when)) {
                ind_warn(loader, node, "no message comes this far: the edit \"%s\" drops them all",
                         texts[k].edit->name);
                break;
            }
    }
}

/* As many labels and fields as a message can be given. */
static void check_additions(struct ind_loader *loader, const struct ind_edit_text *texts, size_t count)
{
    size_t additions = 0;
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < texts[i].edit->change_count; k++) {
            const struct ind_change_text *change = &texts[i].edit->changes[k];
            additions += change->in == IND_IN_LABEL || change->in == IND_IN_FIELD;
            if (additions == IND_MOST_ADDITIONS + 1)
                ind_wrong(loader, texts[i].node,
                          "the edits give more than %d labels and fields; leave some out",
                          IND_MOST_ADDITIONS);
        }
}

static bool make_room(struct ind_config *config, size_t count)
{
    config->edits.list = calloc(count + 1, sizeof *config->edits.list);
    config->edits.rules = calloc(count + 1, sizeof *config->edits.rules);
    config->edit_places = calloc(count + 1, sizeof *config->edit_places);
    config->edits.count = config->edits.list && config->edits.rules && config->edit_places ? count : 0;
    return config->edits.count == count;
}

void ind_load_edits(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    size_t count = loader->edit_count;
    struct ind_edit_text *texts = calloc(count + 1, sizeof *texts);
    config->edits.default_zone = config->zone;
    if (count > IND_MOST_EDITS)
        ind_wrong(loader, loader->edits[IND_MOST_EDITS], "more than %d edits; bring some together",
                  IND_MOST_EDITS);
    if (!texts || count > IND_MOST_EDITS || !make_room(config, count)) {
        free(texts);
        if (count <= IND_MOST_EDITS)
            ind_no_memory(loader);
        return;
    }
    for (size_t i = 0; i < count; i++) {
        struct ind_edit *edit = &config->edits.list[i];
        texts[i] =
            (struct ind_edit_text){.edit = edit, .rule = &config->edits.rules[i], .node = loader->edits[i]};
        edit->name = texts[i].rule->name = "";
        config->edit_places[i] = config->edit_places[i ? i - 1 : 0];
        ind_place_find(&config->edit_places[i], texts[i].node->source, texts[i].node->offset);
        load_edit(loader, &texts[i]);
        config->edits.remember |= ind_edit_remembers(edit);
    }
    if (!loader->no_memory)
        check_names(loader, texts, count);
    if (!loader->no_memory)
        check_additions(loader, texts, count);
    if (loader->diagnostics->mistakes == 0)
        check_reachable(loader, texts, count);
    free(texts);
}

void ind_edits_free(struct ind_config *config)
{
    for (size_t i = 0; i < config->edits.count; i++) {
        struct ind_regex **regexes = config->edits.list[i].regexes;
        for (struct ind_regex **regex = regexes; regex && *regex; regex++)
            ind_regex_free(*regex);
        free(regexes);
    }
    ind_router_free(config->edits.router);
    free(config->edits.list);
    free(config->edits.rules);
    free(config->edit_places);
}
