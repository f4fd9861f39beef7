#include "collect/intake.h"

#include "collect/senders.h"
#include "core/header.h"
#include "store/json_line.h"
#include <stdlib.h>
#include <unistd.h>

enum { RECENT = 1024 };

/* All its messages are of one group. */
static bool is_constant(const struct ind_route *route)
{
    return route->to != IND_TO_FILE ||
           (route->file.count == 1 && route->file.parts[0].put == IND_PUT_LITERAL);
}

struct ind_intake {
    const struct ind_config *config;
    struct ind_accounts *accounts;
    struct ind_slice domain;
    struct ind_answers answers;
    uint32_t *taken;
    size_t next_copy; /* of a message whose lines did not all fit into the last batch */
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    /* Of routes whose path is made of facility and severity alone, or is always the same: the group in the
     * present batch. */
    struct known_group {
        uint64_t round; /* of the batch for which it is known */
        struct ind_batch_group *group;
    } * groups;
    uint32_t *first_group; /* by route: its first in `groups`; NO_GROUP: what its paths are made of is more */
    struct known_tally {   /* of an account, in the present batch */
        uint64_t round;
        uint32_t tally;
    } * tallies;
    size_t tally_room;
    uint32_t recent[RECENT]; /* accounts */
    uint64_t round;
    struct ind_senders *senders;
    struct ind_known_sender *last; /* most messages come from where the one before came from */
    struct ind_known_sender named; /* for messages from files */
    struct ind_device local;       /* this machine, where it is not configured */
    char host[256];
    struct ind_json_line *json;
    char device[IND_DEVICE_SCRATCH];
};

#define NO_GROUP UINT32_MAX

/* A place for each path that facility and severity can make. */
static bool make_groups(struct ind_intake *intake)
{
    const struct ind_config *config = intake->config;
    uint32_t count = 0;
    intake->first_group = calloc(config->route_count + 1, sizeof *intake->first_group);
    for (size_t i = 0; intake->first_group && i < config->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        bool known = route->to != IND_TO_FILE || route->file.only_pri;
        intake->first_group[i] = known ? count : NO_GROUP;
        count += !known ? 0 : is_constant(route) ? 1 : IND_PRIS;
    }
    intake->groups = calloc(count + 1, sizeof *intake->groups);
    return intake->first_group && intake->groups;
}

struct ind_intake *ind_intake_new(const struct ind_config *config, struct ind_accounts *accounts)
{
    struct ind_intake *intake = calloc(1, sizeof *intake);
    if (!intake)
        return NULL;
    intake->config = config;
    intake->accounts = accounts;
    intake->domain = ind_devices_domain(config->devices);
    bool answers = ind_answers_begin(&intake->answers, config->conditions) &&
                   ind_router_prepare(config->router, &intake->answers);
    intake->taken = calloc(config->route_count, sizeof *intake->taken);
    bool groups = make_groups(intake);
    intake->json = ind_json_line_new();
    intake->senders = ind_senders_new();
    intake->clock.zone = config->zone;
    if (gethostname(intake->host, sizeof intake->host - 1) != 0 || !intake->host[0])
        strcpy(intake->host, "localhost");
    intake->local.name = intake->host;
    intake->local.name_length = strlen(intake->host);
    memset(intake->recent, 0xff, sizeof intake->recent);
    if (answers && intake->taken && groups && intake->json && intake->senders)
        return intake;
    ind_intake_free(intake);
    return NULL;
}

void ind_intake_free(struct ind_intake *intake)
{
    if (!intake)
        return;
    ind_senders_free(intake->senders);
    ind_json_line_free(intake->json);
    ind_answers_free(&intake->answers);
    free(intake->taken);
    free(intake->groups);
    free(intake->first_group);
    free(intake->tallies);
    free(intake);
}

static void fill_sender(struct ind_intake *intake, struct ind_known_sender *sender,
                        const struct ind_address *address)
{
    struct ind_buffer text = ind_buffer_on(sender->text, sizeof sender->text);
    sender->address = *address;
    sender->account = UINT32_MAX;
    if (address->bits == 0) {
        const struct ind_device *own =
            ind_devices_by_name(intake->config->devices, ind_slice_of(intake->host));
        sender->sender = (struct ind_sender){IND_NOTHING, own ? own : &intake->local, true};
        return;
    }
    ind_address_write(&text, address);
    sender->sender =
        (struct ind_sender){ind_buffer_view(&text), ind_devices_by_address(intake->config->devices, address),
                            ind_config_allows(intake->config, address)};
}

