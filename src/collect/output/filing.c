#include "collect/output/filing.h"

/* Lines were written by another processor: those that come next, also of the next group, are asked for while
 * others are copied. */
enum { BLOCKS_AHEAD = 2, LONGEST_ASKED = 512 };

struct ahead {
    size_t group;
    uint32_t line; /* its place: the next to be asked for; 0: the group has no more */
};

static void ask_memory(const char *bytes, size_t length)
{
#if defined(__GNUC__) || defined(__clang__)
    for (size_t at = 0; at < length; at += 64)
        __builtin_prefetch(bytes + at);
#else
    (void)bytes;
    (void)length;
#endif
}

/* Asks for what is left of a block of lines, and for the places of the next. */
static void ask_for_next(const struct ind_batch *batch, struct ahead *ahead)
{
    while (ahead->line == 0) {
        if (ahead->group + 1 >= batch->group_count)
            return;
        ahead->line = batch->groups[++ahead->group].first;
    }
    const struct ind_batch_group *group = &batch->groups[ahead->group];
    const uint32_t count = ind_batch_together(group, ahead->line);
    for (uint32_t i = 0; i < count; i++) {
        const struct ind_batch_line *line = &batch->lines[ahead->line - 1 + i];
        ask_memory(batch->arena + line->offset, line->length < LONGEST_ASKED ? line->length : LONGEST_ASKED);
    }
    ahead->line = ind_batch_after(batch, group, ahead->line + count - 1);
    if (ahead->line)
        ask_memory((const char *)&batch->lines[ahead->line - 1], sizeof *batch->lines * IND_LINES_TOGETHER);
}

/* Before the first group, and behind groups whose lines were not asked for. */
static void keep_ahead(const struct ind_batch *batch, struct ahead *ahead)
{
    if (ahead->group > batch->stored_groups || (ahead->group == batch->stored_groups && ahead->line))
        return;
    *ahead = (struct ahead){batch->stored_groups, ind_batch_first_left(batch, batch->stored_groups)};
    for (int i = 0; i < BLOCKS_AHEAD; i++)
        ask_for_next(batch, ahead);
}

/* From the first line that has not been passed on yet. */
static void begin_group(struct ind_batch *batch, const struct ind_batch_group *group)
{
    if (!batch->within)
        batch->next_line = group->first;
    batch->within = true;
}

static uint32_t owner_of(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake,
                         const struct ind_batch_line *line)
{
    return filing->book ? ind_book_owner(filing->book, intake, line->owner, batch->copies) : line->owner;
}

/* The end of a line. */
static void settle(const struct ind_filing *filing, uint32_t owner, bool written)
{
    if (filing->book)
        ind_book_settle(filing->book, owner, 1, written);
    else
        filing->settle(filing->context, owner, 1, written);
}

/* All lines of the group as they lie in the batch; false where other lines lie between them. */
static bool lie_together(const struct ind_batch *batch, const struct ind_batch_group *group,
                         struct ind_whole *whole)
{
    const struct ind_batch_line *first = &batch->lines[group->first - 1],
                                *last = &batch->lines[group->last - 1];
    if (last->offset + last->length - first->offset != group->bytes)
        return false; /* each lies behind the one before it */
    *whole =
        (struct ind_whole){{batch->arena + first->offset, (size_t)group->bytes}, group->lines, first->time};
    for (uint32_t place = group->first; place; place = ind_batch_after(batch, group, place))
        if (batch->lines[place - 1].time > whole->latest)
            whole->latest = batch->lines[place - 1].time;
    return true;
}

/* A large group without another copy. */
static bool store_whole(const struct ind_filing *filing, struct ind_batch *batch,
                        const struct ind_batch_group *group, unsigned intake, struct ind_live *live,
                        struct ind_clocks now)
{
    enum { LARGE = 128 << 10 };
    struct ind_whole whole;
    if (batch->within || group->bytes < LARGE || !lie_together(batch, group, &whole) ||
        !ind_store_write_whole(filing->destination.store, live, &whole, now))
        return false;
    for (uint32_t place = group->first; place; place = ind_batch_after(batch, group, place))
        settle(filing, owner_of(filing, batch, intake, &batch->lines[place - 1]), true);
    return true;
}

static enum ind_filed store_group(const struct ind_filing *filing, struct ind_batch *batch,
                                  const struct ind_batch_group *group, unsigned intake, struct ahead *ahead,
                                  struct ind_clocks now)
{
    struct ind_target target = {.path = {batch->arena + group->path, group->path_length},
                                .series = {batch->arena + group->series, group->series_length},
                                .hash = group->hash,
                                .route = group->route,
                                .made_up = group->made_up};
    struct ind_live *live = ind_store_file(filing->destination.store, &target, now);
    if (!live)
        return IND_FILED_STORE_FULL;
    if (store_whole(filing, batch, group, intake, live, now))
        return IND_FILED;
    begin_group(batch, group);
    while (batch->next_line) {
        struct ind_new_line lines[IND_LINES_TOGETHER];
        ask_for_next(batch, ahead);
        const uint32_t count = ind_batch_together(group, batch->next_line);
        for (uint32_t i = 0; i < count; i++) {
            const struct ind_batch_line *line = &batch->lines[batch->next_line - 1 + i];
            lines[i] = (struct ind_new_line){{batch->arena + line->offset, line->length},
                                             line->time,
                                             owner_of(filing, batch, intake, line)};
        }
        const uint32_t stored =
            (uint32_t)ind_store_append_lines(filing->destination.store, live, lines, count, now);
        if (stored < count) {
            batch->next_line += stored;
            return IND_FILED_STORE_FULL;
        }
        batch->next_line = ind_batch_after(batch, group, batch->next_line + count - 1);
    }
    return IND_FILED;
}

