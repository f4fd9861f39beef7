#include "cli/watch_model.h"

#include "core/base/amount.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

/* ---- Texts ---- */

static void take_line(void *context, enum ind_summary_kind kind, const char *text)
{
    struct ind_watch_model *model = context;
    if (model->line_count == IND_WATCH_LINES)
        return;
    model->lines[model->line_count].kind = kind;
    snprintf(model->lines[model->line_count++].text, IND_WATCH_TEXT, "%s", text);
}

static void add(struct ind_buffer *out, const char *format, ...) __attribute__((format(printf, 2, 3)));
static void add(struct ind_buffer *out, const char *format, ...)
{
    char text[200];
    va_list values;
    va_start(values, format);
    vsnprintf(text, sizeof text, format, values);
    va_end(values);
    ind_buffer_text(out, text);
}

static void write_listeners(const json_t *status, char text[IND_WATCH_TEXT])
{
    struct ind_buffer out = ind_buffer_on(text, IND_WATCH_TEXT - 1);
    const json_t *one;
    size_t i, count = 0;
    json_array_foreach(json_object_get(status, "listeners"), i, one)
    {
        const char *at = ind_answer_text(one, "at");
        if (strcmp(ind_answer_text(one, "listener"), "internal") == 0)
            continue;
        add(&out, "%s%.80s%s", count++ ? ", " : "", *at ? at : ind_answer_text(one, "listener"),
            json_is_true(json_object_get(one, "paused")) ? " (paused)" : "");
    }
    text[out.length] = '\0';
}

/* Routes, programs, relays and alerts, as far as there are any. */
static void write_routes(const json_t *status, char text[IND_WATCH_TEXT])
{
    struct ind_buffer out = ind_buffer_on(text, IND_WATCH_TEXT - 1);
    const json_t *one, *target;
    size_t i, k, down = 0, idle = 0;
    const size_t routes = json_array_size(json_object_get(status, "routes"));
    add(&out, "%zu route%s", routes, routes == 1 ? "" : "s");
    json_array_foreach(json_object_get(status, "handed_on"), i, one)
    {
        idle += !json_is_true(json_object_get(one, "runs"));
    }
    if (json_array_size(json_object_get(status, "handed_on")))
        add(&out, ", %zu of %zu programs run", json_array_size(json_object_get(status, "handed_on")) - idle,
            json_array_size(json_object_get(status, "handed_on")));
    json_array_foreach(json_object_get(status, "relays"), i, one)
    {
        bool up = false;
        json_array_foreach(json_object_get(one, "targets"), k, target)
        {
            up |= strcmp(ind_answer_text(target, "state"), "up") == 0;
        }
        down += !up;
    }
    if (json_array_size(json_object_get(status, "relays")))
        add(&out, ", %zu of %zu relays up", json_array_size(json_object_get(status, "relays")) - down,
            json_array_size(json_object_get(status, "relays")));
    if (json_object_get(status, "alerts"))
        add(&out, ", open alerts: %llu",
            (unsigned long long)ind_answer_number(json_object_get(status, "alerts"), "open"));
    text[out.length] = '\0';
}

static void write_disk(const json_t *status, char text[IND_WATCH_TEXT])
{
    char size[2][IND_AMOUNT_WIDTH];
    const json_t *files = json_object_get(status, "files"), *days = json_object_get(files, "full_in_days");
    snprintf(text, IND_WATCH_TEXT, "%s free of %s",
             ind_size_text(ind_answer_number(files, "disk_bytes_free"), size[0]),
             ind_size_text(ind_answer_number(files, "disk_bytes"), size[1]));
    if (json_is_number(days) && json_number_value(days) < 3650)
        snprintf(text + strlen(text), IND_WATCH_TEXT - strlen(text), ", full in %.1f days",
                 json_number_value(days));
}

/* ---- Devices ---- */

