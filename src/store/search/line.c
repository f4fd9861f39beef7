#include "store/search/search_private.h"

#include "core/message/framing.h"
#include "core/message/header.h"
#include "core/route/layout_fields.h"
#include <stdlib.h>

/* What the layout of a file does not hold of what is asked for. */
static unsigned lacks_of(const struct ind_search_worker *worker, int stored)
{
    int layout = stored & ~IND_STORED_OLD;
    bool of_store = worker->search->settings->files[worker->file].stored != NULL;
    if (stored == IND_STORED_UNKNOWN)
        return of_store ? ind_layout_lacks(IND_LAYOUT_RAW) : ind_foreign_line_lacks();
    return layout == IND_STORED_TEMPLATE ? ind_template_line_lacks()
                                         : ind_layout_lacks((enum ind_layout)layout);
}

static void lacking(struct ind_search_worker *worker, unsigned fields)
{
    worker->lacks[worker->file] |= fields & worker->search->fields;
}

/* A message as somebody sent it. What has no time of its own is of the time of the line before. Beyond the
 * size limit it is cut, as it is when it is received. */
static void read_sent(struct ind_search_worker *worker, struct ind_slice bytes, struct ind_message *message)
{
    const struct ind_config *config = worker->search->settings->config;
    bool cut = bytes.length > IND_MESSAGE_LIMIT;
    bytes.length = cut ? IND_MESSAGE_LIMIT : bytes.length;
    const struct ind_header_context context = {.devices = config->devices,
                                               .reference = worker->modified,
                                               .zone = config->zone,
                                               .scratch = worker->device};
    ind_header_read_with_device(&context, bytes, message);
    if (cut)
        message->malformed = IND_MALFORMED_CUT;
    message->time = message->sent != IND_TIME_NONE       ? message->sent
                    : worker->last_time != IND_TIME_NONE ? worker->last_time
                                                         : worker->modified;
}

/* True where it is a stored line of the file's layout. */
static bool read_line(struct ind_search_worker *worker, struct ind_slice line, struct ind_message *message)
{
    struct ind_slice bytes;
    if (ind_line_reader_read(worker->reader, worker->stored, line, message, &bytes)) {
        message->original = IND_NOTHING; /* no such layout holds it */
        if (message->line_cut)
            lacking(worker, ind_cut_line_lacks());
        return true;
    }
    read_sent(worker, bytes, message);
    if (worker->stored != IND_LAYOUT_RAW) /* a line that somebody put there */
        lacking(worker, lacks_of(worker, worker->stored) | lacks_of(worker, IND_STORED_UNKNOWN));
    return false;
}

/* Room for a line that is copied; one that is written needs IND_LINE_MOST. */
static bool make_line_room(struct ind_search_worker *worker, size_t length)
{
    size_t needed = (length + 1 > IND_LINE_MOST ? length + 1 : IND_LINE_MOST) + sizeof(struct ind_once_mark);
    if (worker->line_room >= needed)
        return true;
    char *grown = realloc(worker->line, needed);
    worker->failed |= !grown;
    worker->line = grown ? grown : worker->line;
    worker->line_room = grown ? needed : worker->line_room;
    return grown != NULL;
}

/* Whether the line can be given as it stands: in its own layout, or as raw as it is. */
static bool is_as_wanted(const struct ind_search_worker *worker, bool stored)
{
    int wanted = (int)worker->search->settings->layout;
    if (!worker->search->settings->as_stored && wanted != IND_LAYOUT_RAW)
        return false;
    return stored ? worker->stored == wanted || wanted == IND_LAYOUT_RAW : wanted == IND_LAYOUT_RAW;
}

/* Into the sorter, behind the mark where messages are to be found once. `out` has room for that before what
 * was written. */
static void keep(struct ind_search_worker *worker, const struct ind_message *message, uint64_t at,
                 const struct ind_buffer *out)
{
    struct ind_slice line = ind_buffer_view(out);
    struct ind_once_mark mark;
    if (worker->search->settings->once) {
        const struct ind_snapshot_file *stored = worker->search->settings->files[worker->file].stored;
        ind_once_mark(message, stored ? stored->route : worker->file, &mark);
        memcpy(out->at, &mark, sizeof mark);
    }
    struct ind_sorted_line sorted = {message->time, worker->file, at, line};
    worker->failed |= !ind_sorter_add(worker->sorter, &sorted);
}

/* Begins what is kept, with room for the mark. */
static struct ind_buffer begin(const struct ind_search_worker *worker)
{
    struct ind_buffer out = ind_buffer_on(worker->line, worker->line_room);
    out.length = worker->search->settings->once ? sizeof(struct ind_once_mark) : 0;
    return out;
}

static void count_message(struct ind_search_worker *worker, const struct ind_message *message, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    if (!make_line_room(worker, 0))
        return;
    struct ind_buffer out = begin(worker);
    size_t start = out.length;
    ind_group_key(settings, message, &worker->answers, &worker->clock, &out);
    if (settings->once)
        keep(worker, message, at, &out);
    else if (settings->by_count)
        ind_groups_add(&worker->groups, ind_slice_from(ind_buffer_view(&out), start), 1);
}

static void keep_line(struct ind_search_worker *worker, struct ind_message *message, bool stored,
                      struct ind_slice line, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    if (!make_line_room(worker, line.length))
        return;
    struct ind_buffer out = begin(worker);
    if (settings->line ? settings->line->has_field : settings->layout == IND_LAYOUT_JSON)
        message->payload = ind_answers_payload(&worker->answers, message);
    if (settings->line) {
        (void)ind_line_write_template(settings->line, message, &worker->clock, &out);
    } else if (is_as_wanted(worker, stored)) {
        if (stored && settings->layout == IND_LAYOUT_RAW)
            worker->lacks[worker->file] |= 1u << IND_FIELD_ORIGINAL;
        ind_buffer_slice(&out, line);
        ind_buffer_byte(&out, '\n');
    } else {
        (void)ind_line_write(settings->layout, message, &worker->line_clock, &out);
    }
    keep(worker, message, at, &out);
}

void ind_search_read_line(struct ind_search_worker *worker, struct ind_slice line, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    struct ind_message message;
    if (line.length && line.at[line.length - 1] == '\r')
        line.length--;
    if (line.length == 0)
        return;
    worker->lines++;
    bool stored = read_line(worker, line, &message);
    worker->last_time = message.time;
    if ((settings->since != IND_TIME_NONE && message.time < settings->since) ||
        (settings->until != IND_TIME_NONE && message.time >= settings->until))
        return;
    if (worker->search->labels && !message.configured)
        message.configured = ind_devices_by_name(settings->config->devices, message.device);
    ind_answers_next(&worker->answers);
    if (!ind_condition_holds(settings->conditions, settings->when, &message, &worker->answers))
        return;
    worker->found++;
    if (settings->by_count || settings->count_only)
        count_message(worker, &message, at);
    else
        keep_line(worker, &message, stored, line, at);
}

void ind_search_note_lacking(struct ind_search_worker *worker, unsigned fields)
{
    lacking(worker, lacks_of(worker, worker->stored) | fields);
}
