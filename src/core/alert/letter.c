#include "core/alert/letter.h"

#include "core/edit/edit.h"

enum { IN_FULL = 20, SPARE = 4096 };

const char *ind_alert_event_word(enum ind_alert_event event)
{
    static const char *const words[] = {"opened", "opened again", "still open", "over"};
    return words[event];
}

static void write_two(struct ind_buffer *buffer, int number)
{
    const char text[2] = {(char)('0' + number / 10 % 10), (char)('0' + number % 10)};
    ind_buffer_add(buffer, text, 2);
}

void ind_alert_time_write(ind_time time, const struct ind_zone *zone, struct ind_buffer *buffer)
{
    struct ind_civil civil;
    if (time == IND_TIME_NONE) {
        ind_buffer_text(buffer, "never");
        return;
    }
    if (zone)
        ind_zone_civil(zone, time, &civil);
    else
        ind_civil_from_seconds(ind_time_seconds(time), &civil);
    write_two(buffer, civil.year / 100);
    write_two(buffer, civil.year);
    ind_buffer_byte(buffer, '-');
    write_two(buffer, civil.month);
    ind_buffer_byte(buffer, '-');
    write_two(buffer, civil.day);
    ind_buffer_byte(buffer, ' ');
    write_two(buffer, civil.hour);
    ind_buffer_byte(buffer, ':');
    write_two(buffer, civil.minute);
    ind_buffer_byte(buffer, ':');
    write_two(buffer, civil.second);
}

void ind_alert_count_write(const struct ind_alert *alert, struct ind_buffer *buffer)
{
    if (alert->count == 0) {
        ind_buffer_text(buffer, "no message");
        return;
    }
    ind_buffer_number(buffer, alert->count);
    ind_buffer_text(buffer, alert->count == 1 ? " message" : " messages");
}

static void write_who(const struct ind_letter_item *item, struct ind_buffer *buffer)
{
    ind_buffer_text(buffer, item->name);
    if (item->alert->key[0]) {
        ind_buffer_text(buffer, ", ");
        ind_buffer_text(buffer, item->alert->key);
    }
}

void ind_letter_line(const struct ind_letter_item *item, struct ind_buffer *buffer)
{
    write_who(item, buffer);
    ind_buffer_text(buffer, ": ");
    ind_buffer_text(buffer, ind_alert_event_word(item->event));
    ind_buffer_text(buffer, ", ");
    ind_alert_count_write(item->alert, buffer);
}

/* How many opened, in the order of their names' first item. */
void ind_letter_subject(const struct ind_letter *letter, struct ind_buffer *buffer)
{
    const uint64_t count = letter->count + letter->left_out;
    if (letter->count == 1 && letter->left_out == 0) {
        const struct ind_letter_item *item = letter->items;
        write_who(item, buffer);
        ind_buffer_text(buffer, ": ");
        ind_buffer_text(buffer, ind_alert_event_word(item->event));
        return;
    }
    for (size_t i = 0; i < letter->count; i++) {
        size_t before = 0;
        while (strcmp(letter->items[before].name, letter->items[i].name) != 0)
            before++;
        if (before < i)
            continue;
        if (buffer->length > 100) {
            ind_buffer_text(buffer, ", …");
            break;
        }
        ind_buffer_text(buffer, i ? ", " : "");
        ind_buffer_text(buffer, letter->items[i].name);
    }
    ind_buffer_text(buffer, ": ");
    ind_buffer_number(buffer, count);
    ind_buffer_text(buffer, " alerts");
}

/* ---- As text ---- */

static void write_span(const struct ind_letter_item *item, const struct ind_letter *letter,
                       struct ind_buffer *buffer)
{
    const struct ind_alert *alert = item->alert;
    ind_alert_count_write(alert, buffer);
    if (alert->first == IND_TIME_NONE)
        return;
    if (alert->count == 0) {
        ind_buffer_text(buffer, " since ");
        ind_alert_time_write(alert->last, letter->zone, buffer);
        return;
    }
    const bool at_once = ind_time_seconds(alert->first) == ind_time_seconds(alert->last);
    ind_buffer_text(buffer, at_once ? " at " : " from ");
    ind_alert_time_write(alert->first, letter->zone, buffer);
    if (at_once)
        return;
    ind_buffer_text(buffer, " to ");
    ind_alert_time_write(alert->last, letter->zone, buffer);
}

static void write_state(const struct ind_letter_item *item, const struct ind_letter *letter,
                        struct ind_buffer *buffer)
{
    ind_buffer_text(buffer, ind_alert_event_word(item->event));
    ind_buffer_text(buffer, item->event == IND_ALERT_REMINDER ? " since " : " at ");
    ind_alert_time_write(item->event == IND_ALERT_REMINDER ? item->alert->opened : item->at, letter->zone,
                         buffer);
    if (item->event == IND_ALERT_OVER) {
        ind_buffer_text(buffer, ", open since ");
        ind_alert_time_write(item->alert->opened, letter->zone, buffer);
    }
    if (item->held)
        ind_buffer_text(buffer, ", held back until now");
}

