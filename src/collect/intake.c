#include "collect/intake_inside.h"
#include "collect/intake_lines.h"

#include "core/message/header.h"
#include <stdlib.h>
#include <unistd.h>

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
        count += !known ? 0 : ind_route_is_constant(route) ? 1 : IND_PRIS;
    }
    intake->groups = calloc(count + 1, sizeof *intake->groups);
    return intake->first_group && intake->groups;
}

/* Without edits a message passes none of this. */
static bool make_editor(struct ind_intake *intake)
{
    const struct ind_edits *edits = &intake->config->edits;
    if (edits->count == 0)
        return true;
    intake->editor = ind_editor_new(edits);
    intake->edit_round = calloc(edits->count, sizeof *intake->edit_round);
    intake->edit_place = calloc(edits->count, sizeof *intake->edit_place);
    return intake->editor && intake->edit_round && intake->edit_place &&
           ind_router_prepare(edits->router, &intake->answers);
}

/* Some at once, so that there is a tally even where memory is out later. */
static bool make_tallies(struct ind_intake *intake)
{
    intake->tally_room = 256;
    intake->tallies = calloc(intake->tally_room, sizeof *intake->tallies);
    return intake->tallies != NULL;
}

struct ind_intake *ind_intake_new(const struct ind_config *config, struct ind_accounts *accounts,
                                  struct ind_edit_states *recalls)
{
    struct ind_intake *intake = calloc(1, sizeof *intake);
    if (!intake)
        return NULL;
    intake->config = config;
    intake->accounts = accounts;
    intake->recalls = recalls;
    bool answers = ind_answers_begin(&intake->answers, config->conditions) &&
                   ind_router_prepare(config->router, &intake->answers) && make_editor(intake);
    intake->taken = calloc(config->route_count, sizeof *intake->taken);
    bool groups = make_groups(intake);
    intake->reader = ind_line_reader_new();
    intake->senders = ind_senders_new();
    intake->clock.zone = config->zone;
    if (gethostname(intake->host, sizeof intake->host - 1) != 0 || !intake->host[0])
        strcpy(intake->host, "localhost");
    intake->local.name = intake->host;
    intake->local.name_length = strlen(intake->host);
    memset(intake->recent, 0xff, sizeof intake->recent);
    if (answers && intake->taken && groups && intake->reader && make_tallies(intake) && intake->senders)
        return intake;
    ind_intake_free(intake);
    return NULL;
}

