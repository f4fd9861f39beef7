#include "cli/watch_view.h"

#include "core/base/amount.h"
#include "core/ledger/clock_offset.h"
#include "core/message/names.h"

#include <string.h>

/* Columns of devices, and of messages. */
enum {
    RATE = 10,
    MESSAGES = 13,
    SEVERE = 9,
    LAST = 12,
    NAME_LEAST = 26,
    TIME = 9,
    SEVERITY = 10,
    DEVICE = 18
};
enum { MOST_LINES = 3, LEAST_WIDTH = 40, LEAST_HEIGHT = 10 };

static const char *const orders[] = {"trouble", "rate", "messages", "name"};

/* ---- Numbers ---- */

static const char *rate_text(double rate, char text[IND_AMOUNT_WIDTH])
{
    if (rate >= 100)
        return ind_number_text((uint64_t)(rate + 0.5), true, text);
    snprintf(text, IND_AMOUNT_WIDTH, "%.1f", rate);
    return text;
}

static const char *ago_text(ind_time now, ind_time last, char text[40])
{
    if (last == IND_TIME_NONE) {
        snprintf(text, 40, "-");
        return text;
    }
    const int64_t span = now - last;
    struct ind_buffer out = ind_buffer_on(text, 39);
    ind_span_write(&out, (uint64_t)(span < 0 ? 0 : span / IND_SECOND));
    text[out.length] = '\0';
    return text;
}

/* ---- The head ---- */

static enum ind_look look_of(enum ind_summary_kind kind)
{
    static const enum ind_look looks[] = {[IND_SUMMARY_WELL] = IND_LOOK_GOOD,
                                          [IND_SUMMARY_BAD] = IND_LOOK_BAD,
                                          [IND_SUMMARY_ALERTS] = IND_LOOK_BAD,
                                          [IND_SUMMARY_LOOK] = IND_LOOK_CARE};
    return looks[kind];
}

static size_t draw_state(const struct ind_watch_model *model, const struct ind_watch_view *view,
                         struct ind_frame *frame)
{
    static const char *const words[] = {[IND_SUMMARY_WELL] = "",
                                        [IND_SUMMARY_BAD] = "Not well: ",
                                        [IND_SUMMARY_ALERTS] = "Look at: ",
                                        [IND_SUMMARY_LOOK] = "Look at: "};
    char time[40];
    struct ind_buffer out = ind_buffer_on(time, sizeof time - 1);
    size_t row = 0;
    ind_time_write(&out, model->now);
    time[out.length > 19 ? 19 : out.length] = '\0'; /* of the clock the hours only, by UTC */
    if (!model->answered) {
        (void)ind_frame_put(frame, row++, 0, 0, IND_LOOK_BAD,
                            "No collector is running here; it is waited for");
        return row;
    }
    if (!model->running)
        (void)ind_frame_put(frame, row++, 0, 0, IND_LOOK_BAD,
                            "The collector does not answer; what stands here is of before");
    for (size_t i = 0; i < model->line_count && row < MOST_LINES; i++, row++) {
        const enum ind_summary_kind kind = model->lines[i].kind;
        const size_t end = row == 0 ? frame->width - 10 : 0;
        const size_t column = ind_frame_put(frame, row, 0, end, look_of(kind), words[kind]);
        (void)ind_frame_put(frame, row, column, end, look_of(kind), model->lines[i].text);
    }
    ind_frame_put_right(frame, 0, frame->width, IND_LOOK_DIM,
                        view->paused      ? "paused"
                        : out.length > 19 ? time + 11
                                          : "");
    return row;
}

/* One character a second, the newest at the right. */
static void draw_curve(const struct ind_watch_model *model, struct ind_frame *frame, size_t row, size_t from)
{
    static const wchar_t blocks[] = L"\u2581\u2582\u2583\u2584\u2585\u2586\u2587\u2588",
                         plain[] = L"__..::||";
    const size_t room = frame->width > from ? frame->width - from : 0;
    const size_t count = model->rate_count < room ? model->rate_count : room;
    const double *rates = model->rates + model->rate_count - count;
    double most = 1;
    for (size_t i = 0; i < count; i++)
        most = rates[i] > most ? rates[i] : most;
    for (size_t i = 0; i < count && row < frame->height; i++) {
        const size_t height = (size_t)(rates[i] / most * 7.999);
        frame->cells[row * frame->width + frame->width - count + i] = (struct ind_frame_cell){
            .character = rates[i] > 0 ? (frame->wide ? blocks : plain)[height] : L' ', .look = IND_LOOK_GOOD};
    }
}

