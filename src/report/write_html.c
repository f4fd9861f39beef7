/* A page that needs no network: all of its numbers are in its tables, which charts are drawn from where
 * scripts run. What strangers have named stands in it as text only; its policy lets nothing run but its own
 * script. */
#include "report/html.h"
#include "report/page.h"
#include "report/sections.h"

#include "core/base/amount.h"

#include <stdlib.h>
#include <string.h>

enum { BARS = 15, LABEL = 40 };

/* ---- Text ---- */

static void write_time(const struct ind_report_page *page, const struct ind_report_section *section,
                       ind_time time, char text[64])
{
    struct ind_buffer out = ind_buffer_on(text, 63);
    const struct ind_report_asked *asked = &page->report->asked;
    ind_report_section_time_write(section, asked, time, &out);
    text[out.length] = '\0';
}

/* ---- Tables ---- */

static bool is_number(enum ind_report_kind kind)
{
    return kind == IND_REPORT_NUMBER || kind == IND_REPORT_SIZE;
}

static void put_cell(const struct ind_report_page *page, const struct ind_report_section *section,
                     const struct ind_report_column *column, const struct ind_report_cell *cell, FILE *out)
{
    char text[64];
    const char *class = is_number(column->kind)           ? " class=\"number\""
                        : column->kind == IND_REPORT_TIME ? " class=\"time\""
                                                          : "";
    fprintf(out, "<td%s", class);
    switch (cell->kind) {
    case IND_REPORT_TEXT:
        fputc('>', out);
        ind_html_put(cell->text, out);
        break;
    case IND_REPORT_NUMBER:
        fprintf(out, " data-value=\"%llu\">%s", (unsigned long long)cell->number,
                ind_number_text(cell->number, true, text));
        break;
    case IND_REPORT_SIZE:
        fprintf(out, " data-value=\"%llu\">%s", (unsigned long long)cell->number,
                ind_size_text(cell->number, text));
        break;
    case IND_REPORT_TIME:
        write_time(page, section, cell->time, text);
        fprintf(out, ">%s", text);
        break;
    case IND_REPORT_NOTHING:
        fputs(is_number(column->kind) ? " data-value=\"-1\">-" : ">-", out);
        break;
    }
    fputs("</td>", out);
}

/* Of columns that text has no room for, those in which there is nothing are left out. */
static bool is_shown(const struct ind_report_section *section, size_t column, size_t rows)
{
    bool shown = !section->columns[column].has_no_room;
    for (size_t i = 0; i < rows && !shown; i++)
        shown = section->cells[i * section->column_count + column].number > 0;
    return shown;
}

static void put_table(const struct ind_report_page *page, const struct ind_report_section *section,
                      size_t rows, FILE *out)
{
    bool shown[IND_REPORT_COLUMNS];
    for (size_t c = 0; c < section->column_count; c++)
        shown[c] = is_shown(section, c, rows);
    fprintf(out, "<div class=\"rows\" tabindex=\"0\" role=\"region\" aria-label=\"");
    ind_html_put(section->title, out);
    fputs("\"><table><thead><tr>", out);
    for (size_t c = 0; c < section->column_count; c++) {
        if (!shown[c])
            continue;
        fprintf(out, "<th scope=\"col\" aria-sort=\"none\"%s><button type=\"button\">",
                is_number(section->columns[c].kind) ? " class=\"number\"" : "");
        ind_html_put(section->columns[c].title, out);
        fputs("</button></th>", out);
    }
    fputs("</tr></thead><tbody>\n", out);
    for (size_t i = 0; i < rows; i++) {
        fputs("<tr>", out);
        for (size_t c = 0; c < section->column_count; c++)
            if (shown[c])
                put_cell(page, section, &section->columns[c], &section->cells[i * section->column_count + c],
                         out);
        fputs("</tr>\n", out);
    }
    fputs("</tbody></table></div>\n", out);
}

/* ---- Numbers for charts ---- */

static json_t *label_of(const struct ind_report_page *page, const struct ind_report_section *section,
                        const struct ind_report_cell *cell)
{
    char text[64];
    if (cell->kind == IND_REPORT_TIME) {
        write_time(page, section, cell->time, text);
        return json_string(text);
    }
    const struct ind_slice name = ind_slice_begin(ind_slice_of(cell->text ? cell->text : ""), LABEL);
    return json_stringn(name.at, name.length);
}

static bool has_chart(const struct ind_report_section *section)
{
    return section->chart != IND_REPORT_NO_CHART && section->row_count > 0;
}

static json_t *numbers_of(const struct ind_report_page *page, const struct ind_report_section *section,
                          size_t rows)
{
    json_t *object = json_object(), *labels = json_array(), *list = json_array(), *stack = json_array();
    const bool bars = section->chart == IND_REPORT_BARS;
    for (size_t c = 0; !bars && c < section->column_count; c++)
        if (section->columns[c].has_no_room)
            json_array_append_new(stack, json_string(section->columns[c].id));
    for (size_t i = 0; i < rows && (!bars || i < BARS); i++) {
        const struct ind_report_cell *cells = &section->cells[i * section->column_count];
        json_t *row = json_object();
        json_array_append_new(labels, label_of(page, section, &cells[0]));
        for (size_t c = 1; c < section->column_count; c++)
            if (is_number(section->columns[c].kind))
                json_object_set_new(row, section->columns[c].id,
                                    is_number(cells[c].kind) ? json_integer((json_int_t)cells[c].number)
                                                             : json_null());
        json_array_append_new(list, row);
    }
    json_object_set_new(object, "chart", json_string(bars ? "bars" : "stacked"));
    json_object_set_new(object, "labels", labels);
    json_object_set_new(object, "stack", stack);
    json_object_set_new(object, "rows", list);
    return object;
}

