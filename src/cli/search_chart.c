#include "cli/search_chart.h"

#include <stdlib.h>

enum {
    MOST_STEPS = 100000,
    HEIGHT = 6,
    LINES = 12,
    LABEL = 24,
    MARGIN = 12,
    WIDEST = 6,
    FEW = 24,
    GREATEST = 9
};

/* ---- Steps ---- */

bool ind_steps_find(const struct ind_search_result *result, const struct ind_every *every,
                    struct ind_steps *steps)
{
    int64_t first = INT64_MAX, last = INT64_MIN, local;
    *steps = (struct ind_steps){0};
    for (size_t i = 0; i < result->all_groups; i++) {
        if (!ind_every_read_begin(ind_group_value(result->groups[i], 0), &local))
            return false;
        first = local < first ? local : first;
        last = local > last ? local : last;
    }
    size_t count = 0;
    for (int64_t at = first; at <= last && count <= MOST_STEPS; at = ind_every_next(every, at))
        count++;
    if (count == 0 || count > MOST_STEPS || !(steps->begins = calloc(count, sizeof *steps->begins)))
        return false;
    for (int64_t at = first; steps->count < count; at = ind_every_next(every, at))
        steps->begins[steps->count++] = at;
    return true;
}

void ind_steps_free(struct ind_steps *steps)
{
    free(steps->begins);
    *steps = (struct ind_steps){0};
}

size_t ind_steps_place(const struct ind_steps *steps, const struct ind_search_group *group)
{
    int64_t local = 0;
    (void)ind_every_read_begin(ind_group_value(group, 0), &local);
    size_t low = 0;
    for (size_t high = steps->count; low + 1 < high;) {
        const size_t middle = (low + high) / 2;
        if (steps->begins[middle] <= local)
            low = middle;
        else
            high = middle;
    }
    return low;
}

/* ---- Characters ---- */

bool ind_has_blocks(void)
{
    static const char *const names[] = {"LC_ALL", "LC_CTYPE", "LANG"};
    for (size_t i = 0; i < 3; i++) {
        const char *value = getenv(names[i]);
        if (value && *value)
            return strstr(value, "UTF-8") || strstr(value, "utf8") || strstr(value, "UTF8");
    }
    return false;
}

/* How high, in eighths, from the bottom. */
static const char *block(unsigned eighths)
{
    static const char *const blocks[] = {" ",      "\u2581", "\u2582", "\u2583", "\u2584",
                                         "\u2585", "\u2586", "\u2587", "\u2588"};
    static const char *const plain[] = {" ", ".", ".", ":", ":", "|", "|", "#", "#"};
    return (ind_has_blocks() ? blocks : plain)[eighths > 8 ? 8 : eighths];
}

const char *ind_bar(double share, char text[IND_BAR_ROOM])
{
    static const char *const parts[] = {"",       "\u258f", "\u258e", "\u258d",
                                        "\u258c", "\u258b", "\u258a", "\u2589"};
    const bool blocks = ind_has_blocks();
    unsigned eighths = (unsigned)(share * IND_BAR_WIDTH * 8 + 0.5);
    eighths = eighths > IND_BAR_WIDTH * 8 ? IND_BAR_WIDTH * 8 : eighths == 0 && share > 0 ? 1 : eighths;
    struct ind_buffer out = ind_buffer_on(text, IND_BAR_ROOM - 1);
    for (unsigned i = 0; i < eighths / 8; i++)
        ind_buffer_text(&out, blocks ? "\u2588" : "#");
    if (blocks)
        ind_buffer_text(&out, parts[eighths % 8]);
    else if (eighths % 8 >= 4 || eighths < 8)
        ind_buffer_text(&out, "-");
    text[out.length] = '\0';
    return text;
}

/* ---- Charts ---- */

struct series {
    const struct ind_search_group *like; /* its values but for the time */
    uint64_t total;
    uint64_t *columns;
};

struct chart {
    struct series list[LINES];
    size_t count, columns, steps_of_column;
    size_t wide; /* characters of a column */
    bool cut;    /* there are more series */
};

static bool is_like(const struct ind_search_group *a, const struct ind_search_group *b, size_t by_count)
{
    for (size_t i = 1; i < by_count; i++)
        if (strcmp(ind_group_value(a, i), ind_group_value(b, i)) != 0)
            return false;
    return true;
}

static int largest_first(const void *left, const void *right)
{
    const struct series *a = left, *b = right;
    return (a->total < b->total) - (a->total > b->total);
}

/* A group, by its values behind the time: `fields` of them, with a NUL behind each. */
struct told_apart {
    const struct ind_search_group *group;
    const char *values;
    size_t fields;
};

static int by_values(const void *left, const void *right)
{
    const struct told_apart *a = left, *b = right;
    const char *x = a->values, *y = b->values;
    int order = 0;
    for (size_t i = 0; i < a->fields && (order = strcmp(x, y)) == 0; i++) {
        x += strlen(x) + 1;
        y += strlen(y) + 1;
    }
    return order;
}

/* The largest of them. */
static void find_series(const struct ind_search_result *result, size_t by_count, struct chart *chart)
{
    const size_t count = result->all_groups;
    size_t known = 0;
    struct series *all = calloc(count + 1, sizeof *all);
    struct told_apart *list = calloc(count + 1, sizeof *list);
    for (size_t i = 0; all && list && i < count; i++)
        list[i] = (struct told_apart){result->groups[i], ind_group_value(result->groups[i], 1), by_count - 1};
    if (all && list)
        qsort(list, count, sizeof *list, by_values);
    for (size_t i = 0; all && list && i < count; i++) {
        known += i == 0 || by_values(&list[i - 1], &list[i]) != 0;
        all[known - 1].like = list[i].group;
        all[known - 1].total += list[i].group->count;
    }
    if (all)
        qsort(all, known, sizeof *all, largest_first);
    for (chart->count = 0; all && chart->count < known && chart->count < LINES; chart->count++)
        chart->list[chart->count] = all[chart->count];
    chart->cut = known > LINES;
    free(all);
    free(list);
}