/* What the message will need next is on its way to the cache while its header is read. */
static const struct ind_sender *expect(struct ind_intake *intake, struct ind_known_sender *sender)
{
    intake->last = sender;
#if defined(__GNUC__) || defined(__clang__)
    const char *device = (const char *)sender->sender.device;
    if (device) {
        __builtin_prefetch(device);
        __builtin_prefetch(device + 64);
        if (sender->account < intake->tally_room)
            __builtin_prefetch(&intake->tallies[sender->account]);
    }
#endif
    return &sender->sender;
}

const struct ind_sender *ind_intake_sender(struct ind_intake *intake, const struct ind_address *address)
{
    struct ind_known_sender *sender = intake->last;
    if (sender && memcmp(&sender->address, address, sizeof *address) == 0)
        return &sender->sender;
    sender = ind_senders_find(intake->senders, address);
    if (!sender) {
        sender = ind_senders_add(intake->senders, address);
        if (!sender) { /* remembered for this once */
            fill_sender(intake, &intake->named, address);
            return &intake->named.sender;
        }
        fill_sender(intake, sender, address);
    }
    return expect(intake, sender);
}

const struct ind_sender *ind_intake_sender_named(struct ind_intake *intake, struct ind_slice text)
{
    struct ind_address address;
    bool known = ind_address_read(text, &address);
    intake->named.sender = (struct ind_sender){
        text, known ? ind_devices_by_address(intake->config->devices, &address) : NULL, true};
    return &intake->named.sender;
}

/* ---- The ledger ---- */

static struct ind_tally *tally_of(struct ind_intake *intake, uint32_t account, struct ind_batch *batch)
{
    if (account >= intake->tally_room) {
        size_t room = account + 256;
        struct known_tally *grown = realloc(intake->tallies, room * sizeof *grown);
        if (!grown)
            return NULL;
        memset(grown + intake->tally_room, 0, (room - intake->tally_room) * sizeof *grown);
        intake->tallies = grown;
        intake->tally_room = room;
    }
    struct known_tally *known = &intake->tallies[account];
    if (known->round == batch->round)
        return &batch->tallies[known->tally];
    if (batch->tally_count == IND_BATCH_TALLIES)
        return NULL;
    *known = (struct known_tally){batch->round, (uint32_t)batch->tally_count};
    struct ind_tally *tally = &batch->tallies[batch->tally_count++];
    *tally = (struct ind_tally){.account = account, .last = IND_TIME_NONE, .lag = IND_TIME_NONE};
    return tally;
}

/* An empty batch: nothing known of the last one is good any more. */
static void meet(struct ind_intake *intake, struct ind_batch *batch)
{
    if (batch->round == 0)
        batch->round = ++intake->round;
}

/* Accounts are remembered by what is cheap to tell of a name. */
static uint32_t *recent_account(struct ind_intake *intake, struct ind_slice device)
{
    uint64_t first = 0, last = 0, hash;
    if (device.length >= sizeof first) {
        memcpy(&first, device.at, sizeof first);
        memcpy(&last, device.at + device.length - sizeof last, sizeof last);
    } else {
        ind_copy_short((char *)&first, device.at, device.length);
    }
    hash = (first * UINT64_C(0x9E3779B97F4A7C15) ^ last) * UINT64_C(0xC2B2AE3D27D4EB4F);
    hash = (hash ^ hash >> 29) * UINT64_C(0x9E3779B97F4A7C15);
    return &intake->recent[(hash >> 40) % RECENT];
}

static bool is_account_of(const struct ind_intake *intake, uint32_t number, const struct ind_origin *origin,
                          const struct ind_message *message)
{
    if (number == UINT32_MAX)
        return false;
    const struct ind_account *account = ind_account_at(intake->accounts, number);
    bool known = message->configured != NULL;
    return account->listener == origin->number &&
           account->kind == (known ? IND_ACCOUNT_DEVICE : IND_ACCOUNT_STRANGER) &&
           ind_slice_equal(account->device, message->device) &&
           (known || ind_slice_equal(account->sender, origin->sender->text));
}