static struct ind_watched_device *device_of(struct ind_watch_model *model, const char *name)
{
    struct ind_watched_device *device = NULL;
    const size_t length = strlen(name);
    HASH_FIND(hh, model->devices, name, (unsigned)length, device);
    if (device)
        return device;
    device = calloc(1, sizeof *device + length + 1);
    if (!device)
        return NULL;
    memcpy(device->name, name, length);
    device->last = IND_TIME_NONE;
    HASH_ADD_KEYPTR(hh, model->devices, device->name, length, device);
    if (!device->hh.tbl) {
        free(device);
        return NULL;
    }
    return device;
}

/* A collector that has begun anew counts from nothing. */
static double rate_of(uint64_t now, uint64_t before, int64_t span)
{
    return span > 0 && now >= before ? (double)(now - before) * (double)IND_SECOND / (double)span : 0;
}

static void take_device(struct ind_watch_model *model, const json_t *one, int64_t span)
{
    struct ind_watched_device *device = device_of(model, ind_answer_text(one, "device"));
    if (!device)
        return;
    const uint64_t received = ind_answer_number(one, "received");
    device->rate = rate_of(received, device->received, span);
    device->received = received;
    device->lost = ind_status_lost(one);
    device->last = ind_answer_time(one, "last");
    device->is_here = true;
    device->trouble[0] = '\0';
    if (device->lost)
        snprintf(device->trouble, sizeof device->trouble, "%llu lost", (unsigned long long)device->lost);
    else if (ind_status_has_wrong_clock(one))
        snprintf(device->trouble, sizeof device->trouble, "clock %s", ind_answer_text(one, "clock"));
}

static void take_silent(struct ind_watch_model *model, const json_t *one)
{
    struct ind_watched_device *device = device_of(model, ind_answer_text(one, "device"));
    if (!device)
        return;
    device->is_here = true;
    if (!device->trouble[0])
        snprintf(device->trouble, sizeof device->trouble, "silent");
}

static void forget_gone(struct ind_watch_model *model)
{
    struct ind_watched_device *device, *next;
    HASH_ITER(hh, model->devices, device, next)
    {
        if (device->is_here)
            continue;
        HASH_DEL(model->devices, device);
        free(device);
    }
}

static void take_devices(struct ind_watch_model *model, const json_t *status, int64_t span)
{
    struct ind_watched_device *device, *next;
    const json_t *one;
    size_t i;
    HASH_ITER(hh, model->devices, device, next)
    {
        device->is_here = false;
    }
    json_array_foreach(json_object_get(status, "devices"), i, one) take_device(model, one, span);
    json_array_foreach(json_object_get(status, "silent_devices"), i, one) take_silent(model, one);
    model->device_count = 0; /* the list may hold one that is forgotten */
    forget_gone(model);
}

/* ---- An answer ---- */

static void take_rates(struct ind_watch_model *model, const json_t *status, int64_t span)
{
    const json_t *ledger = json_object_get(status, "ledger"), *one;
    const uint64_t received = ind_answer_number(ledger, "received");
    size_t i;
    if (span > 0) {
        model->rate = rate_of(received, model->received, span);
        if (model->rate_count == IND_WATCH_RATES)
            memmove(model->rates, model->rates + 1, --model->rate_count * sizeof *model->rates);
        model->rates[model->rate_count++] = model->rate;
    }
    model->received = received;
    model->lost = ind_status_lost(ledger);
    model->minute_count = 0;
    json_array_foreach(json_object_get(status, "rates"), i, one)
    {
        if (model->minute_count < 3)
            model->minutes[model->minute_count++] = json_number_value(json_object_get(one, "messages"));
    }
}

void ind_watch_take_status(struct ind_watch_model *model, const json_t *status, int64_t steady)
{
    model->running = status != NULL;
    if (!status)
        return;
    const int64_t span = model->answered ? steady : 0;
    model->answered = true;
    model->now = ind_answer_time(status, "now");
    model->line_count = 0;
    ind_status_summary(status, take_line, model);
    if (!json_object_get(status, "ledger"))
        return; /* the writer cannot be asked just now: that is among the lines */
    take_rates(model, status, span);
    write_listeners(status, model->listeners);
    write_routes(status, model->routes);
    write_disk(status, model->disk);
    take_devices(model, status, span);
}

