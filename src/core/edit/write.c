/* core/edit/write.c: new texts put into a message, and its bytes as received kept in step. */
#include "core/edit/edit_private.h"

struct ind_slice *ind_edit_text_of(struct ind_message *message, enum ind_place_in_message in)
{
    struct ind_slice *const all[IND_IN_TEXTS] = {&message->text,   &message->data,  &message->app,
                                                 &message->procid, &message->msgid, &message->host};
    return all[in];
}

static bool lies_in(struct ind_slice part, struct ind_slice whole)
{
    return part.at >= whole.at && part.at + part.length <= whole.at + whole.length && part.length > 0;
}

struct ind_buffer ind_edit_room(struct ind_edit_run *run, enum ind_place_in_message in)
{
    const struct ind_slice now = *ind_edit_text_of(run->message, in);
    char *room = run->editor->room + (size_t)in * 2 * IND_EDIT_ROOM;
    bool taken = now.length > 0 && now.at >= room && now.at < room + IND_EDIT_ROOM;
    return ind_buffer_on(taken ? room + IND_EDIT_ROOM : room, IND_EDIT_ROOM);
}

/* Where a part of the message's bytes is written anew. */
struct seam {
    struct ind_slice old; /* all of them, before */
    char *to;             /* and now */
    size_t before, behind;
    ptrdiff_t by; /* the bytes behind have moved by so much */
};

/* What goes along. False where the slice lies in the bytes that are replaced, in part or whole. */
static bool move(struct ind_slice *slice, const struct seam *seam)
{
    if (!lies_in(*slice, seam->old))
        return true;
    size_t at = (size_t)(slice->at - seam->old.at), end = at + slice->length;
    bool behind = at >= seam->behind, around = at <= seam->before && end >= seam->behind;
    if (!behind && end > seam->before && !around)
        return false;
    slice->at = seam->to + (behind ? (size_t)((ptrdiff_t)at + seam->by) : at);
    if (around && end > seam->before)
        slice->length = (size_t)((ptrdiff_t)slice->length + seam->by);
    return true;
}

/* Parts of a header can lie over each other: what is written over is kept elsewhere. */
static void move_all(struct ind_edit_run *run, const struct ind_slice *part, const struct seam *seam)
{
    struct ind_message *message = run->message;
    struct ind_slice *const others[] = {&message->timestamp, &message->sequence, &message->location};
    struct ind_buffer device = ind_buffer_on(run->editor->device, sizeof run->editor->device);
    for (unsigned in = 0; in < IND_IN_TEXTS; in++) {
        struct ind_slice *text = ind_edit_text_of(message, in);
        if (text == part || move(text, seam))
            continue;
        struct ind_buffer room = ind_edit_room(run, in);
        ind_buffer_slice(&room, *text);
        *text = ind_buffer_view(&room);
    }
    for (size_t i = 0; i < 3; i++)
        if (!move(others[i], seam))
            *others[i] = IND_NOTHING;
    struct ind_slice name = message->device;
    bool same = lies_in(name, seam->old) && (size_t)(name.at - seam->old.at) < seam->behind &&
                (size_t)(name.at - seam->old.at) + name.length > seam->before;
    if (!same) {
        (void)move(&message->device, seam);
        return;
    }
    name.length = name.length < device.capacity ? name.length : device.capacity;
    ind_buffer_slice(&device, name);
    message->device = ind_buffer_view(&device);
}

/* The message's bytes with a part of them replaced; all that points into them goes along. */
static void splice(struct ind_edit_run *run, struct ind_slice *part, struct ind_slice value)
{
    struct ind_editor *editor = run->editor;
    struct ind_message *message = run->message;
    const struct ind_slice old = message->original, gone = *part; /* it may stand nowhere */
    if (!lies_in(gone, old)) {
        *part = value;
        return;
    }
    if (old.length - gone.length + value.length + 1 > IND_EDIT_ORIGINAL_ROOM) {
        *part = value;
        message->original = IND_SLICE("-"); /* nothing points into it from here on, or is written to it */
        return;
    }
    struct ind_slice put = value.length || part == &message->text ? value : IND_SLICE("-");
    const struct seam seam = {.old = old,
                              .to =
                                  editor->original + (size_t)editor->original_buffer * IND_EDIT_ORIGINAL_ROOM,
                              .before = (size_t)(gone.at - old.at),
                              .behind = (size_t)(gone.at - old.at) + gone.length,
                              .by = (ptrdiff_t)put.length - (ptrdiff_t)gone.length};
    editor->original_buffer ^= 1;
    move_all(run, part, &seam);
    memcpy(seam.to, old.at, seam.before);
    if (put.length)
        memcpy(seam.to + seam.before, put.at, put.length);
    memcpy(seam.to + seam.before + put.length, old.at + seam.behind, old.length - seam.behind);
    *part = (struct ind_slice){seam.to + seam.before, value.length};
    message->original = (struct ind_slice){seam.to, old.length - gone.length + put.length};
    if (message->original.length == 0)
        message->original = IND_SLICE("-");
}

void ind_edit_changed(struct ind_edit_run *run, enum ind_place_in_message in, struct ind_slice name,
                      struct ind_slice before, struct ind_slice after, size_t marks)
{
    struct ind_editor *editor = run->editor;
    if (editor->changed_count == 0 || editor->changed[editor->changed_count - 1] != run->number)
        editor->changed[editor->changed_count++] = run->number;
    run->did = true;
    if (!run->call->changed)
        return;
    const struct ind_change change = {run->number, in, name, before, after, editor->masker.put, marks};
    run->call->changed(run->call->context, &change);
}

void ind_edit_replace(struct ind_edit_run *run, enum ind_place_in_message in, const struct ind_buffer *value,
                      bool is_mask)
{
    struct ind_message *message = run->message;
    struct ind_slice *text = ind_edit_text_of(message, in), after = ind_buffer_view(value), before = *text;
    size_t marks = is_mask ? run->editor->masker.spans.count : 0;
    while (marks > 0 && run->editor->masker.put[marks - 1].to > after.length)
        marks--;
    if (value->full)
        message->malformed = IND_MALFORMED_CUT;
    ind_edit_changed(run, in, IND_NOTHING, is_mask ? IND_NOTHING : before, after, marks);
    if (run->call->keep_original || run->edits->wants_original)
        splice(run, text, after);
    else
        *text = after;
}
