#include "core/edit/edit_private.h"

#include "core/message/names.h"
#include "core/message/stamp.h"
#include "core/message/structured_data.h"
#include <stdlib.h>

static const char *const place_names[IND_IN_PLACES] = {
    "text", "data", "app", "procid", "msgid", "host", "facility", "severity", "label", "field", "time"};

const char *ind_place_name(enum ind_place_in_message place)
{
    return place_names[place];
}

bool ind_edits_compile(struct ind_edits *edits, const struct ind_conditions *set)
{
    edits->set = set;
    if (edits->count > 0)
        edits->router = ind_router_new(set, edits->rules, edits->count);
    return edits->count == 0 || edits->router;
}

/* What no edit changes keeps its PRI through all of them, so each is asked on its own. */
void ind_edits_pris(const struct ind_edits *edits, struct ind_pris *pris)
{
    for (size_t i = 0; i < edits->count; i++) {
        const struct ind_edit *edit = &edits->list[i];
        bool changes = false;
        for (size_t j = 0; j < edit->change_count; j++)
            changes |= edit->changes[j].in == IND_IN_FACILITY || edit->changes[j].in == IND_IN_SEVERITY;
        if (changes)
            ind_condition_pris(edits->set, edits->rules[i].when, pris);
    }
}

struct ind_editor *ind_editor_new(const struct ind_edits *edits)
{
    struct ind_editor *editor = calloc(1, sizeof *editor);
    if (!editor)
        return NULL;
    editor->clock.zone = edits->default_zone;
    bool good = ind_masker_begin(&editor->masker);
    editor->passed = calloc(edits->count + 1, sizeof *editor->passed);
    editor->changed = calloc(edits->count + 1, sizeof *editor->changed);
    editor->room =
        malloc((size_t)2 * IND_IN_TEXTS * IND_EDIT_ROOM); /* what nothing is written to takes no memory */
    editor->original = malloc((size_t)2 * IND_EDIT_ORIGINAL_ROOM);
    editor->added = ind_buffer_on(malloc(IND_EDIT_ADDED_ROOM), IND_EDIT_ADDED_ROOM);
    if (good && editor->passed && editor->changed && editor->room && editor->original && editor->added.at)
        return editor;
    ind_editor_free(editor);
    return NULL;
}

void ind_editor_free(struct ind_editor *editor)
{
    if (!editor)
        return;
    ind_masker_end(&editor->masker);
    free(editor->passed);
    free(editor->changed);
    free(editor->room);
    free(editor->original);
    free(editor->added.at);
    free(editor);
}

const uint32_t *ind_editor_changed(const struct ind_editor *editor, size_t *count)
{
    *count = editor->changed_count;
    return editor->changed;
}

uint64_t ind_editor_gave_up(const struct ind_editor *editor)
{
    return editor->masker.gave_up;
}

/* ---- The kinds of edits ---- */

/* A device that is no configured one is what it calls itself, in small letters. */
static void name_device(struct ind_editor *editor, struct ind_message *message, struct ind_slice name)
{
    name.length = name.length < sizeof editor->device ? name.length : sizeof editor->device;
    ind_lower_all(editor->device, name);
    message->device = (struct ind_slice){editor->device, name.length};
}

/* What edits above took from a text and gave to labels and fields. */
static void mask_additions(struct ind_edit_run *run, const struct ind_edit *edit)
{
    struct ind_editor *editor = run->editor;
    for (size_t i = 0; i < editor->additions.count; i++) {
        struct ind_addition *addition = &editor->additions.list[i];
        size_t start = editor->added.length;
        struct ind_buffer out = ind_buffer_on(editor->added.at + start, editor->added.capacity - start);
        if (addition->value.length == 0 ||
            !ind_mask_write(edit, IND_IN_TEXT, addition->value, &editor->masker, &out))
            continue;
        addition->value = ind_buffer_view(&out);
        editor->added.length += out.length;
        ind_edit_changed(run, addition->kind == IND_ADDED_LABEL ? IND_IN_LABEL : IND_IN_FIELD, addition->name,
                         IND_NOTHING, addition->value, out.full ? 0 : editor->masker.spans.count);
    }
}

