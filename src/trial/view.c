#include "trial/rehearse_private.h"

struct ind_slice ind_rehearser_view(struct ind_rehearser *rehearser, unsigned number)
{
    static const struct ind_edit_call call = {.go_on = true};
    struct ind_side *side = &rehearser->side[number];
    struct ind_buffer out = ind_buffer_on(rehearser->room[1], IND_REHEARSE_ROOM);
    if (!side->viewer && !(side->viewer = ind_viewer_new(side->config))) {
        rehearser->out_of_memory = true;
        return IND_NOTHING;
    }
    struct ind_origin origin = side->source.origin;
    side->sender = *side->source.origin.sender;
    origin.sender = &side->sender;
    const struct ind_message *message =
        ind_viewer_read(side->viewer, side->source.form, rehearser->line, &origin);
    ind_viewer_edit(side->viewer, &origin, &call);
    (void)ind_line_write(IND_LAYOUT_PLAIN, message, &side->line_clock, &out);
    return (struct ind_slice){out.at, out.length ? out.length - 1 : 0};
}