/* The sender's own record knows the account of a device that speaks for itself: nothing else is looked at, so
 * that it does not matter how many of them there are. */
static uint32_t account_of(struct ind_intake *intake, const struct ind_origin *origin,
                           const struct ind_message *message)
{
    struct ind_known_sender *known_sender = intake->last;
    bool own = known_sender && origin->sender == &known_sender->sender && message->configured &&
               message->configured == known_sender->sender.device;
    if (own && known_sender->account != UINT32_MAX && known_sender->listener == origin->number)
        return known_sender->account;
    uint32_t *recent = recent_account(intake, message->device);
    bool known = message->configured != NULL;
    if (!is_account_of(intake, *recent, origin, message))
        *recent = ind_account_for(intake->accounts, origin->number,
                                  known ? IND_ACCOUNT_DEVICE : IND_ACCOUNT_STRANGER, message->device,
                                  known ? IND_NOTHING : origin->sender->text);
    if (own) {
        known_sender->account = *recent;
        known_sender->listener = origin->number;
    }
    return *recent;
}

bool ind_intake_refuse(struct ind_intake *intake, struct ind_slice bytes, const struct ind_origin *origin,
                       struct ind_batch *batch)
{
    meet(intake, batch);
    uint32_t account = ind_account_for(intake->accounts, origin->number, IND_ACCOUNT_REFUSED,
                                       origin->sender->text, origin->sender->text);
    struct ind_tally *tally = tally_of(intake, account, batch);
    if (!tally)
        return false;
    tally->received++;
    tally->bytes += bytes.length;
    tally->last = origin->received;
    tally->ended[IND_END_REFUSED_SENDER]++;
    return true;
}

/* The whole message is in the account from here on. */
static void tally_message(struct ind_tally *tally, const struct ind_message *message, size_t length,
                          size_t routes, uint64_t gave_up)
{
    tally->received++;
    tally->gave_up += (uint32_t)gave_up;
    tally->bytes += length;
    tally->malformed += message->malformed != IND_MALFORMED_NOT;
    tally->cut += message->malformed == IND_MALFORMED_CUT;
    tally->forms[message->form]++;
    if (message->received != IND_TIME_NONE) {
        tally->last = message->received;
        tally->lag = message->sent != IND_TIME_NONE ? message->received - message->sent : IND_TIME_NONE;
        tally->unset = ind_mark_is_unset(message->mark);
    }
    if (message->original.length == 0)
        tally->ended[IND_END_REFUSED_EMPTY]++;
    else if (routes == 0)
        tally->ended[IND_END_UNROUTED]++;
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

void ind_intake_read_raw(const struct ind_config *config, struct ind_slice bytes,
                         const struct ind_origin *origin, char scratch[IND_DEVICE_SCRATCH],
                         struct ind_message *message)
{
    ind_time reference = origin->received != IND_TIME_NONE ? origin->received : origin->now;
    ind_header_read_with_device(config->devices, origin->sender->device, origin->sender->text, bytes,
                                reference, config->zone, scratch, message);
    message->transport = (uint8_t)origin->transport;
    message->listener = origin->listener;
    if (origin->cut)
        message->malformed = IND_MALFORMED_CUT;
    settle_time(origin, message);
}

static void read_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                         const struct ind_origin *origin, struct ind_message *message)
{
    bool stored = form == IND_LINES_PLAIN || form == IND_LINES_JSON;
    if (stored && read_stored(intake, form, bytes, message))
        return;
    ind_intake_read_raw(intake->config, bytes, origin, intake->device, message);
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
    batch->used += path.length + series.length;
    return group;
}

/* The group of the message's file under a route. NULL: no room. */
static struct ind_batch_group *group_for(struct ind_intake *intake, const struct ind_message *message,
                                         uint32_t index, struct ind_batch *batch)
{
    const struct ind_route *route = &intake->config->routes[index];
    const struct ind_template *template = &route->file;
    struct known_group *known = NULL;
    size_t slot;
    if (intake->first_group[index] != NO_GROUP) {
        unsigned pri = message->facility * 8u + message->severity;
        known = &intake->groups[intake->first_group[index] + (is_constant(route) ? 0 : pri)];
        if (known->round == intake->round)
            return known->group;
    }
    if (IND_BATCH_BYTES - batch->used < 2 * IND_PATH || batch->group_count == IND_BATCH_GROUPS)
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
        *known = (struct known_group){intake->round, group};
    return group;
}

