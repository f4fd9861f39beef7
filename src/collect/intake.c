#include "collect/intake.h"

#include "core/header.h"
#include "store/json_line.h"
#include <stdlib.h>
#include <uthash.h>

enum { SENDERS = 65536 };

struct known_sender {
    UT_hash_handle hh;
    struct ind_address address;
    char text[IND_ADDRESS_WIDTH];
    size_t length;
    const struct ind_device *device;
    bool allowed;
};

struct ind_intake {
    const struct ind_config *config;
    struct ind_slice domain;
    struct ind_answers answers;
    uint32_t *taken;
    size_t next_copy; /* of a message whose lines did not all fit into the last batch */
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    /* Of routes whose path is made of facility and severity alone: the group in the present batch, by route
     * and PRI. */
    struct known_group {
        uint64_t round; /* of the batch for which it is known */
        struct ind_batch_group *group;
    } * groups;
    uint64_t round;
    struct known_sender *senders;
    struct ind_json_line *json;
    char device[IND_DEVICE_SCRATCH];
};

struct ind_intake *ind_intake_new(const struct ind_config *config)
{
    struct ind_intake *intake = calloc(1, sizeof *intake);
    if (!intake)
        return NULL;
    intake->config = config;
    intake->domain = ind_devices_domain(config->devices);
    intake->answers.of_test =
        calloc(ind_conditions_tests(config->conditions) + 1, sizeof *intake->answers.of_test);
    intake->taken = calloc(config->route_count, sizeof *intake->taken);
    intake->groups = calloc(config->route_count * IND_PRIS, sizeof *intake->groups);
    intake->json = ind_json_line_new();
    intake->clock.zone = config->zone;
    if (intake->answers.of_test && intake->taken && intake->groups && intake->json)
        return intake;
    ind_intake_free(intake);
    return NULL;
}

static void forget_senders(struct ind_intake *intake)
{
    struct known_sender *sender, *next;
    HASH_ITER(hh, intake->senders, sender, next)
    {
        HASH_DEL(intake->senders, sender);
        free(sender);
    }
}

void ind_intake_free(struct ind_intake *intake)
{
    if (!intake)
        return;
    forget_senders(intake);
    ind_json_line_free(intake->json);
    free(intake->answers.of_test);
    free(intake->taken);
    free(intake->groups);
    free(intake);
}

/* Addresses of senders can be forged: what is remembered of them is bounded. */
struct ind_sender ind_intake_sender(struct ind_intake *intake, const struct ind_address *address)
{
    struct known_sender *sender;
    HASH_FIND(hh, intake->senders, address, sizeof *address, sender);
    if (!sender) {
        if (HASH_COUNT(intake->senders) >= SENDERS)
            forget_senders(intake);
        sender = calloc(1, sizeof *sender);
        if (!sender)
            return (struct ind_sender){IND_NOTHING, NULL, ind_config_allows(intake->config, address)};
        struct ind_buffer text = ind_buffer_on(sender->text, sizeof sender->text);
        ind_address_write(&text, address);
        sender->address = *address;
        sender->length = text.length;
        sender->device = ind_devices_by_address(intake->config->devices, address);
        sender->allowed = ind_config_allows(intake->config, address);
        HASH_ADD(hh, intake->senders, address, sizeof sender->address, sender);
    }
    return (struct ind_sender){{sender->text, sender->length}, sender->device, sender->allowed};
}

static bool read_stored(struct ind_intake *intake, enum ind_line_form form, struct ind_slice line,
                        struct ind_message *message)
{
    bool good = form == IND_LINES_PLAIN ? ind_line_read_plain(line, message)
                                        : ind_json_line_read(intake->json, line, message);
    if (good)
        message->configured = ind_devices_by_name(intake->config->devices, message->device);
    return good;
}

/* `time`, by which a message is filed: when it was received; for messages from files, what they say
 * themselves. */
static void settle_time(const struct ind_origin *origin, struct ind_message *message)
{
    if (origin->transport != IND_TRANSPORT_FILE) {
        message->received = message->time = origin->received;
        return;
    }
    message->time = message->sent != IND_TIME_NONE      ? message->sent
                    : origin->received != IND_TIME_NONE ? origin->received
                                                        : origin->now;
}

