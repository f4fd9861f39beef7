#include "store/search/known.h"

#include "core/condition/condition.h"
#include "core/message/device.h"
#include <stdlib.h>
#include <string.h>

#define HOUR (3600 * (ind_time)IND_SECOND)

struct ind_known {
    const struct ind_search_settings *settings;
    const char *why_not; /* it does not count */
    unsigned fields;     /* that tell messages apart: of the condition and of the groups */
    bool decided;        /* the condition is, by what counts tell */
    struct ind_answers answers;
    struct ind_by_reader reader;
    struct ind_groups groups;
    uint64_t found;
    char key[IND_GROUP_KEY_MOST];
};

enum {
    TOLD =
        1u << IND_FIELD_FACILITY | 1u << IND_FIELD_SEVERITY | 1u << IND_FIELD_DEVICE | 1u << IND_FIELD_LABEL
};

static const char *why_not(const struct ind_search_settings *settings, unsigned condition)
{
    if (!settings->by_count && !settings->count_only)
        return "lines are asked for";
    if (settings->once)
        return "a message that several routes stored is to be counted once (--copies counts each)";
    if (settings->by_sent)
        return "the time that the device claims is asked for";
    if (condition & ~(unsigned)TOLD)
        return "the condition asks for more than device, label, facility and severity";
    for (size_t i = 0; i < settings->by_count; i++) {
        const unsigned what = settings->by[i].what;
        const bool told = what < IND_FIELDS ? (TOLD >> what & 1) != 0 && !settings->by[i].network
                                            : ind_search_by_hours(&settings->by[i]);
        if (!told)
            return "groups are told apart by more than device, label, facility, severity and whole hours";
    }
    return settings->sum.what != IND_BY_NOTHING || settings->distinct.what != IND_BY_NOTHING
               ? "values of a field are asked for"
               : NULL;
}

struct ind_known *ind_known_new(const struct ind_search_settings *settings)
{
    struct ind_known *known = calloc(1, sizeof *known);
    if (!known)
        return NULL;
    const unsigned condition = ind_condition_fields(settings->conditions, settings->when);
    known->settings = settings;
    known->why_not = why_not(settings, condition);
    known->fields = condition;
    for (size_t i = 0; i < settings->by_count; i++)
        if (settings->by[i].what < IND_FIELDS)
            known->fields |= 1u << settings->by[i].what;
    if (!known->why_not && ind_search_lost_in_edits(settings->config) & known->fields)
        known->why_not = "edits give such labels";
    known->decided =
        !(condition & ~(unsigned)TOLD) && !(ind_search_lost_in_edits(settings->config) & condition);
    known->reader.zone = settings->zone;
    if (!ind_answers_begin(&known->answers, settings->conditions)) {
        ind_known_free(known);
        return NULL;
    }
    return known;
}

void ind_known_free(struct ind_known *known)
{
    if (!known)
        return;
    ind_answers_free(&known->answers);
    ind_groups_free(&known->groups);
    ind_by_reader_free(&known->reader);
    free(known);
}

const char *ind_known_why_not(const struct ind_known *known)
{
    return known->why_not;
}

uint64_t ind_known_found(const struct ind_known *known)
{
    return known->found;
}

struct ind_groups *ind_known_groups(struct ind_known *known)
{
    return &known->groups;
}

/* ---- A row: messages of one hour, device and PRI ---- */

struct row {
    const struct ind_known *known;
    struct ind_message message; /* such as they are */
    bool pri, device;           /* are known */
};

static enum ind_verdict ask_row(void *context, const struct ind_asked *asked)
{
    const struct row *row = context;
    if (asked->field == IND_FIELD_FACILITY && row->pri)
        return asked->numbers >> row->message.facility & 1 ? IND_YES : IND_NO;
    if (asked->field == IND_FIELD_SEVERITY && row->pri)
        return asked->numbers >> row->message.severity & 1 ? IND_YES : IND_NO;
    if (asked->field == IND_FIELD_DEVICE && row->device && asked->op < IND_ASKED_NEEDS && asked->count)
        return ind_asked_fits(row->known->settings->conditions, asked, row->message.device) ? IND_YES
                                                                                            : IND_NO;
    return IND_OPEN;
}

static enum ind_verdict verdict_of(struct ind_known *known, const struct row *row)
{
    const struct ind_search_settings *settings = known->settings;
    const unsigned of_device = 1u << IND_FIELD_DEVICE | 1u << IND_FIELD_LABEL;
    if (known->decided && row->pri && (row->device || !(known->fields & of_device))) {
        ind_answers_next(&known->answers);
        return ind_condition_holds(settings->conditions, settings->when, &row->message, &known->answers)
                   ? IND_YES
                   : IND_NO;
    }
    return ind_condition_of_many(settings->conditions, settings->when, ask_row, (void *)row);
}

/* How much of the hour is within the span. */
static enum ind_verdict span_of(const struct ind_search_settings *settings, int64_t hour)
{
    const ind_time begin = hour == IND_HOUR_UNKNOWN ? 0 : hour * HOUR;
    if (settings->since == IND_TIME_NONE && settings->until == IND_TIME_NONE)
        return IND_YES;
    if (hour == IND_HOUR_UNKNOWN || settings->by_sent)
        return IND_OPEN;
    if ((settings->since != IND_TIME_NONE && begin + HOUR <= settings->since) ||
        (settings->until != IND_TIME_NONE && begin >= settings->until))
        return IND_NO;
    return (settings->since == IND_TIME_NONE || begin >= settings->since) &&
                   (settings->until == IND_TIME_NONE || begin + HOUR <= settings->until)
               ? IND_YES
               : IND_OPEN;
}

