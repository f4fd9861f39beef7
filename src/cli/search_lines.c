#include "cli/search_lines.h"

#include "store/search/columns.h"

static bool keep(struct ind_search_lines *lines, struct ind_slice line)
{
    lines->failed = !ind_kept_add(&lines->kept, line);
    return !lines->failed;
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
    const bool last = ind_is_given(given->last), first = ind_is_given(given->first);
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

static void print_kept(void *context, struct ind_slice line)
{
    (void)print(context, line);
}

bool ind_search_lines_end(struct ind_search_lines *lines)
{
    ind_kept_give_back(&lines->kept, print_kept, lines);
    ind_screen_end(&lines->screen);
    return !lines->failed;
}