/* A shell takes it as one word: a quote in it ends the quoted text, stands escaped, and begins another. */
static void write_word(const char *text, struct ind_buffer *buffer)
{
    bool bare = *text != '\0';
    for (const char *at = text; *at; at++)
        bare &= ind_is_alpha(*at) || ind_is_digit(*at) || memchr("-_.:@/", *at, 6) != NULL;
    if (bare) {
        ind_buffer_text(buffer, text);
        return;
    }
    ind_buffer_byte(buffer, '\'');
    for (const char *at = text; *at; at++) {
        if (*at == '\'')
            ind_buffer_text(buffer, "'\\''");
        else
            ind_buffer_byte(buffer, *at);
    }
    ind_buffer_byte(buffer, '\'');
}

/* What to type next; `which` is one of the lines of it. False where there is none such. */
static bool write_command(const struct ind_letter_item *item, unsigned which, struct ind_buffer *buffer)
{
    const struct ind_alert *alert = item->alert;
    if (which == 0) {
        ind_buffer_text(buffer, "indagator alerts show ");
        ind_buffer_number(buffer, alert->number);
        return true;
    }
    if (which == 1 && item->event != IND_ALERT_OVER) {
        ind_buffer_text(buffer, "indagator alerts ack ");
        write_word(item->name, buffer);
        ind_buffer_byte(buffer, ' ');
        if (alert->key[0])
            write_word(alert->key, buffer);
        return true;
    }
    if (which != 2 || !item->when[0] || alert->first == IND_TIME_NONE)
        return false;
    ind_buffer_text(buffer, "indagator search --when ");
    write_word(item->when, buffer);
    ind_buffer_text(buffer, " --since ");
    char since[IND_TIME_WIDTH];
    struct ind_buffer time = ind_buffer_on(since, sizeof since);
    ind_time_write(&time, alert->first);
    ind_buffer_add(buffer, since, sizeof "2026-11-23T04:45:00" - 1);
    ind_buffer_byte(buffer, 'Z');
    return true;
}

static void write_item(const struct ind_letter_item *item, const struct ind_letter *letter,
                       struct ind_buffer *buffer)
{
    static const char *const purposes[] = {"  See it:        ", "  See to it:     ", "  Its messages:  "};
    write_who(item, buffer);
    ind_buffer_byte(buffer, '\n');
    ind_buffer_text(buffer, "  ");
    write_state(item, letter, buffer);
    ind_buffer_text(buffer, "\n  ");
    write_span(item, letter, buffer);
    if (item->reason[0]) {
        ind_buffer_text(buffer, "\n  ");
        ind_buffer_text(buffer, item->reason);
    }
    ind_buffer_text(buffer, "\n");
    if (item->alert->who[0]) {
        ind_buffer_text(buffer, "  acknowledged by ");
        ind_buffer_text(buffer, item->alert->who);
        ind_buffer_text(buffer, item->alert->note ? ": " : "");
        ind_buffer_text(buffer, item->alert->note ? item->alert->note : "");
        ind_buffer_byte(buffer, '\n');
    }
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (item->alert->lines[i]) {
            ind_buffer_text(buffer, "    ");
            ind_buffer_text(buffer, item->alert->lines[i]);
            ind_buffer_byte(buffer, '\n');
        }
    for (unsigned i = 0; i < 3; i++) {
        const size_t before = buffer->length;
        ind_buffer_text(buffer, purposes[i]);
        if (write_command(item, i, buffer))
            ind_buffer_byte(buffer, '\n');
        else
            buffer->length = before;
    }
    ind_buffer_byte(buffer, '\n');
}

static void write_end(const struct ind_letter *letter, struct ind_buffer *buffer)
{
    ind_buffer_text(buffer, "Times are those of ");
    ind_buffer_text(buffer, letter->zone_name);
    ind_buffer_text(buffer, "; lines are as they were stored. All that is open: indagator alerts list\n");
    ind_buffer_text(buffer, "The collector on ");
    ind_buffer_text(buffer, letter->host);
    ind_buffer_byte(buffer, '\n');
}

static size_t room_of(const struct ind_buffer *buffer)
{
    return buffer->capacity - buffer->length;
}

void ind_letter_text(const struct ind_letter *letter, struct ind_buffer *buffer)
{
    uint64_t left_out = letter->left_out;
    for (size_t i = 0; i < letter->count; i++) {
        if (i < IN_FULL && room_of(buffer) > 2 * SPARE + IND_ALERT_LINES * IND_ALERT_LINE) {
            write_item(&letter->items[i], letter, buffer);
        } else if (room_of(buffer) > SPARE) {
            ind_letter_line(&letter->items[i], buffer);
            ind_buffer_byte(buffer, '\n');
        } else {
            left_out++;
        }
    }
    if (left_out) {
        ind_buffer_text(buffer, "and ");
        ind_buffer_number(buffer, left_out);
        ind_buffer_text(buffer, " others\n");
    }
    if (letter->count > IN_FULL)
        ind_buffer_byte(buffer, '\n');
    write_end(letter, buffer);
}

