#include "store/search/search_private.h"

#include "core/message/framing.h"
#include "core/message/header.h"
#include "core/route/layout_fields.h"
#include "store/search/columns.h"
#include "store/search/stamp.h"
#include <stdlib.h>

/* MOST_MARK: bytes of the marks that stand before lines; MOST_OF_ONE: of groups that a thread keeps to
 * itself.
 */
enum { MOST_MARK = 64, MOST_OF_ONE = 8 << 20 };
_Static_assert(sizeof(struct ind_once_mark) <= MOST_MARK && sizeof(struct ind_around_mark) <= MOST_MARK,
               "a mark needs more room");

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

/* A message as somebody sent it. What has no time of its own is of the time of the line before; in a file
 * whose lines tell their times, where parts are read in any order, of the time of the file. Beyond the size
 * limit it is cut, as it is when it is received. */
static void read_sent(struct ind_search_worker *worker, struct ind_slice line, struct ind_slice bytes,
                      struct ind_message *message)
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
    if (ind_search_is_self_timed(worker->stored)) {
        const ind_time stamp = ind_search_stamp_time(worker->stored, line);
        message->time = stamp != IND_TIME_NONE ? stamp : message->time;
    }
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
    read_sent(worker, line, bytes, message);
    if (worker->stored != IND_LAYOUT_RAW) /* a line that somebody put there */
        lacking(worker, lacks_of(worker, worker->stored) | lacks_of(worker, IND_STORED_UNKNOWN));
    return false;
}

/* Room for a line that is copied; one that is written needs IND_LINE_MOST. */
static bool make_line_room(struct ind_search_worker *worker, size_t length)
{
    const struct ind_search_settings *settings = worker->search->settings;
    const size_t written = settings->column_count ? ind_columns_most(settings) : IND_LINE_MOST;
    const size_t needed = (length + 1 > written ? length + 1 : written) + MOST_MARK;
    if (worker->line_room >= needed)
        return true;
    char *grown = realloc(worker->line, needed);
    worker->failed |= !grown;
    worker->line = grown ? grown : worker->line;
    worker->line_room = grown ? needed : worker->line_room;
    return grown != NULL;
}

/* Whether the line can be given as it stands: in its own layout, or as raw as it is. One that begins with a
 * time and cannot be read is, too: what it is nobody knows better. */
static bool is_as_wanted(struct ind_search_worker *worker, bool stored, struct ind_slice line)
{
    const struct ind_search_settings *settings = worker->search->settings;
    if (settings->layout == IND_LAYOUT_RAW)
        return true;
    return settings->as_stored && worker->stored == (int)settings->layout &&
           (stored ||
            (worker->stored == IND_LAYOUT_PLAIN && ind_quick_time(&worker->quick, line) != IND_TIME_NONE));
}

/* What it is put in order and asked by. */
static ind_time time_of(const struct ind_search_worker *worker, const struct ind_message *message)
{
    return worker->search->settings->by_sent && message->sent != IND_TIME_NONE ? message->sent
                                                                               : message->time;
}

static bool is_in_span(const struct ind_search_worker *worker, ind_time time)
{
    const struct ind_search_settings *settings = worker->search->settings;
    return (settings->since == IND_TIME_NONE || time >= settings->since) &&
           (settings->until == IND_TIME_NONE || time < settings->until);
}

static void add_to_run(struct ind_search_worker *worker, const struct ind_message *message, uint64_t at,
                       struct ind_slice line)
{
    const bool reverse = worker->search->settings->reverse;
    const uint32_t file = (uint32_t)worker->file;
    const struct ind_found_line found = {ind_search_key(worker->search, time_of(worker, message)),
                                         reverse ? ~at : at, reverse ? ~file : file, line};
    if (!worker->run)
        worker->run = ind_run_new();
    worker->failed |= !worker->run || !ind_run_add(worker->run, &found);
}

/* Into the run, behind the mark where messages are to be found once. `out` has room for that before what
 * was written. */
