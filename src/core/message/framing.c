#include "core/message/framing.h"

#include "core/base/scan.h"

enum { MOST_DIGITS = 8 }; /* of IND_OCTETS_MOST */

static struct ind_slice split_off(struct ind_slice *input, size_t length)
{
    struct ind_slice taken = {input->at, length};
    *input = ind_slice_from(*input, length);
    return taken;
}

/* What of `bytes` still belongs to the message: the rest is over the limit. */
static struct ind_slice within_limit(struct ind_framing *framing, struct ind_slice bytes)
{
    size_t limit = framing->limit ? framing->limit : IND_MESSAGE_LIMIT;
    size_t room = limit > framing->length ? limit - framing->length : 0; /* it may have been lowered */
    framing->cut |= bytes.length > room;
    if (bytes.length > room)
        bytes.length = room;
    framing->length += bytes.length;
    return bytes;
}

static enum ind_frame part(struct ind_framing *framing, struct ind_slice taken, struct ind_slice *bytes)
{
    framing->under_way = true;
    *bytes = within_limit(framing, taken);
    return IND_FRAME_PART;
}

static enum ind_frame end(struct ind_framing *framing, struct ind_slice taken, struct ind_slice *bytes,
                          bool *cut)
{
    *bytes = within_limit(framing, taken);
    *cut = framing->cut;
    framing->under_way = framing->cut = false;
    framing->length = 0;
    return IND_FRAME_END;
}

/* Digits, a space and `<`: as many bytes as that takes are kept in `head`. False: more are needed. */
static bool decide(struct ind_framing *framing, struct ind_slice *input)
{
    while (framing->mode == IND_FRAMING_UNDECIDED && input->length > 0) {
        char c = *split_off(input, 1).at;
        bool after_blank = framing->head_used > 1 && framing->head[framing->head_used - 1] == ' ';
        framing->head[framing->head_used++] = c;
        if (after_blank && c == '<') {
            framing->mode = IND_FRAMING_COUNT;
            for (int i = 0; ind_is_digit(framing->head[i]); i++)
                framing->count = framing->count * 10 + (uint32_t)(framing->head[i] - '0');
        } else if (after_blank || framing->head_used > MOST_DIGITS + 2 ||
                   (c == ' ' ? framing->head_used == 1
                             : !ind_is_digit(c) || (c == '0' && framing->head_used == 1))) {
            framing->mode = IND_FRAMING_LINES;
        }
    }
    return framing->mode != IND_FRAMING_UNDECIDED;
}

/* ---- Octet counting ---- */

/* True once the count is read; *bad where there is none. A line end after a message, which some senders add
 * without counting it, is passed over. */
static bool read_count(struct ind_framing *framing, struct ind_slice *input, bool *bad)
{
    const char *at = input->at, *end = at + input->length;
    uint32_t count = framing->count, digits = framing->digits;
    while (digits == 0 && at < end && *at == '\n')
        at++;
    *bad = digits == 0 && at < end && *at == '0';
    while (at < end && ind_is_digit(*at) && digits < MOST_DIGITS) {
        count = count * 10 + (uint32_t)(*at++ - '0');
        digits++;
    }
    bool ended = at < end;
    *bad |= ended && (*at != ' ' || digits == 0 || count > IND_OCTETS_MOST);
    at += ended;
    framing->count = count;
    framing->digits = ended ? 0 : digits;
    framing->counting = !ended;
    *input = ind_slice_from(*input, (size_t)(at - input->at));
    return ended || *bad;
}

static enum ind_frame next_counted(struct ind_framing *framing, struct ind_slice *input,
                                   struct ind_slice *bytes, bool *cut)
{
    bool bad = false;
    if (framing->counting) {
        if (!read_count(framing, input, &bad))
            return IND_FRAME_MORE;
        if (bad)
            return IND_FRAME_BAD;
        framing->under_way = true; /* announced: where nothing follows, it was cut */
    }
    if (input->length == 0 && framing->count > 0)
        return IND_FRAME_MORE;
    size_t length = input->length < framing->count ? input->length : framing->count;
    framing->count -= (uint32_t)length;
    if (framing->count > 0)
        return part(framing, split_off(input, length), bytes);
    framing->counting = true;
    return end(framing, split_off(input, length), bytes, cut);
}

/* ---- Lines ---- */

static bool is_indented(const struct ind_slice *input)
{
    return *input->at == ' ' || *input->at == '\t';
}