/* ---- As a page ---- */

static void write_escaped(struct ind_slice text, struct ind_buffer *buffer)
{
    for (size_t i = 0; i < text.length; i++) {
        switch (text.at[i]) {
        case '<':
            ind_buffer_text(buffer, "&lt;");
            break;
        case '>':
            ind_buffer_text(buffer, "&gt;");
            break;
        case '&':
            ind_buffer_text(buffer, "&amp;");
            break;
        case '\n':
            ind_buffer_text(buffer, "<br>\n");
            break;
        case '"':
            ind_buffer_text(buffer, "&quot;");
            break;
        default:
            ind_buffer_byte(buffer, text.at[i]);
        }
    }
}

typedef void write_part(const struct ind_letter_item *item, const struct ind_letter *letter,
                        struct ind_buffer *buffer);

static void write_who_of(const struct ind_letter_item *item, const struct ind_letter *letter,
                         struct ind_buffer *buffer)
{
    (void)letter;
    write_who(item, buffer);
}

/* A part, escaped, between two texts. */
static void put(write_part *part, const struct ind_letter_item *item, const struct ind_letter *letter,
                const char *before, const char *after, struct ind_buffer *buffer)
{
    char text[1024];
    struct ind_buffer plain = ind_buffer_on(text, sizeof text);
    part(item, letter, &plain);
    ind_buffer_text(buffer, before);
    write_escaped(ind_buffer_view(&plain), buffer);
    ind_buffer_text(buffer, after);
}

static void put_item(const struct ind_letter_item *item, const struct ind_letter *letter,
                     struct ind_buffer *buffer)
{
    put(write_who_of, item, letter,
        item->event == IND_ALERT_OVER ? "<h2 style=\"color:#2e6b34;font-size:1.1em;margin:1.2em 0 .2em\">"
                                      : "<h2 style=\"color:#9a1c1c;font-size:1.1em;margin:1.2em 0 .2em\">",
        "</h2>\n", buffer);
    put(write_state, item, letter, "<p style=\"margin:.2em 0\">", "<br>", buffer);
    put(write_span, item, letter, "", "", buffer);
    if (item->reason[0]) {
        ind_buffer_text(buffer, "<br>");
        write_escaped(ind_slice_of(item->reason), buffer);
    }
    ind_buffer_text(buffer, "</p>\n<pre style=\"white-space:pre-wrap;background:#f3f3f0;color:#222;"
                            "padding:.6em;margin:.4em 0\">");
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (item->alert->lines[i]) {
            write_escaped(ind_slice_of(item->alert->lines[i]), buffer);
            ind_buffer_byte(buffer, '\n');
        }
    ind_buffer_text(buffer, "</pre>\n<p style=\"margin:.2em 0\">");
    for (unsigned i = 0; i < 3; i++) {
        char text[1024];
        struct ind_buffer command = ind_buffer_on(text, sizeof text);
        if (!write_command(item, i, &command))
            continue;
        static const char *const purposes[] = {"See it: ", "See to it: ", "Its messages: "};
        ind_buffer_text(buffer, purposes[i]);
        ind_buffer_text(buffer, "<code>");
        write_escaped(ind_buffer_view(&command), buffer);
        ind_buffer_text(buffer, "</code><br>");
    }
    ind_buffer_text(buffer, "</p>\n");
}

void ind_letter_page(const struct ind_letter *letter, struct ind_buffer *buffer)
{
    uint64_t left_out = letter->left_out;
    char end[600];
    struct ind_buffer foot = ind_buffer_on(end, sizeof end);
    ind_buffer_text(buffer, "<!DOCTYPE html>\n<html><head><meta charset=\"utf-8\"></head>\n"
                            "<body style=\"font-family:sans-serif;max-width:60em\">\n");
    for (size_t i = 0; i < letter->count; i++) {
        if (i < IN_FULL && room_of(buffer) > 3 * SPARE + 5 * IND_ALERT_LINES * IND_ALERT_LINE) {
            put_item(&letter->items[i], letter, buffer);
        } else if (room_of(buffer) > SPARE) {
            char text[600];
            struct ind_buffer line = ind_buffer_on(text, sizeof text);
            ind_letter_line(&letter->items[i], &line);
            write_escaped(ind_buffer_view(&line), buffer);
            ind_buffer_text(buffer, "<br>\n");
        } else {
            left_out++;
        }
    }
    if (left_out) {
        ind_buffer_text(buffer, "<p>and ");
        ind_buffer_number(buffer, left_out);
        ind_buffer_text(buffer, " others</p>\n");
    }
    write_end(letter, &foot);
    ind_buffer_text(buffer, "<p style=\"color:#666;margin-top:2em\">");
    write_escaped(ind_buffer_view(&foot), buffer);
    ind_buffer_text(buffer, "</p>\n</body></html>\n");
}