static void keep(struct ind_search_worker *worker, const struct ind_message *message, uint64_t at,
                 const struct ind_buffer *out)
{
    const struct ind_slice line = ind_buffer_view(out);
    struct ind_once_mark mark;
    if (worker->search->settings->once) {
        const struct ind_snapshot_file *stored = worker->search->settings->files[worker->file].stored;
        ind_once_mark(message, stored ? stored->route : worker->file, &mark);
        memcpy(out->at, &mark, sizeof mark);
    }
    if (worker->search->settings->context_lines)
        memcpy(out->at, &worker->mark, sizeof worker->mark);
    add_to_run(worker, message, at, line);
}

/* As it lies in the block, with its end behind it. False where it has to be copied. */
static bool keep_in_place(struct ind_search_worker *worker, const struct ind_message *message,
                          struct ind_slice line, uint64_t at)
{
    const struct ind_slice block = worker->block;
    if (worker->search->settings->once || worker->search->settings->context_lines || !block.at ||
        line.at < block.at || line.at + line.length >= block.at + block.length ||
        line.at[line.length] != '\n')
        return false;
    add_to_run(worker, message, at, (struct ind_slice){line.at, line.length + 1});
    return true;
}

/* Begins what is kept, with room for the mark. */
static struct ind_buffer begin(const struct ind_search_worker *worker)
{
    struct ind_buffer out = ind_buffer_on(worker->line, worker->line_room);
    const struct ind_search_settings *settings = worker->search->settings;
    out.length = settings->once            ? sizeof(struct ind_once_mark)
                 : settings->context_lines ? sizeof(struct ind_around_mark)
                                           : 0;
    return out;
}

/* In a run, what is measured stands between the mark and the key. */
static void count_message(struct ind_search_worker *worker, struct ind_message *message, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    message->time = time_of(worker, message); /* of which the groups are */
    struct ind_measured measured;
    if (!settings->by_count && !settings->once)
        return;
    if (!make_line_room(worker, 0))
        return;
    struct ind_buffer out = begin(worker);
    const size_t start = out.length;
    const bool measures = worker->search->measures;
    if (measures)
        ind_group_measure(settings, message, &worker->answers, &worker->by_reader, &measured);
    if (measures && settings->once)
        ind_buffer_add(&out, (const char *)&measured, sizeof measured);
    ind_group_key(settings, message, &worker->answers, &worker->by_reader, &out);
    if (settings->once)
        keep(worker, message, at, &out);
    else
        ind_groups_add(&worker->groups, ind_slice_from(ind_buffer_view(&out), start), 1,
                       measures ? &measured : NULL);
    if (worker->groups.bytes + worker->groups.distinct_room * sizeof(struct ind_distinct) > MOST_OF_ONE)
        ind_search_join_groups(worker);
}

static void keep_line(struct ind_search_worker *worker, struct ind_message *message, bool stored,
                      struct ind_slice line, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    const bool as_it_stands =
        !settings->line && !settings->column_count && is_as_wanted(worker, stored, line);
    if (as_it_stands && settings->layout != IND_LAYOUT_RAW && keep_in_place(worker, message, line, at))
        return;
    if (!make_line_room(worker, line.length))
        return;
    struct ind_buffer out = begin(worker);
    if (settings->line ? settings->line->has_field : settings->layout == IND_LAYOUT_JSON)
        message->payload = ind_answers_payload(&worker->answers, message);
    if (settings->column_count) {
        ind_columns_write(settings, message, &worker->answers, &worker->by_reader, &out);
    } else if (settings->line) {
        (void)ind_line_write_template(settings->line, message, &worker->clock, &out);
    } else if (as_it_stands) {
        if (stored && settings->layout == IND_LAYOUT_RAW)
            worker->lacks[worker->file] |= 1u << IND_FIELD_ORIGINAL;
        ind_buffer_slice(&out, line);
        ind_buffer_byte(&out, '\n');
    } else {
        (void)ind_line_write(settings->layout, message, &worker->line_clock, &out);
    }
    keep(worker, message, at, &out);
}

