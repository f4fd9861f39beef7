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

static bool print(struct ind_search_lines *lines, struct ind_slice line)
{
    if (lines->form == IND_ON_SCREEN)
        line = ind_screen_plain(&lines->screen, line);
    else if (lines->form == IND_COLUMNS_ON_SCREEN)
        line = ind_screen_columns(&lines->screen, line, false);
    return ind_search_output_write(lines->output, line);
}

static bool take(void *context, struct ind_slice line)
{
    struct ind_search_lines *lines = context;
    if (!(lines->turned ? keep(lines, line) : print(lines, line)))
        return false;
    lines->count++;
    return !lines->most || lines->count < lines->most;
}

static bool pause_printing(void *context)
{
    const struct ind_search_lines *lines = context;
    return ind_search_output_pause(lines->output);
}

static void put_heading(struct ind_search_lines *lines, const struct ind_search_settings *settings)
{
    char text[4096];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    const bool csv = settings->column_form == IND_COLUMNS_CSV;
    for (size_t i = 0; i < settings->column_count; i++) {
        if (i)
            ind_buffer_byte(&out, csv ? ',' : '\t');
        if (csv)
            ind_csv_write(&out, settings->columns[i].text);
        else
            ind_buffer_slice(&out, settings->columns[i].text);
    }
    ind_buffer_byte(&out, '\n');
    const struct ind_slice heading = ind_buffer_view(&out);
    (void)ind_search_output_write(lines->output,
                                  csv ? heading : ind_screen_columns(&lines->screen, heading, true));
}

/* How lines are shown: for people on a terminal, exactly as they are to all else. */
static void choose_form(struct ind_search_lines *lines, const struct ind_search_options *given,
                        const struct ind_search_settings *settings)
{
    const bool for_people = !given->to && (ind_goes_to_terminal(stdout) || ind_colour());
    ind_screen_begin(&lines->screen, given->fold != 0, settings->conditions, settings->when);
    if (for_people && settings->column_count && settings->column_form == IND_COLUMNS_TABS)
        lines->form = IND_COLUMNS_ON_SCREEN;
    else if (for_people && !settings->column_count && !given->layout && settings->layout == IND_LAYOUT_PLAIN)
        lines->form = IND_ON_SCREEN;
    if (for_people)
        ind_progress_gives_way();
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
    choose_form(lines, given, settings);
    if (settings->column_count &&
        (settings->column_form == IND_COLUMNS_CSV || lines->form == IND_COLUMNS_ON_SCREEN))
        put_heading(lines, settings);
}

bool ind_search_lines_end(struct ind_search_lines *lines)
{
    for (uint64_t i = lines->turned ? lines->count : 0; i-- > 0;) {
        (void)print(lines, (struct ind_slice){lines->kept[i], lines->lengths[i]});
        free(lines->kept[i]);
    }
    free(lines->kept);
    free(lines->lengths);
    ind_screen_end(&lines->screen);
    return !lines->failed;
}