static size_t draw_rates(const struct ind_watch_model *model, struct ind_frame *frame, size_t row)
{
    char text[200], number[3][IND_AMOUNT_WIDTH];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    ind_buffer_text(&out, rate_text(model->rate, number[0]));
    ind_buffer_text(&out, " messages/s");
    if (model->minute_count > 1) {
        ind_buffer_text(&out, ", in 5 min ");
        ind_buffer_text(&out, rate_text(model->minutes[1], number[1]));
    }
    if (model->lost) {
        ind_buffer_text(&out, ", lost ");
        ind_buffer_text(&out, ind_number_text(model->lost, true, number[2]));
    }
    text[out.length] = '\0';
    const size_t end = ind_frame_put(frame, row, 0, 0, model->lost ? IND_LOOK_BAD : IND_LOOK_PLAIN, text);
    draw_curve(model, frame, row, end + 2);
    return row + 1;
}

static size_t draw_named(struct ind_frame *frame, size_t row, const char *name, const char *text)
{
    const size_t column = ind_frame_put(frame, row, 0, 0, IND_LOOK_DIM, name);
    (void)ind_frame_put(frame, row, column + 1, 0, IND_LOOK_PLAIN, text);
    return row + 1;
}

/* ---- Devices ---- */

static void draw_device(const struct ind_watch_model *model, struct ind_frame *frame, size_t row,
                        size_t name_end, const struct ind_watched_device *device)
{
    char number[IND_AMOUNT_WIDTH], ago[40];
    const enum ind_look look = device->lost         ? IND_LOOK_BAD
                               : device->trouble[0] ? IND_LOOK_CARE
                                                    : IND_LOOK_PLAIN;
    size_t column = name_end;
    (void)ind_frame_put(frame, row, 0, name_end - 1, look, device->name);
    ind_frame_put_right(frame, row, column += RATE, IND_LOOK_PLAIN, rate_text(device->rate, number));
    ind_frame_put_right(frame, row, column += MESSAGES, IND_LOOK_PLAIN,
                        ind_number_text(device->received, true, number));
    ind_frame_put_right(frame, row, column += LAST, IND_LOOK_PLAIN, ago_text(model->now, device->last, ago));
    (void)ind_frame_put(frame, row, column + 2, 0, look, device->trouble);
}

/* As wide as they are, as far as there is room, with a blank behind. */
static size_t name_width(const struct ind_watch_model *model, size_t room)
{
    size_t width = NAME_LEAST;
    for (size_t i = 0; i < model->device_count; i++) {
        const size_t length = strlen(model->list[i]->name) + 1;
        width = length > width ? length : width;
    }
    return width < room ? width : room > NAME_LEAST ? room : NAME_LEAST;
}

static size_t draw_devices(struct ind_watch_model *model, struct ind_watch_view *view,
                           struct ind_frame *frame, size_t row, size_t rows)
{
    char head[200];
    const size_t fixed = RATE + MESSAGES + LAST;
    const size_t count = ind_watch_order(model, view->order, view->device);
    const size_t name_end = name_width(model, frame->width > fixed + 24 ? frame->width - fixed - 24 : 0);
    view->first = view->first >= count ? (count ? count - 1 : 0) : view->first;
    snprintf(head, sizeof head, "Devices (%zu) by %s", count, orders[view->order]);
    ind_frame_colour_row(frame, row, IND_LOOK_HEAD);
    (void)ind_frame_put(frame, row, 0, name_end - 1, IND_LOOK_HEAD, head);
    ind_frame_put_right(frame, row, name_end + RATE, IND_LOOK_HEAD, "a second");
    ind_frame_put_right(frame, row, name_end + RATE + MESSAGES, IND_LOOK_HEAD, "messages");
    ind_frame_put_right(frame, row, name_end + fixed, IND_LOOK_HEAD, "heard");
    if (view->device[0]) {
        snprintf(head, sizeof head, "with %s", view->device);
        (void)ind_frame_put(frame, row, name_end + fixed + 2, 0, IND_LOOK_HEAD, head);
    }
    for (size_t i = 0; i + 1 < rows && view->first + i < count; i++)
        draw_device(model, frame, row + 1 + i, name_end, model->list[view->first + i]);
    return row + rows;
}

/* ---- Messages ---- */

static bool is_wanted(const struct ind_watch_view *view, const struct ind_watched_message *message)
{
    return !view->device[0] || strstr(message->device, view->device) != NULL;
}