static void mask(struct ind_edit_run *run, const struct ind_edit *edit)
{
    struct ind_message *message = run->message;
    for (unsigned in = 0; in < IND_IN_TEXTS; in++) {
        struct ind_slice text = *ind_edit_text_of(message, in);
        struct ind_buffer out = ind_edit_room(run, in);
        if (text.length == 0 || !ind_mask_write(edit, in, text, &run->editor->masker, &out))
            continue;
        ind_edit_replace(run, in, &out, true);
        if (in == IND_IN_HOST && !message->configured)
            name_device(run->editor, message, message->host);
    }
    mask_additions(run, edit);
}

/* What a template gives for this message; its fields are read where it names any. */
static void evaluate(struct ind_edit_run *run, const struct ind_template *template, struct ind_buffer *out)
{
    struct ind_message *message = run->message;
    if (template->has_field)
        message->payload = ind_answers_payload(run->answers, message);
    ind_template_value(template, message, &run->editor->clock, out);
    message->payload = NULL;
}

static void add(struct ind_edit_run *run, const struct ind_change_text *change, enum ind_added kind)
{
    struct ind_editor *editor = run->editor;
    struct ind_additions *additions = &editor->additions;
    struct ind_addition *at = additions->list, *end = at + additions->count;
    struct ind_buffer value = editor->added;
    size_t start = value.length;
    if (change->template)
        evaluate(run, change->template, &value);
    struct ind_slice after = {value.at + start, value.length - start}, before = IND_NOTHING;
    while (at < end && ((at->kind == IND_ADDED_LABEL) != (kind == IND_ADDED_LABEL) ||
                        !ind_slice_equal(at->name, change->name)))
        at++;
    if (kind == IND_ADDED_LABEL)
        before = ind_message_label(run->message, change->name);
    if (kind == IND_FORGOTTEN_FIELD || run->call->changed) {
        size_t from = 0;
        const struct ind_payload *payload =
            kind == IND_ADDED_LABEL ? NULL : ind_answers_payload(run->answers, run->message);
        if (payload && !ind_payload_find(payload, change->name, &from, &before) &&
            kind == IND_FORGOTTEN_FIELD)
            return;
    }
    if ((kind == IND_ADDED_LABEL && ind_slice_equal(before, after)) ||
        (at == end && additions->count == IND_MOST_ADDITIONS))
        return;
    ind_edit_changed(run, change->in, change->name, before, after, 0);
    editor->added = value;
    editor->added.full = false;
    additions->count += at == end;
    *at = (struct ind_addition){change->name, after, kind};
    run->message->additions = additions;
}

static void set_number(struct ind_edit_run *run, const struct ind_change_text *change)
{
    char text[64];
    struct ind_message *message = run->message;
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    evaluate(run, change->template, &out);
    bool facility = change->in == IND_IN_FACILITY;
    int number =
        facility ? ind_facility_read(ind_buffer_view(&out)) : ind_severity_read(ind_buffer_view(&out));
    uint8_t *now = facility ? &message->facility : &message->severity;
    if (number < 0 || number == *now)
        return;
    struct ind_slice before = facility ? ind_facility_name(*now) : ind_severity_name(*now);
    *now = (uint8_t)number;
    ind_edit_changed(run, change->in, IND_NOTHING, before,
                     facility ? ind_facility_name(*now) : ind_severity_name(*now), 0);
}

static void set(struct ind_edit_run *run, const struct ind_change_text *change)
{
    if (change->in == IND_IN_LABEL || change->in == IND_IN_FIELD) {
        add(run, change, change->in == IND_IN_LABEL ? IND_ADDED_LABEL : IND_ADDED_FIELD);
    } else if (change->in == IND_IN_FACILITY || change->in == IND_IN_SEVERITY) {
        set_number(run, change);
    } else {
        struct ind_buffer out = ind_edit_room(run, change->in);
        evaluate(run, change->template, &out);
        if (!ind_slice_equal(ind_buffer_view(&out), *ind_edit_text_of(run->message, change->in)))
            ind_edit_replace(run, change->in, &out, false);
    }
}

