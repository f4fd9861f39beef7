#include "cli/check_running.h"

#include "cli/cli.h"
#include "cli/control_client.h"
#include "config/outline.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A line of one of the two outlines; `other`: the other one has it, too. */
struct line {
    struct ind_outline_line text;
    size_t place;
    bool other;
};

struct side {
    struct line *lines;  /* as they stand */
    struct line **order; /* by part, name, key and value */
    size_t count;
};

/* A thing that differs: all its lines, of both sides, lie together in their orders. */
struct thing {
    struct ind_slice part, name;
    struct line **file, **running; /* from here on */
    size_t file_count, running_count;
};

struct counts {
    size_t fresh, gone, changed, moved, restart;
};

/* ---- The two outlines ---- */

static int compare_things(const struct line *a, const struct line *b)
{
    const int order = ind_slice_compare(a->text.part, b->text.part);
    return order ? order : ind_slice_compare(a->text.name, b->text.name);
}

static int compare_lines(const struct line *a, const struct line *b)
{
    int order = compare_things(a, b);
    order = order ? order : ind_slice_compare(a->text.key, b->text.key);
    return order ? order : ind_slice_compare(a->text.value, b->text.value);
}

static int by_text(const void *one, const void *other)
{
    const struct line *a = *(struct line *const *)one, *b = *(struct line *const *)other;
    const int order = compare_lines(a, b);
    return order ? order : (a->place > b->place) - (a->place < b->place);
}

static bool read_side(const char *outline, struct side *side)
{
    struct ind_slice rest = ind_slice_of(outline);
    struct ind_outline_line line;
    size_t room = 0;
    *side = (struct side){0};
    while (ind_outline_next(&rest, &line)) {
        if (side->count == room) {
            room = room ? room * 2 : 256;
            struct line *grown = realloc(side->lines, room * sizeof *grown);
            if (!grown)
                return false;
            side->lines = grown;
        }
        side->lines[side->count] = (struct line){line, side->count, false};
        side->count++;
    }
    side->order = calloc(side->count + 1, sizeof *side->order);
    for (size_t i = 0; side->order && i < side->count; i++)
        side->order[i] = &side->lines[i];
    if (side->order && side->count)
        qsort(side->order, side->count, sizeof(struct line *), by_text);
    return side->order && rest.length == 0;
}

static void free_side(struct side *side)
{
    free(side->lines);
    free(side->order);
}

static void mark_common(struct side *file, struct side *running)
{
    for (size_t f = 0, r = 0; f < file->count && r < running->count;) {
        const int order = compare_lines(file->order[f], running->order[r]);
        if (order == 0)
            file->order[f]->other = running->order[r]->other = true;
        f += order <= 0;
        r += order >= 0;
    }
}

/* ---- What differs ---- */

static size_t lines_of_thing(const struct side *side, size_t from, const struct line *of)
{
    size_t count = 0;
    while (from + count < side->count && compare_things(side->order[from + count], of) == 0)
        count++;
    return count;
}

static bool differs(const struct thing *thing)
{
    for (size_t i = 0; i < thing->file_count; i++)
        if (!thing->file[i]->other)
            return true;
    for (size_t i = 0; i < thing->running_count; i++)
        if (!thing->running[i]->other)
            return true;
    return false;
}

/* The next thing of both sides, in order; false where there is none. */
static bool next_thing(const struct side *file, const struct side *running, size_t *f, size_t *r,
                       struct thing *thing)
{
    if (*f == file->count && *r == running->count)
        return false;
    const int order = *f == file->count      ? 1
                      : *r == running->count ? -1
                                             : compare_things(file->order[*f], running->order[*r]);
    const struct line *first = order <= 0 ? file->order[*f] : running->order[*r];
    *thing = (struct thing){.part = first->text.part,
                            .name = first->text.name,
                            .file = file->order + *f,
                            .running = running->order + *r,
                            .file_count = lines_of_thing(file, *f, first),
                            .running_count = lines_of_thing(running, *r, first)};
    *f += thing->file_count;
    *r += thing->running_count;
    return true;
}

static const char *kind_of(const struct thing *thing)
{
    return thing->running_count == 0 ? "new" : thing->file_count == 0 ? "gone" : "changed";
}

static bool needs_restart(const struct thing *thing)
{
    return ind_outline_needs_restart(&(thing->file_count ? thing->file : thing->running)[0]->text);
}

/* ---- Shown ---- */

/* The name stands above. */
static void put_value(const struct ind_outline_line *line, const char *what, int margin)
{
    if (ind_slice_equal(line->key, IND_SLICE("name")))
        return;
    if (line->key.length)
        printf("  %-*.*s %s%.*s\n", margin, IND_ARG(line->key), what, IND_ARG(line->value));
    else
        printf("  %s%.*s\n", what, IND_ARG(line->value));
}

static void show_thing(const struct thing *thing)
{
    enum { MARGIN = 10 };
    const bool changed = thing->file_count && thing->running_count,
               listener = ind_slice_equal(thing->part, IND_SLICE("listen"));
    printf("\n%.*s %.*s: %s%s%s\n", IND_ARG(thing->part), IND_ARG(thing->name), kind_of(thing),
           listener && !changed ? (thing->file_count ? ", will be opened" : ", will be closed") : "",
           needs_restart(thing) ? "; this needs a restart, a reload is refused" : "");
    for (size_t i = 0; i < thing->file_count; i++)
        if (!thing->file[i]->other)
            put_value(&thing->file[i]->text, changed ? "is   " : "", MARGIN);
    for (size_t i = 0; i < thing->running_count; i++)
        if (!thing->running[i]->other)
            put_value(&thing->running[i]->text, "was  ", MARGIN);
}

