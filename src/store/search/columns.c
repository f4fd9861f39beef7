#include "store/search/columns.h"

#include "core/base/escape.h"
#include "core/message/framing.h"

enum { ROOM = 64, AROUND = 128 }; /* of a time; quotes, commas and the like around a value */

/* In place: behind `from` stands a value. Most need no quotes. */
static void quote_behind(struct ind_buffer *out, size_t from)
{
    const struct ind_slice value = {out->at + from, out->length - from};
    size_t quotes = 0;
    bool quoted = value.length && (value.at[0] == ' ' || value.at[value.length - 1] == ' ');
    for (size_t i = 0; i < value.length; i++) {
        quotes += value.at[i] == '"';
        quoted |= value.at[i] == '"' || value.at[i] == ',';
    }
    if (!quoted || !ind_buffer_room(out, quotes + 2))
        return;
    char *to = out->at + out->length + quotes + 2, *begin = out->at + from;
    out->length += quotes + 2;
    *--to = '"';
    for (size_t i = value.length; i-- > 0;) {
        *--to = begin[i];
        if (*to == '"')
            *--to = '"';
    }
    *begin = '"';
}

void ind_csv_write(struct ind_buffer *out, struct ind_slice value)
{
    const size_t from = out->length;
    ind_buffer_slice(out, value);
    quote_behind(out, from);
}

/* The value as it is: of times as they are written. */
static struct ind_slice value_of(const struct ind_search_settings *settings,
                                 const struct ind_search_by *column, const struct ind_message *message,
                                 struct ind_answers *answers, struct ind_by_reader *reader, char room[ROOM])
{
    struct ind_buffer made = ind_buffer_on(room, ROOM);
    if (column->what == IND_FIELD_TIME)
        ind_zone_write_time(settings->times, message->time, &made);
    else if (column->what == IND_COLUMN_SENT && message->sent != IND_TIME_NONE)
        ind_zone_write_time(settings->times, message->sent, &made);
    else if (column->what == IND_FIELD_LAG && message->sent != IND_TIME_NONE &&
             message->received != IND_TIME_NONE)
        ind_hundredths_write(&made, ind_lag_hundredths(message->received, message->sent));
    else if (column->what != IND_COLUMN_SENT && column->what != IND_FIELD_LAG)
        return ind_search_by_value(column, message, answers, reader);
    return ind_buffer_view(&made);
}

static void write_member(const struct ind_search_by *column, struct ind_slice value, bool first,
                         struct ind_buffer *out)
{
    ind_buffer_text(out, first ? "{\"" : ",\"");
    (void)ind_escape_json(out, column->text, false, true);
    ind_buffer_text(out, "\":\"");
    (void)ind_escape_json(out, value, false, false);
    ind_buffer_byte(out, '"');
}

void ind_columns_write(const struct ind_search_settings *settings, const struct ind_message *message,
                       struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *out)
{
    char room[ROOM];
    bool first = true;
    for (size_t i = 0; i < settings->column_count; i++) {
        const struct ind_search_by *column = &settings->columns[i];
        const struct ind_slice value = value_of(settings, column, message, answers, reader, room);
        if (settings->column_form == IND_COLUMNS_JSON) {
            if (value.length)
                write_member(column, value, first, out);
            first &= value.length == 0;
            continue;
        }
        if (i)
            ind_buffer_byte(out, settings->column_form == IND_COLUMNS_CSV ? ',' : '\t');
        const size_t from = out->length;
        const bool hyphen = value.length == 1 && value.at[0] == '-';
        if (settings->column_form == IND_COLUMNS_TABS)
            ind_escape_text(out, value);
        else if (value.length && hyphen)
            ind_buffer_byte(out, '-');
        else if (value.length)
            ind_escape_text(out, value);
        if (settings->column_form == IND_COLUMNS_CSV)
            quote_behind(out, from);
    }
    if (settings->column_form == IND_COLUMNS_JSON)
        ind_buffer_text(out, first ? "{}" : "}");
    ind_buffer_byte(out, '\n');
}

size_t ind_columns_most(const struct ind_search_settings *settings)
{
    size_t most = AROUND;
    for (size_t i = 0; i < settings->column_count; i++)
        most += 6 * ((size_t)IND_MESSAGE_LIMIT + settings->columns[i].text.length) + AROUND;
    return most;
}
