/* What two sets of rules do differently with a message. */
#include "trial/rehearse_private.h"

#include "core/base/escape.h"
#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

static const char *const keys[IND_DIFFERENCES] = {
    "only_dropped_here", "only_dropped_there", "dropped_by_others", "only_routed_here",
    "only_routed_there", "other_files",        "other_lines"};

const char *ind_difference_key(enum ind_difference_kind kind)
{
    return keys[kind];
}

/* A sum, so that the order of routes does not matter. */
void ind_outcome_note(struct ind_side *side, char *room, const struct ind_decided *decided)
{
    struct ind_outcome *outcome = &side->outcome;
    *outcome = (struct ind_outcome){.dropped = decided->dropped,
                                    .taken = decided->taken,
                                    .changed = decided->changed,
                                    .taken_count = decided->taken_count,
                                    .changed_count = decided->changed_count,
                                    .message = decided->message};
    for (size_t i = 0; i < decided->taken_count; i++) {
        const struct ind_route *route = &side->config->routes[decided->taken[i]];
        struct ind_buffer out = ind_buffer_on(room, IND_REHEARSE_ROOM);
        if (route->to == IND_TO_FILE)
            ind_template_path(&route->file, decided->message, &side->clock, false, &out);
        else
            ind_route_describe(route, &out);
        outcome->paths += XXH3_64bits(out.at, out.length);
        if (route->line)
            (void)ind_line_write_template(route->line, decided->message, &side->clock, &out);
        else
            (void)ind_line_write(route->layout, decided->message, &side->line_clock, &out);
        outcome->lines += XXH3_64bits(out.at, out.length);
    }
}

static bool kind_of(const struct ind_outcome *here, const struct ind_outcome *there,
                    enum ind_difference_kind *kind)
{
    if (here->dropped && there->dropped) {
        *kind = IND_DROPPED_BY_OTHERS;
        return strcmp(here->dropped->name, there->dropped->name) != 0;
    }
    *kind = here->dropped                 ? IND_ONLY_DROPPED_HERE
            : there->dropped              ? IND_ONLY_DROPPED_THERE
            : there->taken_count == 0     ? IND_ONLY_ROUTED_HERE
            : here->taken_count == 0      ? IND_ONLY_ROUTED_THERE
            : here->paths != there->paths ? IND_OTHER_FILES
                                          : IND_OTHER_LINES;
    return here->dropped || there->dropped || (here->taken_count == 0) != (there->taken_count == 0) ||
           here->lines != there->lines;
}

static void add_name(struct ind_buffer *out, size_t number, const char *name)
{
    ind_buffer_text(out, number ? ", " : " ");
    ind_escape_shown(out, ind_slice_of(name));
}

/* "dropped by no-lease-chatter", "filed by everything", "into raw.log", "changed by hide-people". */
static void describe(const struct ind_side *side, enum ind_difference_kind kind,
                     char text[IND_DIFFERENCE_TEXT])
{
    const struct ind_outcome *outcome = &side->outcome;
    struct ind_buffer out = ind_buffer_on(text, IND_DIFFERENCE_TEXT - 1);
    memset(text, 0, IND_DIFFERENCE_TEXT);
    if (outcome->dropped) {
        ind_buffer_text(&out, "dropped by");
        add_name(&out, 0, outcome->dropped->name);
    } else if (kind == IND_OTHER_LINES) {
        ind_buffer_text(&out, outcome->changed_count ? "changed by" : "not changed");
        for (size_t i = 0; i < outcome->changed_count; i++)
            add_name(&out, i, side->config->edits.list[outcome->changed[i]].name);
    } else if (kind == IND_OTHER_FILES) {
        ind_buffer_text(&out, "into");
        for (size_t i = 0; i < outcome->taken_count; i++) {
            char to[IND_PATH + 1];
            struct ind_buffer name = ind_buffer_on(to, sizeof to - 1);
            ind_route_describe(&side->config->routes[outcome->taken[i]], &name);
            to[name.length] = '\0';
            add_name(&out, i, to);
        }
    } else {
        ind_buffer_text(&out, outcome->taken_count ? "filed by" : "unrouted");
        for (size_t i = 0; i < outcome->taken_count; i++)
            add_name(&out, i, side->config->routes[outcome->taken[i]].name);
    }
}

