/* config/route_check.c: what of the routes cannot be meant, once all of them are read. */
#include "config/route_private.h"

#include <stdlib.h>

/* Routes in an order that brings together those which are to be compared. */
static const struct ind_route_text **sorted(struct ind_loader *loader, const struct ind_route_text *texts,
                                            size_t count, int (*compare)(const void *, const void *))
{
    const struct ind_route_text **list = calloc(count + 1, sizeof *list);
    if (!list)
        ind_no_memory(loader);
    for (size_t i = 0; list && i < count; i++)
        list[i] = &texts[i];
    if (list)
        qsort(list, count, sizeof *list, compare);
    return list;
}

static int in_order(const struct ind_route_text *a, const struct ind_route_text *b)
{
    return (a > b) - (a < b);
}

static int by_file(const void *a, const void *b)
{
    const struct ind_route_text *x = *(const struct ind_route_text *const *)a,
                                *y = *(const struct ind_route_text *const *)b;
    int order = ind_slice_compare(x->route->file.source, y->route->file.source);
    return order ? order : in_order(x, y);
}

static int by_name(const void *a, const void *b)
{
    const struct ind_route_text *x = *(const struct ind_route_text *const *)a,
                                *y = *(const struct ind_route_text *const *)b;
    int order = strcmp(x->route->name, y->route->name);
    return order ? order : in_order(x, y);
}

static bool same_line(const struct ind_route *a, const struct ind_route *b)
{
    return (!a->line && !b->line) ||
           (a->line && b->line && ind_slice_equal(a->line->source, b->line->source));
}

/* Each with the first of those that write the same file. */
void ind_routes_check_files(struct ind_loader *loader, const struct ind_route_text *texts, size_t count)
{
    const struct ind_route_text **list = sorted(loader, texts, count, by_file), *first = NULL;
    for (size_t i = 0; list && i < count; i++) {
        const struct ind_route *a = list[i]->route;
        if (!first || !ind_slice_equal(first->route->file.source, a->file.source))
            first = list[i];
        if (!a->file.count || first == list[i])
            continue;
        const struct ind_route *b = first->route;
        const char *what = a->layout != b->layout || !same_line(a, b) ? "layout"
                           : a->policy != b->policy                   ? "archive policy"
                           : a->file_mode != b->file_mode || a->folder_mode != b->folder_mode ? "mode"
                           : a->group != b->group                                             ? "group"
                                                                                              : NULL;
        if (what)
            ind_wrong(
                loader, list[i]->file,
                "the route \"%s\" writes the same file with another %s; make them agree, or write two files",
                b->name, what);
    }
    free(list);
}

/* Twice the same name is a mistake; the order stays with the configuration. */
void ind_routes_order_names(struct ind_loader *loader, const struct ind_route_text *texts, size_t count)
{
    struct ind_config *config = loader->config;
    const struct ind_route_text **list = sorted(loader, texts, count, by_name);
    config->routes_by_name = calloc(count + 1, sizeof *config->routes_by_name);
    if (!config->routes_by_name)
        ind_no_memory(loader);
    for (size_t i = 0; list && config->routes_by_name && i < count; i++) {
        config->routes_by_name[i] = (uint32_t)(list[i] - texts);
        if (i > 0 && list[i]->name && list[i - 1]->name &&
            strcmp(list[i]->route->name, list[i - 1]->route->name) == 0)
            ind_wrong(loader, list[i]->name, "the route \"%s\" appears twice; give this one another name",
                      list[i]->route->name);
    }
    free(list);
}

enum { MOST_COMPARED = 1000000 };

/* A route above that is last and takes all that this one could, or, for one with `otherwise`, any other that
 * does. NULL where none is known. */
static const struct ind_route *in_the_way(const struct ind_config *config, const bool *always, size_t i,
                                          size_t *compared)
{
    const struct ind_route *route = &config->routes[i];
    unsigned fields = ind_condition_fields(config->conditions, route->when);
    for (size_t k = 0; k < (route->otherwise ? config->route_count : i); k++) {
        const struct ind_route *other = &config->routes[k];
        bool comes_first =
            route->otherwise ? !other->otherwise || (k < i && other->last) : !other->otherwise && other->last;
        if (!comes_first || k == i)
            continue;
        if (always[k])
            return other;
        /* What asks for nothing that this one asks for cannot follow from it. */
        unsigned others = ind_condition_fields(config->conditions, other->when);
        if (others && !(others & fields))
            continue;
        if (++*compared > MOST_COMPARED)
            return NULL;
        if (ind_condition_implies(config->conditions, route->when, other->when))
            return other;
    }
    return NULL;
}