/* Whether all of an hour is in one hour of the zone. */
static bool is_hour_there(const struct ind_search_settings *settings, int64_t hour)
{
    struct ind_civil begin, end;
    bool asked = false;
    for (size_t i = 0; i < settings->by_count; i++)
        asked |= ind_search_by_is_time(&settings->by[i]);
    if (!asked)
        return true;
    if (hour == IND_HOUR_UNKNOWN)
        return false;
    ind_zone_civil(settings->zone, hour * HOUR, &begin);
    ind_zone_civil(settings->zone, hour * HOUR + HOUR - IND_SECOND, &end);
    return begin.minute == 0 && begin.second == 0 && end.hour == begin.hour && end.minute == 59;
}

static void read_row(struct ind_known *known, const struct ind_volume *volume, struct ind_slice device,
                     struct row *row)
{
    *row = (struct row){.known = known,
                        .pri = volume->pri < IND_VOLUME_PRIS,
                        .device = volume->device >= IND_DEVICE_FIRST && device.length > 0};
    row->message.time = volume->hour == IND_HOUR_UNKNOWN ? IND_TIME_NONE : volume->hour * HOUR;
    row->message.facility = (uint8_t)(row->pri ? volume->pri / 8 : 0);
    row->message.severity = (uint8_t)(row->pri ? volume->pri % 8 : 0);
    row->message.device = device;
    if (known->fields >> IND_FIELD_LABEL & 1)
        row->message.configured = ind_devices_by_name(known->settings->config->devices, device);
}

/* Whether the messages of a row can be counted without being read. */
static bool is_countable(const struct ind_known *known, const struct row *row,
                         const struct ind_volume *volume)
{
    const unsigned of_device = 1u << IND_FIELD_DEVICE | 1u << IND_FIELD_LABEL,
                   of_pri = 1u << IND_FIELD_FACILITY | 1u << IND_FIELD_SEVERITY;
    return !known->why_not && (row->device || !(known->fields & of_device)) &&
           (row->pri || !(known->fields & of_pri)) && is_hour_there(known->settings, volume->hour);
}

static void count_row(struct ind_known *known, struct row *row, uint64_t messages)
{
    struct ind_buffer key = ind_buffer_on(known->key, sizeof known->key);
    known->found += messages;
    if (!known->settings->by_count)
        return;
    ind_answers_next(&known->answers);
    ind_group_key(known->settings, &row->message, &known->answers, &known->reader, &key);
    ind_groups_add(&known->groups, ind_buffer_view(&key), messages, NULL);
}

enum ind_verdict ind_known_row(struct ind_known *known, const struct ind_volume *volume,
                               struct ind_slice device)
{
    struct row row;
    read_row(known, volume, device, &row);
    const enum ind_verdict verdict = verdict_of(known, &row);
    return verdict == IND_YES && !is_countable(known, &row, volume) ? IND_OPEN : verdict;
}

/* ---- A file ---- */

struct going {
    struct ind_known *known;
    struct ind_slice (*name)(const void *context, uint32_t device);
    const void *context;
    bool counts; /* all that holds is counted */
    bool in_span, not_by_pri, any, not_known;
};

/* False once it is clear that the file has to be read. */
static bool take(void *context, const struct ind_volume *volume)
{
    struct going *going = context;
    struct ind_known *known = going->known;
    struct row row;
    const enum ind_verdict span = span_of(known->settings, volume->hour);
    if (span == IND_NO)
        return true;
    going->in_span = true;
    read_row(known, volume, going->name(going->context, volume->device), &row);
    const enum ind_verdict verdict = verdict_of(known, &row);
    if (verdict == IND_NO) {
        going->not_by_pri |=
            !row.pri || ind_condition_by_pri(known->settings->conditions, known->settings->when,
                                             row.message.facility, row.message.severity) != IND_NO;
        return true;
    }
    going->not_known = span != IND_YES || verdict != IND_YES || !is_countable(known, &row, volume);
    going->any = true;
    if (going->counts)
        count_row(known, &row, volume->messages);
    return !going->not_known;
}

enum ind_known_file ind_known_ask(struct ind_known *known, struct ind_slice packed,
                                  struct ind_slice (*name)(const void *, uint32_t), const void *context)
{
    struct going going = {.known = known, .name = name, .context = context};
    if (ind_volumes_are_folded(packed) || !ind_volumes_each(packed, take, &going) || going.not_known)
        return IND_KNOWN_NOT;
    if (!going.any)
        return !going.in_span      ? IND_KNOWN_OUT_BY_TIME
               : !going.not_by_pri ? IND_KNOWN_OUT_BY_PRI
                                   : IND_KNOWN_OUT_BY_DEVICE;
    going.counts = true;
    (void)ind_volumes_each(packed, take, &going);
    return IND_KNOWN_COUNTED;
}

/* ---- Files ---- */

static int compare(const void *key, const void *element)
{
    const struct ind_search_file *file = element;
    return strcmp(key, file->name);
}

struct ind_search_file *ind_search_archive(struct ind_search_file *files, size_t count, const char *archive)
{
    size_t archives = 0;
    for (size_t low = 0, high = count; low < high;) {
        const size_t middle = (low + high) / 2;
        if (files[middle].stored->file < 0)
            archives = low = middle + 1;
        else
            high = middle;
    }
    return archives ? bsearch(archive, files, archives, sizeof *files, compare) : NULL;
}