/* In a script element nothing may look like its end: within strings "<" is written as JSON allows it. */
static bool put_numbers(const struct ind_report_page *page, size_t top, FILE *out)
{
    json_t *object = json_object(), *sections = json_object();
    for (size_t i = 0; i < page->count; i++)
        if (has_chart(&page->sections[i]))
            json_object_set_new(
                sections, page->sections[i].id,
                numbers_of(page, &page->sections[i], ind_report_rows(&page->sections[i], top)));
    json_object_set_new(object, "sections", sections);
    char *text = json_dumps(object, JSON_COMPACT | JSON_ENSURE_ASCII);
    fputs("<script type=\"application/json\" id=\"numbers\">", out);
    for (const char *at = text; at && *at; at++)
        if (*at == '<' || *at == '>' || *at == '&')
            fprintf(out, "\\u%04x", (unsigned)(unsigned char)*at);
        else
            fputc(*at, out);
    fputs("</script>\n", out);
    json_decref(object);
    free(text);
    return text != NULL;
}

/* ---- The page ---- */

static void put_head(const struct ind_report_page *page, FILE *out)
{
    fputs("<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n", out);
    fprintf(
        out,
        "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; script-src '%s' '%s'; "
        "style-src '%s'; img-src data:; base-uri 'none'; form-action 'none'\">\n",
        ind_page_charts.hash, ind_page_script.hash, ind_page_style.hash);
    fputs("<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>Messages of ",
          out);
    ind_html_put(page->title, out);
    fputs("</title>\n<style>", out);
    fwrite(ind_page_style.text, 1, ind_page_style.length, out);
    fputs("</style>\n</head>\n<body>\n<a class=\"skip\" href=\"#sections\">To the sections</a>\n<main>\n",
          out);
}

static void put_summary(const struct ind_report_page *page, bool logarithmic, FILE *out)
{
    char text[64];
    fputs("<h1>Messages of ", out);
    ind_html_put(page->title, out);
    write_time(page, NULL, page->report->asked.now, text);
    fprintf(out, "</h1>\n<p class=\"soft\">Made at %s; times are those of ", text);
    ind_html_put(page->report->asked.zone_text ? page->report->asked.zone_text : "this machine", out);
    fputs(".</p>\n<ul class=\"summary\">\n", out);
    for (int out_first = 1; out_first >= 0; out_first--)
        for (size_t i = 0; i < page->count; i++) {
            const struct ind_report_section *section = &page->sections[i];
            if (section->stands_out != (out_first == 1))
                continue;
            fprintf(out, "<li%s><a href=\"#%s\">", section->stands_out ? " class=\"out\"" : "", section->id);
            ind_html_put(section->title, out);
            fputs("</a>: ", out);
            ind_html_put(section->sentence ? section->sentence : "", out);
            fputs("</li>\n", out);
        }
    fprintf(out,
            "</ul>\n<p><label class=\"log\"><input type=\"checkbox\" id=\"logarithmic\"%s> logarithmic "
            "charts</label></p>\n<div id=\"sections\">\n",
            logarithmic ? " checked" : "");
}

static void put_section(const struct ind_report_page *page, const struct ind_report_section *section,
                        size_t top, FILE *out)
{
    const size_t rows = ind_report_rows(section, top);
    const bool chart = has_chart(section);
    fprintf(out, "<section id=\"%s\"%s>\n<h2>", section->id, chart ? "" : " class=\"wide\"");
    ind_html_put(section->title, out);
    fputs("</h2>\n<p>", out);
    ind_html_put(section->sentence ? section->sentence : "", out);
    fputs("</p>\n<div class=\"both\">\n", out);
    if (chart) {
        fprintf(out, "<div class=\"chart\"><canvas data-section=\"%s\" role=\"img\" aria-label=\"Chart: ",
                section->id);
        ind_html_put(section->sentence ? section->sentence : "", out);
        fputs("\"></canvas></div>\n", out);
    }
    if (rows > 0)
        put_table(page, section, rows, out);
    fputs("</div>\n", out);
    if (rows < section->row_count)
        fprintf(out, "<p class=\"soft\">and %zu more</p>\n", section->row_count - rows);
    fputs("</section>\n", out);
}

bool ind_report_write_html(const struct ind_report_page *page, size_t top, bool logarithmic, FILE *out)
{
    put_head(page, out);
    put_summary(page, logarithmic, out);
    for (size_t i = 0; i < page->count; i++)
        put_section(page, &page->sections[i], top, out);
    fputs("</div>\n<footer>\n", out);
    for (size_t i = 0; i < page->note_count; i++) {
        fputs("<p>", out);
        ind_html_put(page->notes[i] ? page->notes[i] : "", out);
        fputs("</p>\n", out);
    }
    fputs("</footer>\n</main>\n", out);
    const bool good = put_numbers(page, top, out);
    fputs("<script>", out);
    fwrite(ind_page_charts.text, 1, ind_page_charts.length, out);
    fputs("</script>\n<script>", out);
    fwrite(ind_page_script.text, 1, ind_page_script.length, out);
    fputs("</script>\n</body>\n</html>\n", out);
    return good && !ferror(out);
}