static void fill(const struct ind_search_result *result, const struct ind_steps *steps, size_t by_count,
                 struct chart *chart)
{
    for (size_t i = 0; i < result->all_groups; i++)
        for (size_t s = 0; s < chart->count; s++)
            if (chart->list[s].columns && is_like(chart->list[s].like, result->groups[i], by_count))
                chart->list[s].columns[ind_steps_place(steps, result->groups[i]) / chart->steps_of_column] +=
                    result->groups[i]->count;
}

static uint64_t most_of(const struct series *series, size_t columns)
{
    uint64_t most = 0;
    for (size_t i = 0; i < columns; i++)
        most = series->columns[i] > most ? series->columns[i] : most;
    return most;
}

static void print_line(const struct chart *chart, const struct series *series, uint64_t most, unsigned row,
                       FILE *out)
{
    for (size_t i = 0; i < chart->columns; i++) {
        const double height = most ? (double)series->columns[i] / (double)most * (row ? HEIGHT * 8 : 8) : 0;
        unsigned eighths = (unsigned)(height + 0.5);
        eighths = eighths == 0 && series->columns[i] ? 1 : eighths;
        const unsigned below = row ? (row - 1) * 8 : 0;
        for (size_t w = 0; w < chart->wide; w++)
            fputs(block(eighths > below ? eighths - below : 0), out);
    }
    fputc('\n', out);
}

static void print_axis(const struct ind_steps *steps, const struct ind_every *every,
                       const struct chart *chart, int margin, FILE *out)
{
    char first[32] = "", last[32] = "";
    struct ind_buffer begin = ind_buffer_on(first, sizeof first - 1),
                      end = ind_buffer_on(last, sizeof last - 1);
    ind_every_write(every, steps->begins[0], &begin);
    ind_every_write(every, steps->begins[(chart->columns - 1) * chart->steps_of_column], &end);
    first[begin.length] = last[end.length] = '\0';
    const int gap = (int)(chart->columns * chart->wide) - (int)begin.length - (int)end.length;
    if (gap < 2)
        fprintf(out, "%*s %s to %s", margin, "", first, last);
    else
        fprintf(out, "%*s %s%*s%s", margin, "", first, gap, "", last);
    if (chart->steps_of_column > 1)
        fprintf(out, "   (%zu steps a column)", chart->steps_of_column);
    fputc('\n', out);
}

static void print_tall(const struct chart *chart, FILE *out)
{
    char number[32];
    const struct series *series = &chart->list[0];
    const uint64_t most = most_of(series, chart->columns);
    for (unsigned row = HEIGHT; row > 0; row--) {
        fprintf(out, "%*s|", MARGIN,
                row == HEIGHT ? ind_number_text(most, true, number)
                : row == 1    ? "0"
                              : "");
        print_line(chart, series, most, row, out);
    }
}

static void print_flat(const struct chart *chart, size_t by_count, FILE *out)
{
    char number[32];
    for (size_t s = 0; s < chart->count; s++) {
        char label[64];
        struct ind_buffer text = ind_buffer_on(label, LABEL);
        for (size_t i = 1; i < by_count; i++) {
            if (i > 1)
                ind_buffer_byte(&text, ' ');
            ind_buffer_cut(&text, ind_slice_of(ind_group_value(chart->list[s].like, i)));
        }
        label[ind_slice_begin(ind_buffer_view(&text), LABEL).length] = '\0';
        fprintf(out, "%*s %*s|", LABEL, label, GREATEST,
                ind_number_text(most_of(&chart->list[s], chart->columns), true, number));
        print_line(chart, &chart->list[s], most_of(&chart->list[s], chart->columns), 0, out);
    }
    if (chart->cut)
        fprintf(out, "%*s only the largest %d are drawn\n", LABEL, "", LINES);
}

void ind_search_print_chart(const struct ind_search_result *result,
                            const struct ind_search_settings *settings, FILE *out)
{
    struct ind_steps steps;
    struct chart chart = {.count = 0};
    const struct ind_every *every = &settings->by[0].every;
    const int margin = settings->by_count > 1 ? LABEL + 1 + GREATEST : MARGIN;
    const size_t width = ind_terminal_width() - (size_t)margin - 2;
    if (!ind_steps_find(result, every, &steps))
        return;
    chart.steps_of_column = (steps.count + width - 1) / width;
    chart.columns = (steps.count + chart.steps_of_column - 1) / chart.steps_of_column;
    chart.wide = width / chart.columns < WIDEST ? width / chart.columns : WIDEST;
    find_series(result, settings->by_count, &chart);
    /* Of a few steps the bars tell as much. */
    bool good = chart.count > 0 && steps.count > (settings->by_count > 1 ? 1 : FEW);
    for (size_t s = 0; good && s < chart.count; s++)
        good = (chart.list[s].columns = calloc(chart.columns, sizeof(uint64_t))) != NULL;
    if (good) {
        fill(result, &steps, settings->by_count, &chart);
        fputc('\n', out);
        if (settings->by_count > 1)
            print_flat(&chart, settings->by_count, out);
        else
            print_tall(&chart, out);
        print_axis(&steps, every, &chart, margin, out);
    }
    for (size_t s = 0; s < chart.count; s++)
        free(chart.list[s].columns);
    ind_steps_free(&steps);
}