void ind_intake_free(struct ind_intake *intake)
{
    if (!intake)
        return;
    ind_senders_free(intake->senders);
    ind_line_reader_free(intake->reader);
    ind_answers_free(&intake->answers);
    ind_editor_free(intake->editor);
    free(intake->edit_round);
    free(intake->edit_place);
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

static bool make_tally_room(struct ind_intake *intake, uint32_t account)
{
    size_t room = account + 256;
    struct known_tally *grown = realloc(intake->tallies, room * sizeof *grown);
    if (!grown)
        return false;
    memset(grown + intake->tally_room, 0, (room - intake->tally_room) * sizeof *grown);
    intake->tallies = grown;
    intake->tally_room = room;
    return true;
}

/* NULL where the batch has no room: an empty one always has. Where memory is out a message counts in the
 * first account there is: better in a wrong row than in none. */
static struct ind_tally *tally_of(struct ind_intake *intake, uint32_t account, struct ind_batch *batch)
{
    if (account >= intake->tally_room && !make_tally_room(intake, account))
        account = 0;
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

/* What tells the account of a message from others of the same listener. */
struct account_key {
    enum ind_account_kind kind;
    struct ind_slice device, sender;
};

static struct account_key key_of(const struct ind_origin *origin, const struct ind_message *message)
{
    if (message->configured)
        return (struct account_key){IND_ACCOUNT_DEVICE, message->device, IND_NOTHING};
    const struct ind_device *claimed = message->claimed;
    if (claimed)
        return (struct account_key){
            IND_ACCOUNT_CLAIMANT, {claimed->name, claimed->name_length}, origin->sender->text};
    return (struct account_key){IND_ACCOUNT_STRANGER, message->device, origin->sender->text};
}

static bool is_account_of(const struct ind_intake *intake, uint32_t number, const struct ind_origin *origin,
                          const struct account_key *key)
{
    if (number == UINT32_MAX)
        return false;
    const struct ind_account *account = ind_account_at(intake->accounts, number);
    return account->listener == origin->number && account->kind == key->kind &&
           ind_slice_equal(account->device, key->device) && ind_slice_equal(account->sender, key->sender);
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
    struct account_key key = key_of(origin, message);
    uint32_t *recent = recent_account(intake, key.device);
    if (!is_account_of(intake, *recent, origin, &key))
        *recent = ind_account_for(intake->accounts, origin->number, key.kind, key.device, key.sender);
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
static void tally_message(struct ind_tally *tally, const struct at_hand *at_hand, size_t length)
{
    const struct ind_message *message = &at_hand->message;
    tally->received++;
    tally->gave_up += (uint32_t)at_hand->gave_up;
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
    else if (at_hand->dropped)
        tally->ended[IND_END_DROPPED]++;
    else if (at_hand->routes == 0)
        tally->ended[IND_END_UNROUTED]++;
}

static struct ind_edit_tally *edit_tally_of(struct ind_intake *intake, size_t edit, struct ind_batch *batch)
{
    if (intake->edit_round[edit] == batch->round)
        return &batch->edit_tallies[intake->edit_place[edit]];
    intake->edit_round[edit] = batch->round;
    intake->edit_place[edit] = (uint32_t)batch->edit_tally_count;
    struct ind_edit_tally *tally = &batch->edit_tallies[batch->edit_tally_count++];
    *tally = (struct ind_edit_tally){.edit = intake->config->edits.list[edit].name};
    return tally;
}

/* A batch has room for all the edits that there can be. */
static void tally_edits(struct ind_intake *intake, size_t length, struct ind_batch *batch)
{
    size_t count;
    const struct ind_edit *dropped = intake->at_hand.dropped;
    const uint32_t *changed = ind_editor_changed(intake->editor, &count);
    for (size_t i = 0; i < count; i++)
        edit_tally_of(intake, changed[i], batch)->changed++;
    if (!dropped)
        return;
    struct ind_edit_tally *tally =
        edit_tally_of(intake, (size_t)(dropped - intake->config->edits.list), batch);
    tally->dropped++;
    tally->dropped_bytes += length;
}

/* False where it is a message as it was sent: *bytes. */
static bool read_stored(struct ind_intake *intake, enum ind_line_form form, struct ind_slice line,
                        struct ind_message *message, struct ind_slice *bytes)
{
    static const int stored_of[] = {[IND_LINES_RAW] = IND_STORED_UNKNOWN,
                                    [IND_LINES_PLAIN] = IND_LAYOUT_PLAIN,
                                    [IND_LINES_JSON] = IND_LAYOUT_JSON,
                                    [IND_LINES_RFC5424] = IND_LAYOUT_RFC5424,
                                    [IND_LINES_STORED_RAW] = IND_LAYOUT_RAW};
    bool good = ind_line_reader_read(intake->reader, stored_of[form], line, message, bytes);
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
    message->received = origin->received; /* where somebody has said when */
    message->time = message->sent != IND_TIME_NONE      ? message->sent
                    : origin->received != IND_TIME_NONE ? origin->received
                                                        : origin->now;
}

/* Settles the year of dates that have none. */
static ind_time reference_of(const struct ind_origin *origin)
{
    return origin->received != IND_TIME_NONE ? origin->received : origin->now;
}

void ind_intake_read_raw(const struct ind_config *config, struct ind_slice bytes,
                         const struct ind_origin *origin, char scratch[IND_DEVICE_SCRATCH],
                         struct ind_message *message)
{
    ind_header_read_with_device(config->devices, origin->sender->device, origin->sender->text, bytes,
                                reference_of(origin), config->zone, scratch, message);
    message->transport = (uint8_t)origin->transport;
    message->listener = origin->listener;
    if (origin->cut)
        message->malformed = IND_MALFORMED_CUT;
    settle_time(origin, message);
}

/* Of a message that is over the size limit the beginning; a stored line of one may be longer. */
static void read_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                         const struct ind_origin *origin, struct ind_message *message)
{
    if (form != IND_LINES_RAW && read_stored(intake, form, bytes, message, &bytes)) {
        if (origin->cut || message->line_cut)
            message->malformed = IND_MALFORMED_CUT;
        return;
    }
    bool cut = bytes.length > IND_MESSAGE_LIMIT;
    bytes.length = cut ? IND_MESSAGE_LIMIT : bytes.length;
    ind_intake_read_raw(intake->config, bytes, origin, intake->device, message);
    if (cut)
        message->malformed = IND_MALFORMED_CUT;
}

/* ---- Edits ---- */

static bool remember(void *context, const struct ind_edit *edit, const struct ind_message *message)
{
    struct ind_intake *intake = context;
    uint64_t key;
    bool goes_on = ind_edit_states_ask(intake->recalls, edit, message, intake->moment, &key);
    if (goes_on && key && edit->kind != IND_EDIT_KEEP && intake->begun_count < MOST_BEGUN)
        intake->begun[intake->begun_count++] = key;
    return goes_on;
}

static void on_change(void *context, const struct ind_change *change)
{
    const struct ind_intake *intake = context;
    intake->onlooker.changed(intake->onlooker.context, change, &intake->at_hand.message);
}

static void apply_edits(struct ind_intake *intake, const struct ind_origin *origin)
{
    const struct ind_edit_call call = {.remember = intake->recalls ? remember : NULL,
                                       .changed = intake->onlooker.changed ? on_change : NULL,
                                       .context = intake};
    struct at_hand *at_hand = &intake->at_hand;
    ind_time reference = reference_of(origin);
    uint64_t before = ind_editor_gave_up(intake->editor);
    intake->begun_count = 0;
    intake->moment =
        ind_steady_is_set(origin->moment) ? origin->moment : ind_edit_state_moment(at_hand->message.time);
    at_hand->dropped = ind_edits_apply(&intake->config->edits, intake->editor, &at_hand->message,
                                       &intake->answers, reference, &call);
    if (at_hand->dropped)
        ind_edits_hide_device(&intake->config->edits, intake->editor, &at_hand->message);
    at_hand->gave_up += ind_editor_gave_up(intake->editor) - before;
    for (size_t i = 0; i < intake->begun_count && !at_hand->dropped; i++)
        ind_edit_states_settle(intake->recalls, intake->begun[i], &at_hand->message);
}

static void tell_decided(struct ind_intake *intake)
{
    struct at_hand *at_hand = &intake->at_hand;
    struct ind_decided decided = {.message = &at_hand->message,
                                  .dropped = at_hand->dropped,
                                  .taken = intake->taken,
                                  .taken_count = at_hand->routes,
                                  .answers = &intake->answers};
    if (intake->editor && at_hand->message.original.length)
        decided.changed = ind_editor_changed(intake->editor, &decided.changed_count);
    intake->onlooker.decided(intake->onlooker.context, &decided);
}

void ind_intake_look_on(struct ind_intake *intake, const struct ind_onlooker *onlooker)
{
    intake->onlooker = *onlooker;
}

const struct ind_device *ind_intake_claimed(const struct ind_intake *intake)
{
    return intake->at_hand.message.claimed;
}

ind_time ind_intake_time(const struct ind_intake *intake)
{
    return intake->at_hand.message.time;
}

/* ---- A message ---- */

/* Everything but its lines. */
static void take_in_hand(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                         const struct ind_origin *origin)
{
    struct at_hand *at_hand = &intake->at_hand;
    struct ind_message *message = &at_hand->message;
    at_hand->bytes = bytes;
    at_hand->under_way = true;
    at_hand->routes = 0;
    at_hand->gave_up = 0;
    at_hand->dropped = NULL;
    read_message(intake, form, bytes, origin, message);
    if (message->original.length > 0) {
        const uint64_t gave_up = ind_answers_gave_up(&intake->answers);
        if (intake->editor)
            apply_edits(intake, origin);
        else
            ind_answers_next(&intake->answers);
        if (!at_hand->dropped)
            at_hand->routes =
                ind_router_decide(intake->config->router, message, &intake->answers, intake->taken);
        at_hand->gave_up += ind_answers_gave_up(&intake->answers) - gave_up;
    }
    read_fields(intake, message, at_hand->routes);
    if (intake->onlooker.decided)
        tell_decided(intake);
}

const struct ind_message *ind_intake_view(struct ind_intake *intake, enum ind_line_form form,
                                          struct ind_slice bytes, const struct ind_origin *origin)
{
    const struct ind_edit_call call = {.go_on = true};
    struct ind_message *message = &intake->at_hand.message;
    read_message(intake, form, bytes, origin, message);
    if (intake->editor && message->original.length)
        (void)ind_edits_apply(&intake->config->edits, intake->editor, message, &intake->answers,
                              reference_of(origin), &call);
    return message;
}

bool ind_intake_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                        const struct ind_origin *origin, struct ind_batch *batch, bool *tallied)
{
    struct at_hand *at_hand = &intake->at_hand;
    meet(intake, batch);
    if (!at_hand->under_way || at_hand->bytes.at != bytes.at || at_hand->bytes.length != bytes.length)
        take_in_hand(intake, form, bytes, origin);
    const struct ind_message *message = &at_hand->message;
    uint32_t account = account_of(intake, origin, message);
    struct ind_tally *tally = *tallied ? NULL : tally_of(intake, account, batch);
    if (!tally && !*tallied)
        return false;
    bool whole = add_lines(intake, message, account, at_hand->routes, batch);
    if (!*tallied && (whole || intake->next_copy > 0)) {
        tally_message(tally, at_hand, bytes.length);
        if (intake->editor && message->original.length)
            tally_edits(intake, bytes.length, batch);
        *tallied = true;
    }
    at_hand->under_way = !whole;
    return whole;
}
