#include "collect/output/lanes.h"

#include "core/message/names.h"

#define REPORT_AGAIN (60 * IND_SECOND)

static void pass_on(struct ind_lane *lane)
{
    if (!lane->open || ind_batch_is_empty(lane->open))
        return;
    ind_ring_put(lane->ring, 0, lane->open);
    lane->open = NULL;
    lane->from = NULL;
}

static bool fits(const struct ind_lane *lane, const struct ind_batch_group *group, uint32_t length)
{
    const struct ind_batch *open = lane->open;
    bool new_group = lane->from != group;
    size_t needed = length + (new_group ? group->path_length + group->series_length : 0);
    return ind_batch_has_place(open, new_group ? NULL : &open->groups[open->group_count - 1]) &&
           (!new_group || open->group_count < IND_BATCH_GROUPS) && IND_BATCH_BYTES - open->used >= needed;
}

/* A number that no lane has is not seen; it would be the store's own. */
static struct ind_lane *lane_of(struct ind_lanes *lanes, const struct ind_batch_group *group,
                                unsigned *number)
{
    *number = group->file_system < lanes->count ? group->file_system : 0;
    return &lanes->list[*number];
}

/* A batch that takes the line; NULL: there is none. An empty one takes any. */
static struct ind_batch *room_for(struct ind_lanes *lanes, unsigned number,
                                  const struct ind_batch_group *group, uint32_t length)
{
    struct ind_lane *lane = &lanes->list[number];
    if (lane->open && !fits(lane, group, length)) {
        pass_on(lane);
        if (ind_ring_full(lane->ring, 0) >= lanes->batches / 2)
            ind_clog_set(lanes->clog, number, true);
    }
    if (!lane->open) {
        lane->open = ind_ring_empty(lane->ring, 0, 0);
        lane->from = NULL;
    }
    return lane->open;
}

static uint32_t copy_bytes(struct ind_batch *to, const struct ind_batch *from, uint32_t offset,
                           uint32_t length)
{
    uint32_t at = (uint32_t)to->used;
    memcpy(to->arena + at, from->arena + offset, length);
    to->used += length;
    return at;
}

static void begin_group(struct ind_lane *lane, const struct ind_batch *batch,
                        const struct ind_batch_group *group)
{
    struct ind_batch *open = lane->open;
    struct ind_batch_group *begun = &open->groups[open->group_count++];
    *begun = *group;
    begun->path = copy_bytes(open, batch, group->path, group->path_length);
    begun->series = copy_bytes(open, batch, group->series, group->series_length);
    begun->first = begun->last = begun->lines = begun->cut = 0;
    begun->bytes = 0;
    lane->from = group;
}

static void add(struct ind_batch *open, const struct ind_batch *batch, const struct ind_batch_line *line,
                uint32_t owner)
{
    struct ind_batch_line added = *line;
    added.offset = copy_bytes(open, batch, line->offset, line->length);
    added.owner = owner;
    ind_batch_add_line(open, &open->groups[open->group_count - 1], &added);
}

static void lose(struct ind_lanes *lanes, struct ind_lane *lane, uint32_t owner)
{
    lane->lost++;
    ind_book_settle(lanes->book, owner, 1, false);
}

bool ind_lanes_add(struct ind_lanes *lanes, const struct ind_batch *batch,
                   const struct ind_batch_group *group, const struct ind_batch_line *line, uint32_t owner)
{
    unsigned number;
    struct ind_lane *lane = lane_of(lanes, group, &number);
    if (ind_clog_is_behind(lanes->clog, number) && !line->waits) {
        lose(lanes, lane, owner);
        return true;
    }
    struct ind_batch *open = room_for(lanes, number, group, line->length);
    if (!open && line->waits)
        return false;
    if (!open) {
        lose(lanes, lane, owner);
        return true;
    }
    if (lane->from != group)
        begin_group(lane, batch, group);
    add(open, batch, line, owner);
    ind_book_set_aside(lanes->book, owner);
    return true;
}

void ind_lanes_end_group(struct ind_lanes *lanes, const struct ind_batch_group *group)
{
    unsigned number;
    lane_of(lanes, group, &number)->from = NULL;
}

/* At once, then once a minute while it goes on. */
static void tell_lost(struct ind_lanes *lanes, struct ind_lane *lane, struct ind_steady now)
{
    uint64_t lost = lane->lost - lane->lost_told;
    if (lost == 0 || ind_steady_reported_lately(&lane->told, now, REPORT_AGAIN))
        return;
    lane->lost_told = lane->lost;
    ind_report(lanes->reporter, IND_OWN_LOST, IND_WITH({"folder", ind_slice_of(lane->folder)}),
               "%llu lines for the file system at %s were lost: it takes nothing, and its queue is full",
               (unsigned long long)lost, lane->folder[0] ? lane->folder : "the store's own folder");
}

void ind_lanes_pass_on(struct ind_lanes *lanes, bool all, struct ind_steady now)
{
    for (unsigned i = 0; i < lanes->count; i++) {
        struct ind_lane *lane = &lanes->list[i];
        size_t waiting = ind_ring_full(lane->ring, 0);
        if (all || waiting == 0)
            pass_on(lane);
        if (waiting < lanes->batches / 4)
            ind_clog_set(lanes->clog, i, false);
        tell_lost(lanes, lane, now);
    }
}

void ind_lanes_adopt(struct ind_lanes *lanes, const struct ind_config *config, struct ind_plan *plan)
{
    for (unsigned i = 0; i < lanes->count; i++) {
        struct ind_lane *lane = &lanes->list[i];
        pass_on(lane);
        lane->rules = (struct ind_marker){.kind = IND_MARKER_RULES, .config = config, .plan = plan};
        ind_ring_put_marker(lane->ring, 0, &lane->rules);
    }
}

void ind_lanes_rotate(struct ind_lanes *lanes, bool only_due)
{
    for (unsigned i = 0; i < lanes->count; i++) {
        pass_on(&lanes->list[i]);
        ind_rotation_order_ask(lanes->list[i].rotation, only_due);
        ind_rings_wake(lanes->list[i].ring);
    }
}

struct ind_store_counts ind_lanes_counts(const struct ind_lanes *lanes)
{
    struct ind_store_counts sum = {0};
    for (unsigned i = 0; i < lanes->count; i++)
        ind_writer_facts_add(lanes->list[i].facts, &sum);
    return sum;
}

void ind_lanes_end(struct ind_lanes *lanes, struct ind_steady now)
{
    ind_lanes_pass_on(lanes, true, now);
    for (unsigned i = 0; i < lanes->count; i++)
        ind_ring_end(lanes->list[i].ring, 0);
}

bool ind_lanes_have_ended(const struct ind_lanes *lanes)
{
    for (unsigned i = 0; i < lanes->count; i++)
        if (!atomic_load(lanes->list[i].ended))
            return false;
    return true;
}