static void draw_message(struct ind_frame *frame, size_t row, const struct ind_watched_message *message)
{
    const int severity = ind_severity_read(ind_slice_of(message->severity));
    const enum ind_look look = severity >= 0 && severity <= IND_SEVERITY_ERROR ? IND_LOOK_BAD
                               : severity == IND_SEVERITY_WARNING              ? IND_LOOK_CARE
                                                                               : IND_LOOK_PLAIN;
    (void)ind_frame_put(frame, row, 0, TIME, IND_LOOK_DIM, message->time);
    (void)ind_frame_put(frame, row, TIME, TIME + SEVERITY - 1, look, message->severity);
    (void)ind_frame_put(frame, row, TIME + SEVERITY, TIME + SEVERITY + DEVICE - 1, IND_LOOK_PLAIN,
                        message->device);
    (void)ind_frame_put(frame, row, TIME + SEVERITY + DEVICE, 0, look, message->text);
}

/* The newest at the end. */
static void draw_messages(const struct ind_watch_model *model, const struct ind_watch_view *view,
                          struct ind_frame *frame, size_t row, size_t rows)
{
    char head[700];
    char skipped[60] = "", number[IND_AMOUNT_WIDTH];
    if (model->skipped)
        snprintf(skipped, sizeof skipped, " (%s came too fast to be shown)",
                 ind_number_text(model->skipped, true, number));
    snprintf(head, sizeof head, "Messages: severity at least %s%s%s%s", ind_severity_name(view->severity).at,
             view->when[0] ? " and " : "", view->when, skipped);
    ind_frame_colour_row(frame, row, IND_LOOK_HEAD);
    (void)ind_frame_put(frame, row, 0, 0, IND_LOOK_HEAD, head);
    size_t place = rows; /* from the end on */
    for (size_t i = 0; i < model->message_count && place > 1; i++) {
        const size_t at = (model->next_message + IND_WATCH_MESSAGES - 1 - i) % IND_WATCH_MESSAGES;
        if (is_wanted(view, &model->messages[at]))
            draw_message(frame, row + --place, &model->messages[at]);
    }
}

/* ---- The whole ---- */

static void draw_help(struct ind_frame *frame)
{
    static const char *const lines[] = {
        "s        devices in order of trouble, rate, messages or name",
        "d        only devices whose names hold a text, and their messages",
        "f        only messages for which a condition holds (docs/conditions.md)",
        "v        messages of what severity",
        "up down  the list of devices, by lines; page up, page down",
        "space    stand still, and go on",
        "?        this help; any key ends it",
        "q        end"};
    const size_t count = sizeof lines / sizeof *lines;
    for (size_t i = 0; i < count + 2 && 3 + i < frame->height; i++) {
        for (size_t c = 2; c < frame->width && c < 78; c++)
            frame->cells[(3 + i) * frame->width + c] =
                (struct ind_frame_cell){.character = L' ', .look = IND_LOOK_HEAD};
        if (i > 0 && i <= count)
            (void)ind_frame_put(frame, 3 + i, 4, 77, IND_LOOK_HEAD, lines[i - 1]);
    }
}

static void draw_foot(const struct ind_watch_view *view, struct ind_frame *frame)
{
    const size_t row = frame->height - 1;
    if (view->asking) {
        const size_t column = ind_frame_put(frame, row, 0, 0, IND_LOOK_CARE, view->asking);
        const size_t end = ind_frame_put(frame, row, column + 1, 0, IND_LOOK_PLAIN, view->typed);
        (void)ind_frame_put(frame, row, end, 0, IND_LOOK_PLAIN, "_");
    } else if (view->said[0]) {
        (void)ind_frame_put(frame, row, 0, 0, IND_LOOK_CARE, view->said);
    } else {
        (void)ind_frame_put(frame, row, 0, 0, IND_LOOK_DIM,
                            "s order  d device  f filter  v severity  space pause  ? help  q end");
    }
}

void ind_watch_draw(struct ind_watch_model *model, struct ind_watch_view *view, struct ind_frame *frame)
{
    if (frame->width < LEAST_WIDTH || frame->height < LEAST_HEIGHT) {
        (void)ind_frame_put(frame, 0, 0, 0, IND_LOOK_PLAIN, "The window is too small");
        return;
    }
    size_t row = draw_state(model, view, frame);
    if (model->answered) {
        row = draw_rates(model, frame, row);
        row = draw_named(frame, row, "Listens:", model->listeners);
        row = draw_named(frame, row, "Stores:", model->routes);
        if (frame->height >= 20)
            row = draw_named(frame, row, "Disk:", model->disk);
    }
    const size_t left = frame->height - row - 1, of_devices = left / 2;
    row = draw_devices(model, view, frame, row, of_devices);
    draw_messages(model, view, frame, row, left - of_devices);
    draw_foot(view, frame);
    if (view->help)
        draw_help(frame);
}
