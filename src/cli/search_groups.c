#include "cli/search_groups.h"

#include "cli/search_chart.h"
#include "cli/table.h"
#include <stdlib.h>

/* messages, share, sum, distinct, the fields, a bar */
enum { COLUMNS = IND_SEARCH_FIELDS + 1 + 5, HEADING = 96 };

struct listing {
    const struct ind_search_result *result;
    const struct ind_search_settings *settings;
    const struct ind_search_options *given;
    FILE *out;
    bool bars;
    uint64_t most, all; /* messages of the largest group; of all */
    struct ind_table *table;
    struct ind_column columns[COLUMNS];
    char headings[COLUMNS][HEADING];
    size_t count;
};

static void add_column(struct listing *listing, const char *before, struct ind_slice name, bool number)
{
    char *heading = listing->headings[listing->count];
    snprintf(heading, HEADING, "%s%.*s", before, name.length < 80 ? (int)name.length : 80, name.at);
    listing->columns[listing->count++] = (struct ind_column){heading, number};
}

static void begin_columns(struct listing *listing)
{
    const struct ind_search_settings *settings = listing->settings;
    add_column(listing, "messages", IND_SLICE(""), true);
    if (listing->given->share)
        add_column(listing, "share", IND_SLICE(""), true);
    if (settings->sum.what != IND_BY_NOTHING)
        add_column(listing, "sum ", settings->sum.text, true);
    if (settings->distinct.what != IND_BY_NOTHING)
        add_column(listing, "distinct ", settings->distinct.text, true);
    for (size_t i = 0; i < settings->by_count; i++)
        add_column(listing, "", settings->by[i].text, false);
    if (listing->bars)
        add_column(listing, "", IND_SLICE(""), false);
}

static void add_real(struct ind_table *table, double number)
{
    char text[40];
    snprintf(text, sizeof text, "%.15g", number);
    ind_table_real(table, number, text);
}

static void add_share(struct listing *listing, uint64_t count)
{
    char text[40];
    const double share = listing->all ? 100.0 * (double)count / (double)listing->all : 0;
    snprintf(text, sizeof text, "%.1f%s", share, listing->bars ? " %" : "");
    ind_table_real(listing->table, (double)(int64_t)(share * 10 + 0.5) / 10, text);
}

static void add_row(struct listing *listing, const struct ind_search_group *group)
{
    const struct ind_search_settings *settings = listing->settings;
    char bar[IND_BAR_ROOM];
    ind_table_number(listing->table, group->count);
    if (listing->given->share)
        add_share(listing, group->count);
    if (settings->sum.what != IND_BY_NOTHING)
        add_real(listing->table, group->sum);
    if (settings->distinct.what != IND_BY_NOTHING)
        ind_table_number(listing->table, group->distinct);
    for (size_t i = 0; i < settings->by_count; i++)
        ind_table_text(listing->table, ind_group_value(group, i));
    if (listing->bars)
        ind_table_text(listing->table,
                       ind_bar(listing->most ? (double)group->count / (double)listing->most : 0, bar));
}

/* Steps in which there is none are told, where nothing but time tells groups apart. */
static bool add_steps(struct listing *listing)
{
    const struct ind_search_result *result = listing->result;
    const struct ind_every *every = &listing->settings->by[0].every;
    struct ind_steps steps;
    if (listing->settings->by_count != 1 || listing->settings->by[0].what != IND_BY_EVERY ||
        listing->settings->order != IND_BY_USUAL || listing->settings->top ||
        !ind_steps_find(result, every, &steps))
        return false;
    size_t next = 0;
    for (size_t step = 0; step < steps.count; step++) {
        char text[32];
        struct ind_buffer name = ind_buffer_on(text, sizeof text - 1);
        ind_every_write(every, steps.begins[step], &name);
        text[name.length] = '\0';
        const struct ind_search_group none = {.key = text};
        const bool there =
            next < result->group_count && ind_steps_place(&steps, result->groups[next]) == step;
        add_row(listing, there ? result->groups[next] : &none);
        next += there;
    }
    ind_steps_free(&steps);
    return true;
}

static void add_total(struct listing *listing)
{
    static const char key[sizeof "total" + IND_SEARCH_FIELDS] = "total"; /* all other values are nothing */
    struct ind_search_group total = {.key = key, .count = listing->all};
    for (size_t i = 0; i < listing->result->all_groups; i++) {
        total.sum += listing->result->groups[i]->sum;
        total.distinct += listing->result->groups[i]->distinct;
    }
    listing->most = 0; /* no bar */
    add_row(listing, &total);
}

static void print_table(const struct ind_table *table, const struct ind_search_options *given, FILE *out)
{
    if (given->csv)
        ind_table_print_csv(table, out);
    else
        ind_table_print(table, given->json != 0, out);
}

/* On a terminal: of how many groups these are, and how many messages. */
static void tell_all(const struct listing *listing)
{
    char number[3][32];
    const struct ind_search_result *result = listing->result;
    if (result->group_count < result->all_groups)
        fprintf(listing->out, "%s of %s groups; %s messages in all\n",
                ind_grouped(result->group_count, number[0]), ind_grouped(result->all_groups, number[1]),
                ind_grouped(listing->all, number[2]));
    else if (result->group_count > 1)
        fprintf(listing->out, "%s messages in %s groups\n", ind_grouped(listing->all, number[2]),
                ind_grouped(result->all_groups, number[0]));
}