/* ---- Messages ---- */

static struct ind_slice next_part(struct ind_slice *rest)
{
    const char *tab = rest->length ? memchr(rest->at, '\t', rest->length) : NULL;
    const struct ind_slice part = {rest->at, tab ? (size_t)(tab - rest->at) : rest->length};
    *rest = ind_slice_from(*rest, part.length + (tab != NULL));
    return part;
}

static void copy(char *text, size_t room, struct ind_slice part)
{
    snprintf(text, room, "%.*s", IND_ARG(ind_slice_begin(part, room - 1)));
}

void ind_watch_take_message(struct ind_watch_model *model, struct ind_slice line)
{
    struct ind_watched_message *message = &model->messages[model->next_message];
    const struct ind_slice time = next_part(&line), severity = next_part(&line), device = next_part(&line);
    copy(message->time, 9, time.length > 19 ? ind_slice_from(time, 11) : time);
    copy(message->severity, sizeof message->severity, severity);
    copy(message->device, sizeof message->device, device);
    copy(message->text, sizeof message->text, line);
    model->next_message = (model->next_message + 1) % IND_WATCH_MESSAGES;
    model->message_count += model->message_count < IND_WATCH_MESSAGES;
}

/* ---- Order ---- */

static int by_name(const struct ind_watched_device *a, const struct ind_watched_device *b)
{
    return strcmp(a->name, b->name);
}

static int by_rate(const struct ind_watched_device *a, const struct ind_watched_device *b)
{
    return a->rate < b->rate ? 1 : a->rate > b->rate ? -1 : by_name(a, b);
}

static int by_messages(const struct ind_watched_device *a, const struct ind_watched_device *b)
{
    return a->received < b->received ? 1 : a->received > b->received ? -1 : by_name(a, b);
}

static int by_trouble(const struct ind_watched_device *a, const struct ind_watched_device *b)
{
    if (!a->trouble[0] != !b->trouble[0])
        return a->trouble[0] ? -1 : 1;
    if (a->lost != b->lost)
        return a->lost < b->lost ? 1 : -1;
    return by_rate(a, b);
}

#define COMPARE(name, by)                                                                                    \
    static int name(const void *a, const void *b)                                                            \
    {                                                                                                        \
        return by(*(struct ind_watched_device *const *)a, *(struct ind_watched_device *const *)b);           \
    }
COMPARE(compare_by_trouble, by_trouble)
COMPARE(compare_by_rate, by_rate)
COMPARE(compare_by_messages, by_messages)
COMPARE(compare_by_name, by_name)

size_t ind_watch_order(struct ind_watch_model *model, enum ind_watch_order order, const char *name)
{
    static int (*const orders[])(const void *, const void *) = {[IND_WATCH_BY_TROUBLE] = compare_by_trouble,
                                                                [IND_WATCH_BY_RATE] = compare_by_rate,
                                                                [IND_WATCH_BY_MESSAGES] = compare_by_messages,
                                                                [IND_WATCH_BY_NAME] = compare_by_name};
    struct ind_watched_device *device, *next;
    const size_t all = HASH_COUNT(model->devices);
    struct ind_watched_device **list = realloc(model->list, (all + 1) * sizeof(struct ind_watched_device *));
    model->device_count = 0;
    if (!list)
        return 0;
    model->list = list;
    HASH_ITER(hh, model->devices, device, next)
    {
        if (!name || !*name || strstr(device->name, name))
            list[model->device_count++] = device;
    }
    qsort(list, model->device_count, sizeof *list, orders[order]);
    return model->device_count;
}

void ind_watch_model_free(struct ind_watch_model *model)
{
    struct ind_watched_device *device, *next;
    HASH_ITER(hh, model->devices, device, next)
    {
        HASH_DEL(model->devices, device);
        free(device);
    }
    free(model->list);
    model->list = NULL;
}