static struct ind_difference *add_difference(struct ind_rehearsal *rehearsal)
{
    size_t count = rehearsal->difference_count;
    if (!rehearsal->differences)
        rehearsal->differences = calloc(IND_MOST_DIFFERENCES + 1, sizeof *rehearsal->differences);
    if (!rehearsal->differences)
        return NULL;
    if (count == IND_MOST_DIFFERENCES) { /* the last one stands for all that find no place */
        memcpy(rehearsal->differences[count - 1].here, "…", sizeof "…");
        memcpy(rehearsal->differences[count - 1].there, "…", sizeof "…");
        return &rehearsal->differences[count - 1];
    }
    return &rehearsal->differences[rehearsal->difference_count++];
}

static struct ind_difference *find(struct ind_rehearsal *rehearsal, enum ind_difference_kind kind,
                                   const char here[IND_DIFFERENCE_TEXT],
                                   const char there[IND_DIFFERENCE_TEXT])
{
    for (size_t i = 0; i < rehearsal->difference_count; i++) {
        struct ind_difference *known = &rehearsal->differences[i];
        if (known->kind == kind && strcmp(known->here, here) == 0 && strcmp(known->there, there) == 0)
            return known;
    }
    struct ind_difference *fresh = add_difference(rehearsal);
    if (fresh && fresh->messages == 0) {
        fresh->kind = kind;
        memcpy(fresh->here, here, sizeof fresh->here);
        memcpy(fresh->there, there, sizeof fresh->there);
    }
    return fresh;
}

void ind_rehearser_compare(struct ind_rehearser *rehearser)
{
    enum ind_difference_kind kind;
    char here[IND_DIFFERENCE_TEXT], there[IND_DIFFERENCE_TEXT];
    if (!kind_of(&rehearser->side[0].outcome, &rehearser->side[1].outcome, &kind))
        return;
    describe(&rehearser->side[0], kind, here);
    describe(&rehearser->side[1], kind, there);
    struct ind_difference *difference = find(&rehearser->part, kind, here, there);
    rehearser->part.different++;
    if (!difference) {
        rehearser->out_of_memory = true;
        return;
    }
    difference->messages++;
    struct ind_example *example = ind_examples_want(&difference->examples)
                                      ? ind_examples_add(&difference->examples, rehearser->at)
                                      : NULL;
    if (!example)
        return;
    example->before = ind_example_keep(example, ind_rehearser_view(rehearser, 0), IND_EXAMPLE_TEXT);
    example->after = ind_example_keep(example, ind_rehearser_view(rehearser, 1), IND_EXAMPLE_TEXT);
}

void ind_differences_merge(struct ind_rehearsal *rehearsal, struct ind_rehearsal *part)
{
    for (size_t i = 0; i < part->difference_count; i++) {
        struct ind_difference *more = &part->differences[i];
        struct ind_difference *difference = find(rehearsal, more->kind, more->here, more->there);
        if (!difference) {
            ind_examples_free(&more->examples);
            continue;
        }
        difference->messages += more->messages;
        ind_examples_merge(&difference->examples, &more->examples);
    }
    rehearsal->different += part->different;
    free(part->differences);
    part->differences = NULL;
    part->difference_count = 0;
}

static int most_first(const void *a, const void *b)
{
    const struct ind_difference *x = a, *y = b;
    return x->messages != y->messages ? (x->messages < y->messages) - (x->messages > y->messages)
                                      : strcmp(x->here, y->here);
}

void ind_differences_sort(struct ind_rehearsal *rehearsal)
{
    if (rehearsal->difference_count)
        qsort(rehearsal->differences, rehearsal->difference_count, sizeof *rehearsal->differences,
              most_first);
}
