#include "cli/screen_line.h"

#include "cli/cli.h"
#include "core/message/names.h"

#include <stdlib.h>

/* The columns of the layout `plain`. */
enum { TIME, LAG, DEVICE, FACILITY, SEVERITY, APP, PROCID, MSGID, DATA, TEXT, PARTS };

enum {
    USUAL_DEVICE = 12, /* columns that do not widen are easier to read */
    USUAL_FACILITY = sizeof "authpriv" - 1,
    USUAL_SEVERITY = sizeof "emergency" - 1,
    USUAL_APP = 10,
    USUAL_TIME = sizeof "2026-11-23T04:45:00.123456Z" - 1,
    MOST_DEVICE = 28,
    MOST_APP = 20,
    MOST_COLUMN = 40,
    TO_MILLISECONDS = 23,
    INDENT = 6,
    LEAST_FOLDED = 20,
    LATE = 60, /* seconds of lag that are told */
    ROOM = 32  /* for sequences and blanks around a part */
};

/* ---- What is set off ---- */

static enum ind_verdict note_hits(void *context, const struct ind_asked *asked)
{
    struct ind_screen *screen = context;
    const bool plain = asked->op == IND_ASKED_CONTAINS || asked->op == IND_ASKED_MENTIONS ||
                       asked->op == IND_ASKED_STARTS || asked->op == IND_ASKED_ENDS;
    if (asked->field != IND_FIELD_TEXT || !plain)
        return IND_OPEN;
    for (size_t i = 0; i < asked->count && screen->hit_count < IND_SCREEN_HITS; i++)
        if (asked->texts[i].length)
            screen->hits[screen->hit_count++] = (struct ind_hit){asked->texts[i], asked->nocase};
    return IND_OPEN;
}

void ind_screen_begin(struct ind_screen *screen, bool fold, const struct ind_conditions *conditions,
                      ind_condition when)
{
    *screen = (struct ind_screen){.colour = ind_colour(), .fold = fold, .columns = ind_terminal_width()};
    screen->widths[DEVICE] = USUAL_DEVICE;
    screen->widths[FACILITY] = USUAL_FACILITY;
    screen->widths[SEVERITY] = USUAL_SEVERITY;
    screen->widths[APP] = USUAL_APP;
    if (conditions)
        (void)ind_condition_of_many(conditions, when, note_hits, screen);
}

void ind_screen_end(struct ind_screen *screen)
{
    free(screen->room);
    screen->room = NULL;
}

/* The first of the texts at or behind `at`; its length in *length. */
static const char *next_hit(const struct ind_screen *screen, struct ind_slice text, size_t at, size_t *length)
{
    for (; at < text.length; at++)
        for (size_t i = 0; i < screen->hit_count; i++) {
            const struct ind_slice rest = ind_slice_from(text, at), hit = screen->hits[i].text;
            if (screen->hits[i].nocase ? ind_slice_starts_nocase(rest, hit) : ind_slice_starts(rest, hit)) {
                *length = hit.length;
                return rest.at;
            }
        }
    return NULL;
}

/* ---- Pieces ---- */

static size_t width_of(struct ind_slice text)
{
    size_t width = 0;
    for (size_t i = 0; i < text.length; i++)
        width += ((unsigned char)text.at[i] & 0xC0u) != 0x80u;
    return width;
}

static void put_blanks(struct ind_buffer *out, size_t count)
{
    while (count-- > 0)
        ind_buffer_byte(out, ' ');
}

static void put_coloured(const struct ind_screen *screen, const char *colour, struct ind_slice text,
                         struct ind_buffer *out)
{
    const bool coloured = screen->colour && *colour;
    ind_buffer_text(out, coloured ? colour : "");
    ind_buffer_slice(out, text);
    ind_buffer_text(out, coloured ? IND_PLAIN : "");
}

/* As wide as the widest so far. */
static void put_column(struct ind_screen *screen, size_t column, size_t most, const char *colour,
                       struct ind_slice text, struct ind_buffer *out)
{
    const size_t width = width_of(text);
    if (width > screen->widths[column])
        screen->widths[column] = width < most ? width : most;
    put_coloured(screen, colour, text, out);
    put_blanks(out, screen->widths[column] > width ? screen->widths[column] - width : 0);
    put_blanks(out, 2);
}

static void put_text(const struct ind_screen *screen, struct ind_slice text, struct ind_buffer *out)
{
    size_t at = 0, length = 0;
    const char *hit;
    while (screen->colour && screen->hit_count && (hit = next_hit(screen, text, at, &length)) != NULL) {
        ind_buffer_add(out, text.at + at, (size_t)(hit - text.at) - at);
        put_coloured(screen, IND_REVERSE, (struct ind_slice){hit, length}, out);
        at = (size_t)(hit - text.at) + length;
    }
    ind_buffer_slice(out, ind_slice_from(text, at));
}

