/* collect/intake/lines_private.h: the lines of a message that was decided, into the groups of a batch. For
 * intake.c only: its functions are put into one with it, since calls on the way of each message are felt. */
#ifndef IND_COLLECT_INTAKE_LINES_PRIVATE_H
#define IND_COLLECT_INTAKE_LINES_PRIVATE_H

#include "collect/intake/intake_private.h"
#include "store/disk/disk.h"

/* A path counts as made up where a message could make up others; a configured device vouches for its own
 * name. */
static bool is_made_up(const struct ind_template *template, const struct ind_message *message)
{
    if (template->has_message)
        return !(template->only_device && message->configured && !message->additions);
    return template->has_time && message->transport == IND_TRANSPORT_FILE;
}

static struct ind_batch_group *find_group(struct ind_batch *batch, struct ind_slice path, uint64_t hash,
                                          uint32_t route, size_t *slot)
{
    for (*slot = hash % IND_BATCH_SLOTS; batch->slots[*slot]; *slot = (*slot + 1) % IND_BATCH_SLOTS) {
        struct ind_batch_group *group = &batch->groups[batch->slots[*slot] - 1];
        if (group->hash == hash && group->route == route &&
            ind_slice_equal(path, (struct ind_slice){batch->arena + group->path, group->path_length}))
            return group;
    }
    return NULL;
}

/* A new group: its path is in the arena already, the series follows it. */
static struct ind_batch_group *add_group(struct ind_intake *intake, const struct ind_message *message,
                                         uint32_t index, struct ind_batch *batch, struct ind_slice path,
                                         uint64_t hash)
{
    const struct ind_template *template = &intake->config->routes[index].file;
    struct ind_buffer series = ind_buffer_on(batch->arena + batch->used + path.length, IND_PATH);
    if (intake->config->routes[index].to == IND_TO_FILE)
        ind_template_path(template, message, &intake->clock, true, &series);
    struct ind_batch_group *group = &batch->groups[batch->group_count++];
    *group = (struct ind_batch_group){.path = (uint32_t)batch->used,
                                      .path_length = (uint32_t)path.length,
                                      .series = (uint32_t)(batch->used + path.length),
                                      .series_length = (uint32_t)series.length,
                                      .route = index,
                                      .hash = hash,
                                      .made_up = is_made_up(template, message)};
    if (intake->mounts)
        group->file_system = (uint8_t)ind_mounts_of(intake->mounts, path);
    batch->used += path.length + series.length;
    return group;
}

/* The group of the message's file under a route. NULL: no room. */
static struct ind_batch_group *group_for(struct ind_intake *intake, const struct ind_message *message,
                                         uint32_t index, struct ind_batch *batch)
{
    const struct ind_route *route = &intake->config->routes[index];
    const struct ind_template *template = &route->file;
    struct ind_known_group *known = NULL;
    size_t slot;
    if (intake->first_group[index] != IND_NO_GROUP) {
        unsigned pri = message->facility * 8u + message->severity;
        known = &intake->groups[intake->first_group[index] + (ind_route_is_constant(route) ? 0 : pri)];
        if (known->round == intake->round)
            return known->group;
    }
    if (IND_BATCH_BYTES - batch->used < 2 * IND_PATH || batch->group_count == IND_BATCH_GROUPS ||
        !ind_batch_has_place(batch, NULL))
        return NULL;
    struct ind_buffer path = ind_buffer_on(batch->arena + batch->used, IND_PATH);
    if (route->to == IND_TO_FILE)
        ind_template_path(template, message, &intake->clock, false, &path);
    uint64_t hash = ind_path_hash(ind_buffer_view(&path));
    struct ind_batch_group *group = find_group(batch, ind_buffer_view(&path), hash, index, &slot);
    if (!group) {
        group = add_group(intake, message, index, batch, ind_buffer_view(&path), hash);
        batch->slots[slot] = (uint16_t)batch->group_count;
    }
    if (known)
        *known = (struct ind_known_group){intake->round, group};
    return group;
}

/* True where it had to be cut. */
static bool write_line(struct ind_intake *intake, const struct ind_route *route,
                       const struct ind_message *message, struct ind_buffer *line)
{
    if (route->to == IND_TO_RELAY && route->form != IND_PASS_ON_JSON)
        return ind_pass_on_write(route->form, message, line);
    return route->line ? ind_line_write_template(route->line, message, &intake->clock, line)
                       : ind_line_write(route->layout, message, &intake->line_clock, line);
}

/* A message that an empty batch has no room for would be tried again forever. */
_Static_assert(IND_BATCH_BYTES >= 2 * IND_PATH + IND_LINE_MOST, "an empty batch takes any line");

static bool add_line(struct ind_intake *intake, const struct ind_message *message, uint32_t route,
                     uint32_t owner, struct ind_batch *batch)
{
    struct ind_batch_group *group = group_for(intake, message, route, batch);
    if (!group || !ind_batch_has_place(batch, group))
        return false;
    struct ind_buffer line = ind_buffer_on(batch->arena + batch->used, IND_BATCH_BYTES - batch->used);
    bool cut = write_line(intake, &intake->config->routes[route], message, &line);
    if (line.full)
        return false;
    group->cut += cut;
    if (intake->clog && ind_clog_is_behind(intake->clog, group->file_system))
        intake->at_hand.sender->behind = (uint8_t)(group->file_system + 1);
    ind_batch_add_line(batch, group,
                       &(struct ind_batch_line){.offset = (uint32_t)batch->used,
                                                .length = (uint32_t)line.length & INT32_MAX,
                                                .waits = intake->at_hand.waits,
                                                .owner = owner,
                                                .time = message->time});
    batch->used += line.length;
    return true;
}

static bool wants_fields(const struct ind_route *route)
{
    return route->layout == IND_LAYOUT_JSON || route->file.has_field ||
           (route->line && route->line->has_field);
}

/* Fields are taken out only where a file or a layout of the routes that took the message asks for them (a
 * condition has asked by itself). */
static IND_INLINE void read_fields(struct ind_intake *intake, struct ind_message *message, size_t count)
{
    for (size_t i = 0; i < count && intake->wants_fields && !message->payload; i++)
        if (wants_fields(&intake->config->routes[intake->taken[i]]))
            message->payload = ind_answers_payload(&intake->answers, message);
}

/* A line for each of the `count` routes, from next_copy on. False where there is no more room. */
static IND_INLINE bool add_lines(struct ind_intake *intake, const struct ind_message *message,
                                 uint32_t account, size_t count, struct ind_batch *batch)
{
    uint32_t owner = account;
    bool begun = false;
    if (count > 1) {
        if (batch->copies_count == IND_BATCH_LINES)
            return false;
        owner = IND_OWNER_COPIES | (uint32_t)batch->copies_count;
        batch->copies[batch->copies_count] =
            (struct ind_copies){account, (uint32_t)count, UINT32_MAX, intake->at_hand.next_copy > 0};
    }
    for (size_t i = intake->at_hand.next_copy; i < count; i++) {
        if (!add_line(intake, message, intake->taken[i], owner, batch)) {
            intake->at_hand.next_copy = i;
            return false;
        }
        batch->copies_count += count > 1 && !begun;
        begun = true;
    }
    intake->at_hand.next_copy = 0;
    return true;
}

#endif