static void print_thing(const struct thing *thing)
{
    json_t *object = json_object(), *is = json_object(), *was = json_object();
    json_object_set_new(object, "part", json_stringn(thing->part.at, thing->part.length));
    json_object_set_new(object, "name", json_stringn(thing->name.at, thing->name.length));
    json_object_set_new(object, "change", json_string(kind_of(thing)));
    json_object_set_new(object, "restart", json_boolean(needs_restart(thing)));
    for (int side = 0; side < 2; side++) {
        struct line **lines = side ? thing->running : thing->file;
        for (size_t i = 0; i < (side ? thing->running_count : thing->file_count); i++)
            if (!lines[i]->other) {
                char key[300];
                snprintf(key, sizeof key, "%.*s", IND_ARG(lines[i]->text.key));
                json_object_set_new(side ? was : is, key,
                                    json_stringn(lines[i]->text.value.at, lines[i]->text.value.length));
            }
    }
    json_object_set_new(object, "is", is);
    json_object_set_new(object, "was", was);
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}

static void look_at_things(const struct side *file, const struct side *running, bool json,
                           struct counts *counts)
{
    struct thing thing;
    size_t f = 0, r = 0;
    while (next_thing(file, running, &f, &r, &thing)) {
        if (!differs(&thing))
            continue;
        counts->fresh += thing.running_count == 0;
        counts->gone += thing.file_count == 0;
        counts->changed += thing.file_count && thing.running_count;
        counts->restart += needs_restart(&thing);
        (json ? print_thing : show_thing)(&thing);
    }
}

/* ---- Order ---- */

/* The names of a part that both sides have, as they stand on one of them. New; NULL where memory is out. */
static struct ind_slice *common_names(const struct side *side, const char *part, size_t *count)
{
    struct ind_slice *names = calloc(side->count + 1, sizeof *names);
    *count = 0;
    for (size_t i = 0; names && i < side->count; i++) {
        const struct ind_outline_line *line = &side->lines[i].text;
        if (!ind_slice_equal(line->part, ind_slice_of(part)) ||
            !ind_slice_equal(line->key, IND_SLICE("name")) || !side->lines[i].other)
            continue;
        names[(*count)++] = line->name;
    }
    return names;
}

static void put_names(const struct ind_slice *names, size_t from, size_t count)
{
    enum { MOST = 4 };
    for (size_t i = from; i < count && i < from + MOST; i++)
        printf("%s%.*s", i > from ? ", " : "", IND_ARG(names[i]));
    printf("%s", count > from + MOST ? ", …" : "");
}

static void look_at_order(const struct side *file, const struct side *running, const char *part, bool json,
                          struct counts *counts)
{
    size_t is_count, was_count, i = 0;
    struct ind_slice *is = common_names(file, part, &is_count),
                     *was = common_names(running, part, &was_count);
    while (is && was && i < is_count && i < was_count && ind_slice_equal(is[i], was[i]))
        i++;
    if (is && was && (i < is_count || i < was_count)) {
        counts->moved++;
        if (json) {
            printf("{\"part\":\"%s\",\"change\":\"moved\"}\n", part);
        } else {
            printf("\n%ss act in another order\n  is   ", part);
            put_names(is, i, is_count);
            printf("\n  was  ");
            put_names(was, i, was_count);
            printf("\n");
        }
    }
    free(is);
    free(was);
}

static int compare(const struct ind_config *config, const char *outline, bool json)
{
    struct side file, running = {0};
    struct counts counts = {0};
    const bool good = read_side(config->outline, &file) && read_side(outline, &running);
    if (good) {
        mark_common(&file, &running);
        look_at_things(&file, &running, json, &counts);
        look_at_order(&file, &running, "edit", json, &counts);
        look_at_order(&file, &running, "route", json, &counts);
        const size_t all = counts.fresh + counts.gone + counts.changed + counts.moved;
        if (!json && all == 0)
            printf("A reload would change nothing: the rules in force are those of the file\n");
        else if (!json)
            printf("\nA reload would %s: %zu new, %zu gone, %zu changed%s; nothing is done yet\n",
                   counts.restart ? "be refused, since something needs a restart" : "change this",
                   counts.fresh, counts.gone, counts.changed, counts.moved ? ", and an order" : "");
    } else {
        ind_complain("the collector does not say which rules are in force");
    }
    free_side(&file);
    free_side(&running);
    return !good ? IND_EXIT_FAILED : counts.restart ? IND_EXIT_NO : IND_EXIT_DONE;
}

int ind_check_running(const struct ind_config *config, bool json)
{
    char *outline = NULL;
    int code = IND_EXIT_FAILED;
    const enum ind_control_client_result asked = ind_control_client_ask(config, false, "/rules", &outline);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(config);
    else if (asked == IND_CONTROL_CLIENT_ANSWERED)
        code = compare(config, outline ? outline : "", json);
    else
        ind_complain("the collector does not say which rules are in force: %s", outline ? outline : "");
    free(outline);
    return code;
}