/* The longest beginning of whole words that is no wider than `width`; one word is cut where it is wider. */
static struct ind_slice fold(struct ind_slice *text, size_t width)
{
    size_t at = 0, columns = 0, blank = 0;
    for (; at < text->length && columns < width; at++) {
        if (text->at[at] == ' ')
            blank = at;
        columns += ((unsigned char)text->at[at] & 0xC0u) != 0x80u;
    }
    while (at < text->length && ((unsigned char)text->at[at] & 0xC0u) == 0x80u)
        at++;
    if (at == text->length || text->at[at] == ' ')
        blank = at;
    const struct ind_slice part = {text->at, at == text->length ? at : blank ? blank : at};
    *text = ind_slice_from(*text, part.length);
    while (text->length && text->at[0] == ' ')
        *text = ind_slice_from(*text, 1);
    return part;
}

static void put_folded(const struct ind_screen *screen, struct ind_slice text, size_t before,
                       struct ind_buffer *out)
{
    if (!screen->fold || before + width_of(text) <= screen->columns) {
        put_text(screen, text, out);
        return;
    }
    size_t left = screen->columns > before + LEAST_FOLDED ? screen->columns - before : 0;
    for (bool first = true; text.length; first = false) {
        if (!first || !left) {
            ind_buffer_byte(out, '\n');
            put_blanks(out, INDENT);
            left = screen->columns > INDENT + LEAST_FOLDED ? screen->columns - INDENT : LEAST_FOLDED;
        }
        put_text(screen, fold(&text, left), out);
    }
}

/* ---- A line ---- */

static bool split(struct ind_slice line, struct ind_slice parts[PARTS])
{
    for (int i = 0; i < PARTS; i++) {
        const char *blank = i < TEXT && line.length ? memchr(line.at, ' ', line.length) : NULL;
        if (!blank && i < TEXT)
            return false;
        parts[i] = (struct ind_slice){line.at, blank ? (size_t)(blank - line.at) : line.length};
        line = ind_slice_from(line, parts[i].length + (blank != NULL));
    }
    return ind_severity_read(parts[SEVERITY]) >= 0 && ind_facility_read(parts[FACILITY]) >= 0;
}

static const char *colour_of(int severity)
{
    return severity <= IND_SEVERITY_ERROR     ? IND_RED
           : severity == IND_SEVERITY_WARNING ? IND_YELLOW
           : severity == IND_SEVERITY_DEBUG   ? IND_DIM
                                              : "";
}

/* For those who see no colour. */
static const char *mark_of(int severity)
{
    return severity < IND_SEVERITY_ERROR      ? "!! "
           : severity == IND_SEVERITY_ERROR   ? "!  "
           : severity == IND_SEVERITY_WARNING ? "*  "
                                              : "   ";
}

static bool is_there(struct ind_slice part)
{
    return part.length != 1 || part.at[0] != '-';
}

/* "2026-11-23T04:45:00.123456Z" to the millisecond. */
static void put_time(struct ind_slice time, struct ind_buffer *out)
{
    const size_t zone = time.length > 26 ? 26 : time.length;
    ind_buffer_add(out, time.at, zone > TO_MILLISECONDS ? TO_MILLISECONDS : zone);
    ind_buffer_slice(out, ind_slice_from(time, zone));
    put_blanks(out, 2);
}

/* "app[procid]", and MSGID, as far as they are there. */
static void put_app(struct ind_screen *screen, struct ind_slice parts[PARTS], struct ind_buffer *out)
{
    char text[256];
    struct ind_buffer app = ind_buffer_on(text, sizeof text);
    if (is_there(parts[APP]))
        ind_buffer_cut(&app, parts[APP]);
    if (is_there(parts[PROCID]) && parts[PROCID].length < 32 && app.length < 200) {
        ind_buffer_byte(&app, '[');
        ind_buffer_slice(&app, parts[PROCID]);
        ind_buffer_byte(&app, ']');
    }
    if (app.length == 0)
        ind_buffer_byte(&app, '-');
    put_column(screen, APP, MOST_APP, "", ind_buffer_view(&app), out);
    if (is_there(parts[MSGID])) {
        put_coloured(screen, IND_BOLD, parts[MSGID], out);
        put_blanks(out, 2);
    }
}

static void put_lag(const struct ind_screen *screen, struct ind_slice lag, struct ind_buffer *out)
{
    char text[32];
    snprintf(text, sizeof text, "%.*s", (int)(lag.length < 31 ? lag.length : 31), lag.at);
    const double seconds = strtod(text, NULL);
    if (seconds < LATE && seconds > -LATE)
        return;
    snprintf(text, sizeof text, "(lag %.0f s)  ", seconds);
    put_coloured(screen, IND_YELLOW, ind_slice_of(text), out);
}