static void read_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                         const struct ind_origin *origin, struct ind_message *message)
{
    bool stored = form == IND_LINES_PLAIN || form == IND_LINES_JSON;
    if (stored && read_stored(intake, form, bytes, message))
        return;
    ind_time reference = origin->received != IND_TIME_NONE ? origin->received : origin->now;
    ind_header_read_with_device(intake->config->devices, origin->device, origin->sender, bytes, reference,
                                intake->config->zone, intake->device, message);
    message->transport = (uint8_t)origin->transport;
    message->listener = origin->listener;
    settle_time(origin, message);
}

/* A path counts as made up where a message could make up others; a configured device vouches for its own
 * name. */
static bool is_made_up(const struct ind_template *template, const struct ind_message *message)
{
    if (template->has_message)
        return !(template->only_device && message->configured);
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
    ind_template_path(template, message, &intake->clock, true, &series);
    struct ind_batch_group *group = &batch->groups[batch->group_count++];
    *group = (struct ind_batch_group){.path = (uint32_t)batch->used,
                                      .path_length = (uint32_t)path.length,
                                      .series = (uint32_t)(batch->used + path.length),
                                      .series_length = (uint32_t)series.length,
                                      .route = index,
                                      .hash = hash,
                                      .made_up = is_made_up(template, message)};
    batch->used += path.length + series.length;
    return group;
}

/* The group of the message's file under a route. NULL: no room. */
static struct ind_batch_group *group_for(struct ind_intake *intake, const struct ind_message *message,
                                         uint32_t index, struct ind_batch *batch)
{
    const struct ind_template *template = &intake->config->routes[index].file;
    struct known_group *known =
        &intake->groups[index * IND_PRIS + message->facility * 8u + message->severity];
    size_t slot;
    if (known->round == intake->round)
        return known->group;
    if (IND_BATCH_BYTES - batch->used < 2 * IND_PATH || batch->group_count == IND_BATCH_GROUPS)
        return NULL;
    struct ind_buffer path = ind_buffer_on(batch->arena + batch->used, IND_PATH);
    ind_template_path(template, message, &intake->clock, false, &path);
    uint64_t hash = ind_path_hash(ind_buffer_view(&path));
    struct ind_batch_group *group = find_group(batch, ind_buffer_view(&path), hash, index, &slot);
    if (!group) {
        group = add_group(intake, message, index, batch, ind_buffer_view(&path), hash);
        batch->slots[slot] = (uint16_t)batch->group_count;
    }
    if (template->only_pri)
        *known = (struct known_group){intake->round, group};
    return group;
}

static bool add_line(struct ind_intake *intake, const struct ind_message *message, uint32_t route,
                     bool counted, struct ind_batch *batch)
{
    if (batch->line_count == IND_BATCH_LINES)
        return false;
    struct ind_batch_group *group = group_for(intake, message, route, batch);
    if (!group)
        return false;
    struct ind_buffer line = ind_buffer_on(batch->arena + batch->used, IND_BATCH_BYTES - batch->used);
    ind_line_write(intake->config->routes[route].layout, message, intake->domain, &intake->line_clock, &line);
    if (line.full)
        return false;
    struct ind_batch_line *added = &batch->lines[batch->line_count++];
    *added = (struct ind_batch_line){(uint32_t)batch->used, (uint32_t)line.length, 0, counted, message->time};
    batch->used += line.length;
    if (group->last)
        batch->lines[group->last - 1].next = (uint32_t)batch->line_count;
    else
        group->first = (uint32_t)batch->line_count;
    group->last = (uint32_t)batch->line_count;
    return true;
}

bool ind_intake_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                        const struct ind_origin *origin, struct ind_batch *batch)
{
    struct ind_message message;
    intake->round += batch->group_count == 0; /* an empty batch: no group of the last one is good any more */
    bool cut = bytes.length > IND_MESSAGE_LIMIT;
    if (cut)
        bytes.length = IND_MESSAGE_LIMIT;
    read_message(intake, form, bytes, origin, &message);
    if (message.original.length == 0) {
        batch->ledger.received++;
        batch->ledger.refused_empty++;
        return true;
    }
    if (cut)
        message.malformed = IND_MALFORMED_CUT;
    size_t count = ind_router_decide(intake->config->router, &message, &intake->answers, intake->taken);
    for (size_t i = intake->next_copy; i < count; i++)
        if (!add_line(intake, &message, intake->taken[i], i == 0, batch)) {
            intake->next_copy = i;
            return false;
        }
    intake->next_copy = 0;
    batch->ledger.received++;
    batch->ledger.unrouted += count == 0;
    batch->ledger.malformed += message.malformed != IND_MALFORMED_NOT;
    batch->ledger.cut += cut;
    return true;
}