/* Whether the line is out of the span by its stamp alone. */
static bool is_out_of_span(const struct ind_search_worker *worker, struct ind_slice line)
{
    const struct ind_search_settings *settings = worker->search->settings;
    if (settings->by_sent || (settings->since == IND_TIME_NONE && settings->until == IND_TIME_NONE) ||
        !ind_search_is_self_timed(worker->stored))
        return false;
    const ind_time time = ind_search_stamp_time(worker->stored, line);
    return time != IND_TIME_NONE && !is_in_span(worker, time);
}

static void take_message(struct ind_search_worker *worker, struct ind_message *message, bool stored,
                         struct ind_slice line, uint64_t at)
{
    const struct ind_search_settings *settings = worker->search->settings;
    worker->found += !settings->context_lines || worker->mark.found;
    if (settings->by_count || settings->count_only)
        count_message(worker, message, at);
    else
        keep_line(worker, message, stored, line, at);
}

/* Of lines that may be given beside what is found: whether its device is one of those that are. */
static bool is_among(struct ind_search_worker *worker, const struct ind_message *message)
{
    static const struct ind_search_by by_device = {.what = IND_FIELD_DEVICE};
    char name[IND_BY_WRITTEN_MOST];
    struct ind_buffer out = ind_buffer_on(name, sizeof name);
    ind_search_by_write(&by_device, message, &worker->answers, &worker->by_reader, &out);
    worker->mark.device = ind_among_hash(ind_buffer_view(&out));
    return ind_among_has(worker->search->settings->among, worker->mark.device);
}

static bool holds(struct ind_search_worker *worker, struct ind_message *message)
{
    const struct ind_search_settings *settings = worker->search->settings;
    if (!is_in_span(worker, time_of(worker, message)))
        return false;
    if (worker->search->labels && !message->configured)
        message->configured = ind_devices_by_name(settings->config->devices, message->device);
    ind_answers_next(&worker->answers);
    const bool found = ind_condition_holds(settings->conditions, settings->when, message, &worker->answers);
    if (!settings->context_lines)
        return found;
    worker->mark.found = found;
    return is_among(worker, message);
}

/* Of lines that differ in time and text only, one is asked; all where their labels are wanted, too. */
static bool holds_by_header(struct ind_search_worker *worker, struct ind_message *message)
{
    enum { NOT_ASKED, NO, YES };
    struct ind_quick_slot *slot = worker->quick.slot;
    if (!worker->search->who_decides)
        return holds(worker, message);
    if (!is_in_span(worker, message->time))
        return false;
    if (slot->verdict == NOT_ASKED || worker->search->labels)
        slot->verdict = holds(worker, message) ? YES : NO;
    return slot->verdict == YES;
}

/* By what is known of the line without reading all of it. True where that is enough. */
static bool take_quickly(struct ind_search_worker *worker, struct ind_slice line, uint64_t at)
{
    const struct ind_search *search = worker->search;
    if (!search->header_only || worker->stored != IND_LAYOUT_PLAIN)
        return false;
    if (search->time_only) {
        struct ind_message timed = {.time = ind_quick_time(&worker->quick, line)};
        if (timed.time == IND_TIME_NONE)
            return false;
        if (is_in_span(worker, timed.time))
            take_message(worker, &timed, true, line, at);
        return true;
    }
    struct ind_message *message = ind_quick_read(&worker->quick, line);
    if (!message)
        return false;
    if (!holds_by_header(worker, message))
        return true;
    if (!search->header_is_enough)
        return false;
    take_message(worker, message, true, line, at);
    return true;
}

void ind_search_read_line(struct ind_search_worker *worker, struct ind_slice line, uint64_t at)
{
    struct ind_message message;
    if (line.length && line.at[line.length - 1] == '\r')
        line.length--;
    if (line.length == 0)
        return;
    if (take_quickly(worker, line, at) || is_out_of_span(worker, line))
        return;
    const bool stored = read_line(worker, line, &message);
    if (!ind_search_is_self_timed(worker->stored))
        worker->last_time = message.time;
    if (holds(worker, &message))
        take_message(worker, &message, stored, line, at);
}

void ind_search_note_lacking(struct ind_search_worker *worker, unsigned fields)
{
    lacking(worker, lacks_of(worker, worker->stored) | fields);
}