static enum ind_filed pass_on_group(const struct ind_filing *filing, struct ind_batch *batch,
                                    const struct ind_batch_group *group, unsigned intake, struct ahead *ahead)
{
    struct ind_lanes *lanes = filing->destination.lanes;
    begin_group(batch, group);
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        ask_for_next(batch, ahead);
        if (!ind_lanes_add(lanes, batch, group, line, owner_of(filing, batch, intake, line)))
            return IND_FILED_STORE_FULL;
        batch->next_line = ind_batch_after(batch, group, batch->next_line);
    }
    ind_lanes_end_group(lanes, group);
    return IND_FILED;
}

static enum ind_filed hand_on_group(const struct ind_filing *filing, struct ind_batch *batch,
                                    const struct ind_batch_group *group, unsigned intake,
                                    struct ind_steady now)
{
    begin_group(batch, group);
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        struct ind_slice bytes = {batch->arena + line->offset, line->length};
        if (!ind_sinks_add(filing->sinks, group->route, bytes, owner_of(filing, batch, intake, line), now))
            return IND_FILED_SINK_FULL;
        batch->next_line = ind_batch_after(batch, group, batch->next_line);
    }
    return IND_FILED;
}

static enum ind_filed relay_group(const struct ind_filing *filing, struct ind_batch *batch,
                                  const struct ind_batch_group *group, unsigned intake, struct ind_clocks now)
{
    begin_group(batch, group);
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        struct ind_slice bytes = {batch->arena + line->offset, line->length};
        if (!ind_relays_add(filing->relays, group->route, bytes, now.wall,
                            owner_of(filing, batch, intake, line), now.steady))
            return IND_FILED_SINK_FULL;
        batch->next_line = ind_batch_after(batch, group, batch->next_line);
    }
    return IND_FILED;
}

static enum ind_filed file_group(const struct ind_filing *filing, struct ind_batch *batch,
                                 const struct ind_batch_group *group, unsigned intake, struct ahead *ahead,
                                 struct ind_clocks now)
{
    return ind_sinks_have(filing->sinks, group->route)
               ? hand_on_group(filing, batch, group, intake, now.steady)
           : ind_relays_have(filing->relays, group->route) ? relay_group(filing, batch, group, intake, now)
           : filing->destination.lanes ? pass_on_group(filing, batch, group, intake, ahead)
                                       : store_group(filing, batch, group, intake, ahead, now);
}

static void book_once(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake)
{
    const struct ind_tallies tallies = ind_batch_tallies(batch);
    if (filing->book && !batch->booked)
        ind_book_add(filing->book, intake, &tallies);
    batch->booked = true;
}

/* The next batch may go on with the last message. */
static void carry(const struct ind_filing *filing, const struct ind_batch *batch, unsigned intake)
{
    if (filing->book)
        ind_book_carry(filing->book, intake,
                       batch->copies_count ? &batch->copies[batch->copies_count - 1] : NULL);
}

enum ind_filed ind_file_batch(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake,
                              struct ind_clocks now)
{
    struct ahead ahead = {0};
    book_once(filing, batch, intake);
    while (batch->stored_groups < batch->group_count) {
        const struct ind_batch_group *group = &batch->groups[batch->stored_groups];
        keep_ahead(batch, &ahead);
        enum ind_filed filed = file_group(filing, batch, group, intake, &ahead, now);
        if (filed != IND_FILED)
            return filed;
        batch->within = false;
        if (filing->book)
            ind_book_route(filing->book, group->route, group->lines, group->bytes, group->cut);
        batch->stored_groups++;
    }
    carry(filing, batch, intake);
    return IND_FILED;
}

void ind_file_lose(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake)
{
    book_once(filing, batch, intake);
    for (size_t g = batch->stored_groups; g < batch->group_count; g++)
        for (uint32_t line = ind_batch_first_left(batch, g); line;
             line = ind_batch_after(batch, &batch->groups[g], line)) {
            uint32_t owner = owner_of(filing, batch, intake, &batch->lines[line - 1]);
            if (ind_sinks_have(filing->sinks, batch->groups[g].route))
                ind_sinks_lose(filing->sinks, batch->groups[g].route, owner);
            else if (ind_relays_have(filing->relays, batch->groups[g].route))
                ind_relays_lose(filing->relays, owner);
            else
                settle(filing, owner, false);
        }
    carry(filing, batch, intake);
}
