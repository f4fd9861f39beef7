#include "cli/search_lines.h"

#include "store/search/columns.h"
#include <stdlib.h>

static bool keep(struct ind_search_lines *lines, struct ind_slice line)
{
    if (lines->count == lines->room) {
        const size_t room = lines->room ? lines->room * 2 : 64;
        char **kept = realloc(lines->kept, room * sizeof *kept);
        lines->kept = kept ? kept : lines->kept;
        size_t *lengths = realloc(lines->lengths, room * sizeof *lengths);
        lines->lengths = lengths ? lengths : lines->lengths;
        lines->failed = !kept || !lengths;
        lines->room = lines->failed ? lines->room : room;
    }
    char *copy = lines->failed ? NULL : malloc(line.length + 1);
    lines->failed |= !copy;
    if (lines->failed)
        return false;
    memcpy(copy, line.at, line.length);
    lines->kept[lines->count] = copy;
    lines->lengths[lines->count] = line.length;
    return true;
}

static bool take(void *context, struct ind_slice line)
{
    struct ind_search_lines *lines = context;
    if (!(lines->turned ? keep(lines, line) : ind_search_output_write(lines->output, line)))
        return false;
    lines->count++;
    return !lines->most || lines->count < lines->most;
}

static bool pause_printing(void *context)
{
    const struct ind_search_lines *lines = context;
    return ind_search_output_pause(lines->output);
}

static void put_heading(struct ind_search_output *output, const struct ind_search_settings *settings)
{
    char text[4096];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    for (size_t i = 0; i < settings->column_count; i++) {
        if (i)
            ind_buffer_byte(&out, ',');
        ind_csv_write(&out, settings->columns[i].text);
    }
    ind_buffer_byte(&out, '\n');
    (void)ind_search_output_write(output, ind_buffer_view(&out));
}

/* The last N are the first N of the search that goes the other way. */
void ind_search_lines_begin(struct ind_search_lines *lines, const struct ind_search_options *given,
                            struct ind_search_output *output, struct ind_search_settings *settings)
{
    const bool last = given->last != IND_NOT_GIVEN, first = given->first != IND_NOT_GIVEN;
    *lines = (struct ind_search_lines){.output = output};
    lines->most = last ? (uint64_t)given->last : first ? (uint64_t)given->first : 0;
    lines->turned = last ? !settings->reverse : first && settings->reverse;
    settings->reverse = lines->turned ? !settings->reverse : settings->reverse;
    settings->write = take;
    settings->pause = pause_printing;
    settings->context = lines;
    if (settings->column_count && settings->column_form == IND_COLUMNS_CSV)
        put_heading(output, settings);
}

bool ind_search_lines_end(struct ind_search_lines *lines)
{
    for (uint64_t i = lines->turned ? lines->count : 0; i-- > 0;) {
        (void)ind_search_output_write(lines->output,
                                      (struct ind_slice){lines->kept[i], lines->lengths[i]});
        free(lines->kept[i]);
    }
    free(lines->kept);
    free(lines->lengths);
    return !lines->failed;
}