static void write_line(struct ind_intake *intake, const struct ind_route *route,
                       const struct ind_message *message, struct ind_buffer *line)
{
    if (!route->line) {
        ind_line_write(route->layout, message, intake->domain, &intake->line_clock, line);
        return;
    }
    ind_template_line(route->line, message, &intake->clock, line);
    ind_buffer_byte(line, '\n');
}

static bool add_line(struct ind_intake *intake, const struct ind_message *message, uint32_t route,
                     uint32_t owner, struct ind_batch *batch)
{
    if (batch->line_count == IND_BATCH_LINES)
        return false;
    struct ind_batch_group *group = group_for(intake, message, route, batch);
    if (!group)
        return false;
    struct ind_buffer line = ind_buffer_on(batch->arena + batch->used, IND_BATCH_BYTES - batch->used);
    write_line(intake, &intake->config->routes[route], message, &line);
    if (line.full)
        return false;
    struct ind_batch_line *added = &batch->lines[batch->line_count++];
    *added = (struct ind_batch_line){(uint32_t)batch->used, (uint32_t)line.length, 0, owner, message->time};
    batch->used += line.length;
    group->lines++;
    group->bytes += line.length;
    if (group->last)
        batch->lines[group->last - 1].next = (uint32_t)batch->line_count;
    else
        group->first = (uint32_t)batch->line_count;
    group->last = (uint32_t)batch->line_count;
    return true;
}

static bool wants_fields(const struct ind_route *route)
{
    return route->layout == IND_LAYOUT_JSON || route->file.has_field ||
           (route->line && route->line->has_field);
}

/* Fields are taken out only where a file or a layout asks for them (a condition has asked by itself). */
static void read_fields(struct ind_intake *intake, struct ind_message *message, size_t count)
{
    for (size_t i = 0; i < count && !message->payload; i++)
        if (wants_fields(&intake->config->routes[intake->taken[i]]))
            message->payload = ind_answers_payload(&intake->answers, message);
}

/* A line for each route, from `next_copy` on. */
static bool add_copies(struct ind_intake *intake, const struct ind_message *message, uint32_t account,
                       size_t count, struct ind_batch *batch)
{
    uint32_t owner = account;
    bool begun = false;
    if (count > 1) {
        if (batch->copies_count == IND_BATCH_LINES)
            return false;
        owner = IND_OWNER_COPIES | (uint32_t)batch->copies_count;
        batch->copies[batch->copies_count] =
            (struct ind_batch_copies){account, (uint32_t)count, UINT32_MAX, intake->next_copy > 0};
    }
    for (size_t i = intake->next_copy; i < count; i++) {
        if (!add_line(intake, message, intake->taken[i], owner, batch)) {
            intake->next_copy = i;
            return false;
        }
        batch->copies_count += count > 1 && !begun;
        begun = true;
    }
    intake->next_copy = 0;
    return true;
}

bool ind_intake_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                        const struct ind_origin *origin, struct ind_batch *batch, bool *tallied)
{
    struct ind_message message;
    size_t length = bytes.length, count = 0;
    meet(intake, batch);
    bool cut = origin->cut || length > IND_MESSAGE_LIMIT;
    if (length > IND_MESSAGE_LIMIT)
        bytes.length = IND_MESSAGE_LIMIT;
    read_message(intake, form, bytes, origin, &message);
    if (cut)
        message.malformed = IND_MALFORMED_CUT;
    uint32_t account = account_of(intake, origin, &message);
    struct ind_tally *tally = *tallied ? NULL : tally_of(intake, account, batch);
    if (!tally && !*tallied)
        return false;
    const uint64_t gave_up = ind_answers_gave_up(&intake->answers);
    if (message.original.length > 0)
        count = ind_router_decide(intake->config->router, &message, &intake->answers, intake->taken);
    read_fields(intake, &message, count);
    bool whole = add_copies(intake, &message, account, count, batch);
    if (!*tallied && (whole || intake->next_copy > 0)) {
        tally_message(tally, &message, length, count, ind_answers_gave_up(&intake->answers) - gave_up);
        *tallied = true;
    }
    return whole;
}