void ind_routes_check_reachable(struct ind_loader *loader, const struct ind_route_text *texts)
{
    struct ind_config *config = loader->config;
    size_t compared = 0;
    bool *always = calloc(config->route_count + 1, sizeof *always);
    if (!always)
        ind_no_memory(loader);
    for (size_t i = 0; always && i < config->route_count; i++)
        always[i] = ind_condition_always(config->conditions, config->routes[i].when);
    for (size_t i = 0; always && i < config->route_count; i++) {
        size_t above;
        const struct ind_route *route = &config->routes[i], *other = NULL;
        const struct ind_node *node = texts[i].when ? texts[i].when : texts[i].name;
        if (!node)
            continue;
        if (ind_router_unreachable(config->router, i, &above)) {
            if (above == i)
                continue; /* reported for the condition itself */
            other = &config->routes[above];
        } else {
            other = in_the_way(config, always, i, &compared);
        }
        if (other && route->otherwise)
            ind_warn(loader, node,
                     "nothing is left for this route: the route \"%s\" takes all that it could take",
                     other->name);
        else if (other)
            ind_warn(loader, node,
                     "no message comes this far: the route \"%s\" takes them all and is \"last\"; put this "
                     "route above it",
                     other->name);
    }
    free(always);
    if (compared > MOST_COMPARED)
        ind_diagnostic_add(
            loader->diagnostics, true, NULL, 0, 0,
            "the routes are too many to compare each with those above it: some that no message "
            "reaches may not be found");
}

/* The first edit that puts a whole text beside it, as a label or a field, which `json` writes as well. */
static const struct ind_edit *grows(const struct ind_config *config)
{
    for (size_t i = 0; i < config->edits.count; i++)
        for (size_t c = 0; c < config->edits.list[i].change_count; c++) {
            const struct ind_change_text *change = &config->edits.list[i].changes[c];
            bool added = change->in == IND_IN_LABEL || change->in == IND_IN_FIELD;
            if (added && change->template &&
                (ind_template_has(change->template, IND_PUT_TEXT) ||
                 ind_template_has(change->template, IND_PUT_DATA)))
                return &config->edits.list[i];
        }
    return NULL;
}

void ind_routes_check_lengths(struct ind_loader *loader, const struct ind_route_text *texts, size_t count)
{
    const struct ind_edit *edit = grows(loader->config);
    for (size_t i = 0; edit && i < count; i++)
        if (texts[i].layout && texts[i].route->layout == IND_LAYOUT_JSON)
            ind_warn(loader, texts[i].layout,
                     "the edit \"%s\" puts the whole text into a label or a field, so that a line can become "
                     "longer than %d KiB, and is then cut; put a part of it there, such as a field",
                     edit->name, IND_LINE_MOST >> 10);
}

static void check_template(struct ind_loader *loader, const struct ind_node *node,
                           const struct ind_template *template, const struct ind_surroundings *around)
{
    for (size_t i = 0; node && i < template->count; i++) {
        const struct ind_template_part *part = &template->parts[i];
        struct ind_mistake mistake = {0};
        if (part->put != IND_PUT_LABEL)
            continue;
        ind_label_find_unknown(part->text, around, (size_t)(part->text.at - template->source.at),
                               part->text.length, &mistake);
        if (mistake.made)
            ind_wrong_inside(loader, node, &mistake, true);
    }
}

void ind_routes_check_labels(struct ind_loader *loader, const struct ind_route_text *texts, size_t count)
{
    struct ind_surroundings around;
    if (ind_surroundings_of(loader, &around))
        for (size_t i = 0; i < count; i++) {
            check_template(loader, texts[i].file, &texts[i].route->file, &around);
            if (texts[i].route->line)
                check_template(loader, texts[i].layout, texts[i].route->line, &around);
        }
    ind_surroundings_free(&around);
}