/* The structured data without an element, or without a parameter of it. */
static void write_without(const struct ind_change_text *change, struct ind_slice data, struct ind_buffer *out)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0;
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after) {
        bool meant = ind_slice_equal(id, change->name);
        struct ind_buffer before = *out;
        ind_buffer_byte(out, '[');
        ind_buffer_slice(out, id);
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            if (!meant || !ind_slice_equal(param.name, change->param)) {
                ind_buffer_byte(out, ' ');
                ind_buffer_slice(out, param.name);
                ind_buffer_text(out, "=\"");
                ind_buffer_slice(out, param.value);
                ind_buffer_byte(out, '"');
            }
        ind_buffer_byte(out, ']');
        if (meant && change->param.length == 0)
            *out = before;
    }
}

static void forget(struct ind_edit_run *run, const struct ind_change_text *change)
{
    if (change->in == IND_IN_FIELD) {
        add(run, change, IND_FORGOTTEN_FIELD);
        return;
    }
    struct ind_slice text = *ind_edit_text_of(run->message, change->in);
    struct ind_buffer out = ind_edit_room(run, change->in);
    bool claimed = change->in == IND_IN_HOST && !run->message->configured;
    if (change->in == IND_IN_DATA && change->name.length)
        write_without(change, text, &out);
    if (out.length == text.length)
        return;
    ind_edit_replace(run, change->in, &out, false);
    if (claimed) /* what is left is where it came from */
        run->message->device = run->message->sender.length ? run->message->sender : IND_SLICE("-");
}

/* Seconds, milliseconds, microseconds or nanoseconds since 1970, told apart by the number of digits. */
static bool read_count(struct ind_slice text, ind_time *time)
{
    static const struct {
        size_t least, most;
        ind_time unit;
    } kinds[] = {
        {9, 10, IND_SECOND}, {13, 13, IND_SECOND / 1000}, {16, 16, IND_SECOND / 1000000}, {19, 19, 1}};
    uint64_t number = 0;
    size_t digits = 0;
    while (digits < text.length && digits < 19 && ind_is_digit(text.at[digits]))
        number = number * 10 + (uint64_t)(text.at[digits++] - '0');
    bool fraction = digits < text.length && text.at[digits] == '.' && digits <= 10;
    if (digits < text.length && !fraction)
        return false;
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++) {
        if (digits < kinds[i].least || digits > kinds[i].most ||
            number >= (uint64_t)(INT64_MAX / kinds[i].unit))
            continue;
        ind_time part = 0, unit = IND_SECOND / 10;
        for (size_t k = digits + 1; fraction && k < text.length && ind_is_digit(text.at[k]); k++, unit /= 10)
            part += unit * (text.at[k] - '0');
        *time = (ind_time)number * kinds[i].unit + part;
        return true;
    }
    return false;
}

static bool read_time(struct ind_slice text, ind_time reference, const struct ind_zone *zone, ind_time *time)
{
    struct ind_stamp stamp;
    if (read_count(text, time))
        return true;
    if (ind_stamp_read(text.at, text.at + text.length, reference, zone, &stamp) == 0 ||
        stamp.sent == IND_TIME_NONE)
        return false;
    *time = stamp.sent;
    return true;
}

static void retime(struct ind_edit_run *run, const struct ind_edit *edit)
{
    struct ind_message *message = run->message;
    struct ind_slice text = message->timestamp;
    char before[IND_TIME_WIDTH], after[IND_TIME_WIDTH];
    struct ind_buffer old = ind_buffer_on(before, sizeof before), new = ind_buffer_on(after, sizeof after);
    const struct ind_zone *zone = edit->zone ? edit->zone
                                  : message->configured && message->configured->zone
                                      ? message->configured->zone
                                      : run->edits->default_zone;
    size_t from = 0;
    ind_time sent;
    if (edit->field.length &&
        !ind_payload_find(ind_answers_payload(run->answers, message), edit->field, &from, &text))
        return;
    if (text.length == 0 || !read_time(text, run->reference, zone, &sent) || sent == message->sent)
        return;
    if (message->sent != IND_TIME_NONE)
        ind_time_write(&old, message->sent);
    ind_time_write(&new, sent);
    message->sent = sent;
    if (edit->field.length)
        message->mark = IND_MARK_NONE;
    if (message->transport == IND_TRANSPORT_FILE)
        message->time = sent;
    ind_edit_changed(run, IND_IN_TIME, IND_NOTHING, ind_buffer_view(&old), ind_buffer_view(&new), 0);
}