void ind_search_print_groups(const struct ind_search_result *result,
                             const struct ind_search_settings *settings,
                             const struct ind_search_options *given, FILE *out)
{
    struct listing listing = {.result = result, .settings = settings, .given = given, .out = out};
    listing.bars = ind_goes_to_terminal(out) && !given->json && !given->csv;
    listing.all = result->found - result->not_grouped;
    for (size_t i = 0; i < result->group_count; i++)
        listing.most = result->groups[i]->count > listing.most ? result->groups[i]->count : listing.most;
    begin_columns(&listing);
    listing.table = ind_table_new(listing.columns, listing.count);
    if (!add_steps(&listing))
        for (size_t i = 0; i < result->group_count; i++)
            add_row(&listing, result->groups[i]);
    if (given->total)
        add_total(&listing);
    print_table(listing.table, given, out);
    ind_table_free(listing.table);
    if (!listing.bars)
        return;
    tell_all(&listing);
    if (settings->by[0].what == IND_BY_EVERY)
        ind_search_print_chart(result, settings, out);
}

/* ---- Compared with another span ---- */

enum change { NEW, MORE, LESS, GONE, SAME };
static const char *const change_names[] = {"new", "more", "less", "gone"};

struct changed {
    const struct ind_search_group *group;
    enum change change;
    uint64_t now, before;
    double factor; /* of their rates; 0: new or gone */
};

static int by_values(const struct ind_search_group *a, const struct ind_search_group *b, size_t count)
{
    int order = 0;
    for (size_t i = 0; i < count && order == 0; i++)
        order = strcmp(ind_group_value(a, i), ind_group_value(b, i));
    return order;
}

/* New, by how many; then by the factor; at last what is gone. */
static int worst_first(const void *left, const void *right)
{
    const struct changed *a = left, *b = right;
    if (a->change != b->change)
        return a->change < b->change ? -1 : 1;
    if (a->factor != b->factor)
        return a->factor > b->factor ? -1 : 1;
    const uint64_t of_a = a->now + a->before, of_b = b->now + b->before;
    return of_a != of_b ? (of_a > of_b ? -1 : 1) : by_values(a->group, b->group, 1);
}

/* `scale`: how much longer the span is than the other. */
static struct changed change_of(const struct ind_search_group *now, const struct ind_search_group *before,
                                double scale, double factor)
{
    struct changed changed = {
        .group = now ? now : before, .now = now ? now->count : 0, .before = before ? before->count : 0};
    const double expected = (double)changed.before * scale;
    if (!now || !before) {
        changed.change = now ? NEW : GONE;
        return changed;
    }
    const double times = (double)changed.now / expected;
    changed.change = times >= factor ? MORE : times <= 1 / factor ? LESS : SAME;
    changed.factor = changed.change == LESS ? 1 / times : times;
    return changed;
}

/* Both in order of their names. */
static size_t find_changes(const struct ind_search_result *now, const struct ind_search_result *before,
                           const struct ind_search_read *read, double scale, struct changed *list)
{
    size_t n = 0, b = 0, count = 0;
    const size_t fields = read->settings.by_count;
    while (n < now->group_count || b < before->group_count) {
        const int order = n == now->group_count      ? 1
                          : b == before->group_count ? -1
                                                     : by_values(now->groups[n], before->groups[b], fields);
        list[count] = change_of(order <= 0 ? now->groups[n] : NULL, order >= 0 ? before->groups[b] : NULL,
                                scale, read->factor);
        count += list[count].change != SAME;
        n += order <= 0;
        b += order >= 0;
    }
    return count;
}

static void print_changes(const struct changed *list, size_t count, const struct ind_search_read *read,
                          const struct ind_search_options *given, FILE *out)
{
    struct listing listing = {.settings = &read->settings, .given = given, .out = out};
    const bool terminal = ind_goes_to_terminal(out);
    add_column(&listing, "change", IND_SLICE(""), false);
    add_column(&listing, "messages", IND_SLICE(""), true);
    add_column(&listing, "before", IND_SLICE(""), true);
    add_column(&listing, "factor", IND_SLICE(""), true);
    for (size_t i = 0; i < read->settings.by_count; i++)
        add_column(&listing, "", read->settings.by[i].text, false);
    struct ind_table *table = ind_table_new(listing.columns, listing.count);
    for (size_t i = 0; i < count; i++) {
        char text[40] = "-";
        if (list[i].factor > 0)
            snprintf(text, sizeof text, "%.1f", list[i].factor);
        ind_table_text(table, change_names[list[i].change]);
        ind_table_number(table, list[i].now);
        ind_table_number(table, list[i].before);
        ind_table_real(table, (double)(int64_t)(list[i].factor * 10 + 0.5) / 10, text);
        for (size_t v = 0; v < read->settings.by_count; v++)
            ind_table_text(table, ind_group_value(list[i].group, v));
    }
    if (count || given->csv)
        print_table(table, given, out);
    else if (!given->json && terminal)
        fprintf(out, "nothing is new, gone, or changed by a factor of %g\n", read->factor);
    ind_table_free(table);
}

size_t ind_search_print_change(const struct ind_search_result *now, const struct ind_search_result *before,
                               const struct ind_search_read *read, const struct ind_search_options *given,
                               FILE *out)
{
    const size_t room = now->group_count + before->group_count + 1;
    struct changed *list = calloc(room, sizeof *list);
    if (!list)
        return 0;
    size_t count = find_changes(now, before, read, read->scale, list);
    qsort(list, count, sizeof *list, worst_first);
    const size_t top = ind_is_given(given->top) ? (size_t)given->top : count;
    print_changes(list, count < top ? count : top, read, given, out);
    free(list);
    return count;
}
