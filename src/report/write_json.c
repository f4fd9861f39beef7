#include "report/sections.h"

#include "json/members.h"

static json_t *cell_json(const struct ind_report_cell *cell)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    switch (cell->kind) {
    case IND_REPORT_TEXT:
        return json_string(cell->text);
    case IND_REPORT_NUMBER:
    case IND_REPORT_SIZE:
        return json_integer((json_int_t)cell->number);
    case IND_REPORT_TIME:
        ind_time_write(&out, cell->time);
        return json_stringn(text, out.length);
    case IND_REPORT_NOTHING:
        break;
    }
    return json_null();
}

static json_t *section_json(const struct ind_report_section *section, size_t top)
{
    json_t *object = json_object(), *rows = json_array();
    const size_t count = ind_report_rows(section, top);
    for (size_t i = 0; i < count; i++) {
        json_t *row = json_object();
        for (size_t c = 0; c < section->column_count; c++)
            json_object_set_new(row, section->columns[c].id,
                                cell_json(&section->cells[i * section->column_count + c]));
        json_array_append_new(rows, row);
    }
    json_object_set_new(object, "says", json_string(section->sentence ? section->sentence : ""));
    json_object_set_new(object, "stands_out", json_boolean(section->stands_out));
    ind_json_set_number(object, "all_rows", section->row_count);
    json_object_set_new(object, "rows", rows);
    return object;
}

json_t *ind_report_json(const struct ind_report_page *page, size_t top)
{
    const struct ind_report *report = page->report;
    json_t *object = json_object(), *sections = json_object(), *notes = json_array();
    json_object_set_new(object, "of", json_string(page->title));
    ind_json_set_time(object, "since", report->asked.span.since);
    ind_json_set_time(object, "until", report->asked.span.until);
    ind_json_set_time(object, "made", report->asked.now);
    ind_json_set_number(object, "messages", report->totals[IND_REPORT_NOW]);
    if (ind_report_is_comparable(report)) {
        ind_json_set_number(object, "usual", report->usual);
        json_object_set_new(object, "usual_by", json_string(report->by_weeks ? "weekdays" : "span before"));
    }
    ind_json_set_number(object, "removed", report->removed);
    ind_json_set_number(object, "archives_counted", report->archives);
    ind_json_set_number(object, "read_files", report->read);
    ind_json_set_number(object, "unread_files", report->unread);
    for (size_t i = 0; i < page->count; i++)
        json_object_set_new(sections, page->sections[i].id, section_json(&page->sections[i], top));
    json_object_set_new(object, "sections", sections);
    for (size_t i = 0; i < page->note_count; i++)
        json_array_append_new(notes, json_string(page->notes[i] ? page->notes[i] : ""));
    json_object_set_new(object, "notes", notes);
    return object;
}