/* DEVICE(HOST) without the host where that says no more: it is the device within its domain, or none. */
static struct ind_slice without_its_own_name(struct ind_slice column)
{
    const char *open = column.length ? memchr(column.at, '(', column.length) : NULL;
    if (!open || column.at[column.length - 1] != ')')
        return column;
    const struct ind_slice device = {column.at, (size_t)(open - column.at)};
    struct ind_slice host = ind_slice_from(column, device.length + 1);
    host.length--;
    const bool none = host.length == 1 && host.at[0] == '-';
    const bool within =
        host.length > device.length && host.at[device.length] == '.' && ind_slice_starts_nocase(host, device);
    return none || within ? device : column;
}

/* What is shown of a line, without sequences: for where its text begins. */
static size_t shown_width(const struct ind_buffer *out)
{
    size_t width = 0;
    for (size_t i = 0; i < out->length; i++) {
        if (out->at[i] == '\033')
            while (i < out->length && out->at[i] != 'm')
                i++;
        else
            width += ((unsigned char)out->at[i] & 0xC0u) != 0x80u;
    }
    return width;
}

static bool make_room(struct ind_screen *screen, size_t length)
{
    /* Each hit may be one byte long; a fold adds an indent to a word. */
    const size_t needed = length * ROOM + PARTS * ROOM * 2 + IND_SCREEN_WIDTHS * MOST_COLUMN;
    if (screen->room_size >= needed)
        return true;
    free(screen->room);
    screen->room = malloc(needed);
    screen->room_size = screen->room ? needed : 0;
    return screen->room != NULL;
}

struct ind_slice ind_screen_plain(struct ind_screen *screen, struct ind_slice line)
{
    struct ind_slice parts[PARTS], whole = line;
    const bool ends = line.length && line.at[line.length - 1] == '\n';
    whole.length -= ends;
    if (!split(whole, parts) || !make_room(screen, line.length))
        return line;
    struct ind_buffer out = ind_buffer_on(screen->room, screen->room_size);
    const int severity = ind_severity_read(parts[SEVERITY]);
    put_coloured(screen, colour_of(severity), ind_slice_of(mark_of(severity)), &out);
    put_time(parts[TIME], &out);
    put_column(screen, DEVICE, MOST_DEVICE, IND_CYAN, without_its_own_name(parts[DEVICE]), &out);
    put_column(screen, FACILITY, MOST_APP, "", parts[FACILITY], &out);
    put_column(screen, SEVERITY, MOST_APP, colour_of(severity), parts[SEVERITY], &out);
    put_app(screen, parts, &out);
    put_lag(screen, parts[LAG], &out);
    if (is_there(parts[DATA])) {
        put_coloured(screen, IND_DIM, parts[DATA], &out);
        put_blanks(&out, 2);
    }
    put_folded(screen, parts[TEXT], shown_width(&out), &out);
    ind_buffer_byte(&out, '\n');
    return ind_buffer_view(&out);
}

static size_t usual_width(struct ind_slice name)
{
    static const struct {
        const char *name;
        size_t width;
    } usual[] = {{"time", USUAL_TIME},   {"sent", USUAL_TIME},         {"device", USUAL_DEVICE},
                 {"host", USUAL_DEVICE}, {"facility", USUAL_FACILITY}, {"severity", USUAL_SEVERITY}};
    for (size_t i = 0; i < sizeof usual / sizeof *usual; i++)
        if (ind_slice_equal(name, ind_slice_of(usual[i].name)))
            return usual[i].width;
    return 0;
}

struct ind_slice ind_screen_columns(struct ind_screen *screen, struct ind_slice line, bool heading)
{
    struct ind_slice rest = line;
    if (rest.length && rest.at[rest.length - 1] == '\n')
        rest.length--;
    if (!make_room(screen, line.length))
        return line;
    struct ind_buffer out = ind_buffer_on(screen->room, screen->room_size);
    for (size_t column = 0;; column++) {
        const char *tab = rest.length ? memchr(rest.at, '\t', rest.length) : NULL;
        const struct ind_slice part = {rest.at, tab ? (size_t)(tab - rest.at) : rest.length};
        const char *colour = heading                        ? IND_BOLD
                             : ind_severity_read(part) >= 0 ? colour_of(ind_severity_read(part))
                                                            : "";
        if (!tab || column >= IND_SCREEN_WIDTHS) {
            if (*colour)
                put_coloured(screen, colour, rest, &out);
            else
                put_text(screen, rest, &out);
            break;
        }
        if (heading)
            screen->widths[column] = usual_width(part);
        put_column(screen, column, MOST_COLUMN, colour, part, &out);
        rest = ind_slice_from(rest, part.length + 1);
    }
    ind_buffer_byte(&out, '\n');
    return ind_buffer_view(&out);
}