/* A whole line has come before, and now there is what follows it. */
static enum ind_frame after_wait(struct ind_framing *framing, const struct ind_slice *input,
                                 struct ind_slice *bytes, bool *cut)
{
    framing->waits = false;
    if (framing->join && is_indented(input))
        return part(framing, (struct ind_slice){&framing->ended_by, 1}, bytes);
    return end(framing, IND_NOTHING, bytes, cut);
}

/* Whether a line that has just ended must wait for what follows: nothing has come yet, or it goes on. */
static bool must_wait(const struct ind_framing *framing, struct ind_slice line, struct ind_slice input)
{
    if (!framing->join || framing->length + line.length == 0)
        return false;
    char other = framing->ended_by == '\n' ? '\0' : '\n';
    if (input.length && *input.at == other)
        input = ind_slice_from(input, 1);
    return input.length == 0 || is_indented(&input);
}

static enum ind_frame next_line(struct ind_framing *framing, struct ind_slice *input, struct ind_slice *bytes,
                                bool *cut)
{
    /* LF and NUL together are one end. */
    if (framing->ended && input->length > 0) {
        char other = framing->ended_by == '\n' ? '\0' : '\n';
        framing->ended = false;
        if (*input->at == other)
            (void)split_off(input, 1);
    }
    if (input->length == 0)
        return IND_FRAME_MORE;
    if (framing->waits)
        return after_wait(framing, input, bytes, cut);
    const char *stop = ind_scan_either(input->at, input->at + input->length, '\n', '\0');
    size_t length = (size_t)(stop - input->at);
    struct ind_slice line = split_off(input, length);
    if (input->length == 0)
        return part(framing, line, bytes);
    framing->ended = true;
    framing->ended_by = *split_off(input, 1).at;
    framing->waits = must_wait(framing, line, *input);
    return framing->waits ? part(framing, line, bytes) : end(framing, line, bytes, cut);
}

/* The bytes by which the mode was decided, as the beginning of what follows. */
static enum ind_frame next_of_head(struct ind_framing *framing, struct ind_slice *bytes, bool *cut)
{
    struct ind_slice head = {framing->head, framing->head_used};
    framing->head_used = 0;
    if (framing->mode == IND_FRAMING_LINES) {
        /* No byte before the last was an end; the last may be one. */
        char last = head.at[head.length - 1];
        if (last != '\n' && last != '\0')
            return part(framing, head, bytes);
        framing->ended = true;
        framing->ended_by = last;
        head.length--;
        framing->waits = framing->join && head.length > 0;
        return framing->waits ? part(framing, head, bytes) : end(framing, head, bytes, cut);
    }
    head = (struct ind_slice){head.at + head.length - 1, 1}; /* the `<`; before it stands the count */
    framing->under_way = true;
    if (--framing->count > 0)
        return part(framing, head, bytes);
    framing->counting = true;
    return end(framing, head, bytes, cut);
}

enum ind_frame ind_framing_next(struct ind_framing *framing, struct ind_slice *input, struct ind_slice *bytes,
                                bool *cut)
{
    *bytes = IND_NOTHING;
    if (framing->mode == IND_FRAMING_UNDECIDED && !decide(framing, input))
        return IND_FRAME_MORE;
    if (framing->mode == IND_FRAMING_COUNT && framing->head_used && framing->count > IND_OCTETS_MOST)
        return IND_FRAME_BAD;
    if (framing->head_used)
        return next_of_head(framing, bytes, cut);
    return framing->mode == IND_FRAMING_COUNT ? next_counted(framing, input, bytes, cut)
                                              : next_line(framing, input, bytes, cut);
}

bool ind_framing_end_wait(struct ind_framing *framing, struct ind_slice *bytes, bool *cut)
{
    *bytes = IND_NOTHING;
    if (!framing->waits)
        return false;
    framing->waits = false;
    return end(framing, IND_NOTHING, bytes, cut) == IND_FRAME_END;
}

bool ind_framing_end(struct ind_framing *framing, bool broken_off, struct ind_slice *bytes, bool *cut)
{
    bool counts = framing->mode == IND_FRAMING_COUNT;
    *bytes = (struct ind_slice){framing->head, framing->head_used}; /* too little to tell: a line */
    bool any = framing->under_way || framing->head_used > 0;
    *cut = framing->cut || (!framing->waits && (broken_off || counts));
    framing->under_way = framing->waits = false;
    framing->head_used = 0;
    return any;
}