/* False where the message goes no further. */
static bool apply(struct ind_edit_run *run, const struct ind_edit *edit)
{
    switch (edit->kind) {
    case IND_EDIT_MASK:
        mask(run, edit);
        return true;
    case IND_EDIT_TIME:
        retime(run, edit);
        return true;
    case IND_EDIT_DROP:
        return false;
    case IND_EDIT_LABEL:
    case IND_EDIT_SET:
    case IND_EDIT_FORGET:
        for (size_t i = 0; i < edit->change_count; i++) {
            (edit->kind == IND_EDIT_FORGET ? forget : set)(run, &edit->changes[i]);
            if (run->did) /* each sees what the ones before it did */
                ind_answers_forget(run->answers);
        }
        return true;
    default:
        return !run->call->remember || run->call->remember(run->call->context, edit, run->message);
    }
}

static void begin(struct ind_editor *editor, struct ind_message *message)
{
    message->additions = NULL;
    editor->additions.count = 0;
    editor->added.length = 0;
    editor->changed_count = 0;
    ind_regex_room_next(&editor->masker.regex);
}

/* One after the other, with somebody looking on. */
static const struct ind_edit *apply_all(struct ind_edit_run *run)
{
    const struct ind_edits *edits = run->edits;
    const struct ind_edit *dropped = NULL;
    for (run->number = 0; run->number < edits->count; run->number++) {
        bool holds =
            ind_condition_holds(edits->set, edits->rules[run->number].when, run->message, run->answers);
        run->call->asked(run->call->context, run->number, holds, run->message, run->answers);
        run->did = false;
        if (holds && !apply(run, &edits->list[run->number])) {
            dropped = dropped ? dropped : &edits->list[run->number];
            if (!run->call->go_on)
                break;
        }
        if (run->did)
            ind_answers_forget(run->answers);
    }
    return dropped;
}

const struct ind_edit *ind_edits_apply(const struct ind_edits *edits, struct ind_editor *editor,
                                       struct ind_message *message, struct ind_answers *answers,
                                       ind_time reference, const struct ind_edit_call *call)
{
    struct ind_edit_run run = {edits, editor, message, answers, call, reference, 0, false};
    const struct ind_edit *dropped = NULL;
    begin(editor, message);
    ind_answers_next(answers);
    if (call->asked)
        return apply_all(&run);
    size_t count = ind_router_decide(edits->router, message, answers, editor->passed);
    for (size_t i = 0; i < count;) {
        run.number = editor->passed[i++];
        run.did = false;
        if (!apply(&run, &edits->list[run.number])) {
            dropped = dropped ? dropped : &edits->list[run.number];
            if (!call->go_on)
                return dropped;
        }
        if (!run.did)
            continue;
        /* What was found out about it may hold no more; edits above have had their turn. */
        ind_answers_forget(answers);
        if (run.number + 1 == edits->count)
            break;
        count = ind_router_decide(edits->router, message, answers, editor->passed);
        for (i = 0; i < count && editor->passed[i] <= run.number;)
            i++;
    }
    return dropped;
}

void ind_edits_hide_device(const struct ind_edits *edits, struct ind_editor *editor,
                           struct ind_message *message)
{
    char room[2][sizeof editor->device];
    unsigned which = 0;
    if (message->configured || message->host.length == 0)
        return;
    struct ind_slice name = message->host;
    for (size_t i = 0; i < edits->count; i++) {
        struct ind_buffer out = ind_buffer_on(room[which], sizeof room[which]);
        if (edits->list[i].kind != IND_EDIT_MASK ||
            !ind_mask_write(&edits->list[i], IND_IN_HOST, name, &editor->masker, &out))
            continue;
        name = ind_buffer_view(&out);
        which ^= 1;
    }
    if (name.at != message->host.at)
        name_device(editor, message, name);
}
