#include "collect/intake/intake_private.h"
#include "collect/intake/lines_private.h"
#include "collect/intake/noting.h"
#include "collect/runtime/internal_message.h"

#include <stdlib.h>

/* A place for each path that facility and severity can make. */
static bool make_groups(struct ind_intake *intake)
{
    const struct ind_config *config = intake->config;
    uint32_t count = 0;
    intake->first_group = calloc(config->route_count + 1, sizeof *intake->first_group);
    for (size_t i = 0; intake->first_group && i < config->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        bool known = route->to != IND_TO_FILE || route->file.only_pri;
        intake->first_group[i] = known ? count : IND_NO_GROUP;
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
                                  struct ind_edit_states *states)
{
    struct ind_intake *intake = calloc(1, sizeof *intake);
    if (!intake)
        return NULL;
    intake->config = config;
    intake->accounts = accounts;
    intake->states = states;
    bool answers = ind_answers_begin(&intake->answers, config->conditions) &&
                   ind_router_prepare(config->router, &intake->answers) && make_editor(intake) &&
                   ind_alerting_begin(&intake->alerting, config, &intake->answers);
    intake->taken = calloc(config->route_count, sizeof *intake->taken);
    for (size_t i = 0; i < config->route_count; i++)
        intake->wants_fields |= wants_fields(&config->routes[i]);
    bool groups = make_groups(intake);
    bool reader = ind_message_reader_begin(&intake->reader, config);
    intake->senders = ind_senders_new();
    intake->clock.zone = config->zone;
    intake->clock.times = intake->line_clock.zone = config->times;
    ind_this_machine(intake->host, sizeof intake->host);
    intake->local.name = intake->host;
    intake->local.name_length = strlen(intake->host);
    memset(intake->recent, 0xff, sizeof intake->recent);
    if (answers && intake->taken && groups && reader && make_tallies(intake) && intake->senders)
        return intake;
    ind_intake_free(intake);
    return NULL;
}

void ind_intake_free(struct ind_intake *intake)
{
    if (!intake)
        return;
    ind_senders_free(intake->senders);
    ind_message_reader_end(&intake->reader);
    ind_answers_free(&intake->answers);
    ind_alerting_end(&intake->alerting);
    ind_editor_free(intake->editor);
    free(intake->edit_round);
    free(intake->edit_place);
    free(intake->taken);
    free(intake->groups);
    free(intake->first_group);
    free(intake->tallies);
    free(intake);
}

void ind_intake_divide(struct ind_intake *intake, const struct ind_mounts *mounts,
                       const struct ind_clog *clog)
{
    intake->mounts = mounts;
    intake->clog = clog;
}

void ind_intake_remember(struct ind_intake *intake, struct ind_notes *notes)
{
    intake->notes = notes;
}

bool ind_intake_holds(const struct ind_intake *intake, const struct ind_address *address)
{
    if (!intake->clog || !ind_clog_any(intake->clog))
        return false;
    const struct ind_known_sender *known = ind_senders_find(intake->senders, address);
    return known && known->sender.behind && ind_clog_is_behind(intake->clog, known->sender.behind - 1u);
}

static struct ind_sender *fill_sender(struct ind_intake *intake, struct ind_known_sender *known,
                                      const struct ind_address *address)
{
    struct ind_buffer text = ind_buffer_on(known->text, sizeof known->text);
    known->address = *address;
    ind_sender_describe(intake->config, address, &intake->local, &text, &known->sender);
    return &known->sender;
}

/* What the message will need next is on its way to the cache while its header, or another's, is read. */
static void expect(const struct ind_intake *intake, const struct ind_sender *sender)
{
#if defined(__GNUC__) || defined(__clang__)
    const char *device = (const char *)sender->device;
    if (device) {
        __builtin_prefetch(device);
        __builtin_prefetch(device + 64);
        if (sender->account < intake->tally_room)
            __builtin_prefetch(&intake->tallies[sender->account]);
    }
#else
    (void)intake;
    (void)sender;
#endif
}

static inline bool is_of(const struct ind_known_sender *known, const struct ind_address *address)
{
    return known && memcmp(&known->address, address, sizeof *address) == 0;
}

void ind_intake_expect(const struct ind_intake *intake, const struct ind_address *soon,
                       const struct ind_address *later)
{
    const struct ind_known_sender *last = intake->last;
    if (later && !is_of(last, later))
        ind_senders_expect(intake->senders, later);
    if (!soon || is_of(last, soon))
        return;
    const struct ind_known_sender *known = ind_senders_find(intake->senders, soon);
    if (known)
        expect(intake, &known->sender);
}

struct ind_sender *ind_intake_sender(struct ind_intake *intake, const struct ind_address *address)
{
    struct ind_known_sender *known = intake->last;
    if (is_of(known, address))
        return &known->sender;
    known = ind_senders_find(intake->senders, address);
    if (!known) {
        known = ind_senders_add(intake->senders, address);
        if (!known) /* remembered for this once */
            return fill_sender(intake, &intake->named, address);
        (void)fill_sender(intake, known, address);
    }
    intake->last = known;
    expect(intake, &known->sender);
    return &known->sender;
}

struct ind_sender *ind_intake_sender_named(struct ind_intake *intake, struct ind_slice text)
{
    struct ind_address address;
    bool known = ind_address_read(text, &address);
    intake->named.sender = (struct ind_sender){
        .text = text,
        .device = known ? ind_devices_by_address(intake->config->devices, &address) : NULL,
        .allowed = true,
        .account = UINT32_MAX};
    return &intake->named.sender;
}

/* ---- The ledger ---- */

static bool make_tally_room(struct ind_intake *intake, uint32_t account)
{
    size_t room = account + 256;
    struct ind_known_tally *grown = realloc(intake->tallies, room * sizeof *grown);
    if (!grown)
        return false;
    memset(grown + intake->tally_room, 0, (room - intake->tally_room) * sizeof *grown);
    intake->tallies = grown;
    intake->tally_room = room;
    return true;
}

/* NULL where the batch has no room: an empty one always has. Where memory is out a message counts in the
 * first account there is: better in a wrong row than in none. */
static IND_INLINE struct ind_tally *tally_of(struct ind_intake *intake, uint32_t account,
                                             struct ind_batch *batch)
{
    if (account >= intake->tally_room && !make_tally_room(intake, account))
        account = 0;
    struct ind_known_tally *known = &intake->tallies[account];
    if (known->round == batch->round)
        return &batch->tallies[known->tally];
    if (batch->tally_count == IND_BATCH_TALLIES)
        return NULL;
    *known = (struct ind_known_tally){batch->round, (uint32_t)batch->tally_count};
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
    return &intake->recent[(hash >> 40) % IND_RECENT_ACCOUNTS];
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
    struct ind_sender *sender = origin->sender;
    bool speaks_itself = message->configured && message->configured == sender->device;
    if (speaks_itself && sender->account != UINT32_MAX && sender->listener == origin->number)
        return sender->account;
    struct account_key key = key_of(origin, message);
    uint32_t *recent = recent_account(intake, key.device);
    if (!is_account_of(intake, *recent, origin, &key))
        *recent = ind_account_for(intake->accounts, origin->number, key.kind, key.device, key.sender);
    if (speaks_itself) {
        sender->account = *recent;
        sender->listener = origin->number;
    }
    return *recent;
}

static IND_INLINE void tally_routes(struct ind_tally *tally, const uint32_t *taken, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        unsigned n = 0;
        while (n < IND_TALLY_ROUTES && tally->routes[n].messages > 0 && tally->routes[n].route != taken[i])
            n++;
        if (n == IND_TALLY_ROUTES) {
            tally->other_routes++;
            continue;
        }
        tally->routes[n].route = taken[i];
        tally->routes[n].messages++;
    }
}

/* The whole message is in the account from here on. */
static IND_INLINE void tally_message(struct ind_tally *tally, const struct ind_message_at_hand *at_hand,
                                     const uint32_t *taken)
{
    const struct ind_message *message = &at_hand->message;
    tally->received++;
    tally->bytes += at_hand->length;
    if (at_hand->refused) {
        tally->last = message->received;
        tally->ended[at_hand->refused_as]++;
        return;
    }
    tally->gave_up += (uint32_t)at_hand->gave_up;
    tally->malformed += message->malformed != IND_MALFORMED_NOT;
    tally->cut += message->malformed == IND_MALFORMED_CUT;
    tally->forms[message->form]++;
    tally->severities[message->severity]++;
    tally_routes(tally, taken, at_hand->routes);
    if (message->received != IND_TIME_NONE) {
        tally->last = message->received;
        if (message->sent != IND_TIME_NONE) /* one without a time says nothing of the clock */
            tally->lag = message->received - message->sent;
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

/* ---- Edits ---- */

static bool ask_states(struct ind_intake *intake, const struct ind_edit *edit,
                       const struct ind_message *message)
{
    uint64_t key;
    bool goes_on = ind_edit_states_ask(intake->states, edit, message, intake->moment, &key);
    if (goes_on && key && edit->kind != IND_EDIT_THIN && intake->begun_count < IND_MOST_BEGUN)
        intake->begun[intake->begun_count++] = key;
    return goes_on;
}

/* A message that is read again is not asked for again: the same edits come to it in the same order. */
static bool remember(void *context, const struct ind_edit *edit, const struct ind_message *message)
{
    struct ind_intake *intake = context;
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    if (at_hand->replay && at_hand->replayed < at_hand->said_count)
        return at_hand->said[at_hand->replayed++];
    bool goes_on = ask_states(intake, edit, message);
    if (at_hand->said_count < IND_MOST_EDITS)
        at_hand->said[at_hand->said_count++] = goes_on;
    return goes_on;
}

static void on_change(void *context, const struct ind_change *change)
{
    const struct ind_intake *intake = context;
    intake->onlooker.changed(intake->onlooker.context, change, &intake->at_hand.message);
}

static void apply_edits(struct ind_intake *intake, const struct ind_origin *origin)
{
    const struct ind_edit_call call = {.remember = intake->states ? remember : NULL,
                                       .changed = intake->onlooker.changed ? on_change : NULL,
                                       .context = intake};
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    ind_time reference = ind_origin_reference(origin);
    uint64_t before = ind_editor_gave_up(intake->editor);
    intake->begun_count = 0;
    intake->moment =
        ind_steady_is_set(origin->moment) ? origin->moment : ind_edit_state_moment(at_hand->message.time);
    at_hand->dropped = ind_edits_apply(&intake->config->edits, intake->editor, &at_hand->message,
                                       &intake->answers, reference, &call);
    if (at_hand->dropped)
        ind_edits_hide_device(&intake->config->edits, intake->editor, &at_hand->message);
    at_hand->gave_up += ind_editor_gave_up(intake->editor) - before;
    for (size_t i = 0; i < intake->begun_count && !at_hand->dropped && !at_hand->replay; i++)
        ind_edit_states_settle(intake->states, intake->begun[i], &at_hand->message);
}

static bool add_cause(void *context, const struct ind_alert_rule *rule, const struct ind_alert_cause *cause)
{
    const struct ind_intake *intake = context;
    (void)rule;
    return ind_causes_add(intake->causes, cause);
}

static void add_cause_line(void *context, struct ind_slice line)
{
    const struct ind_intake *intake = context;
    ind_causes_add_line(intake->causes, line);
}

static void look_for_alerts(struct ind_intake *intake)
{
    /* What an alert says of itself is no cause for one. */
    if (intake->at_hand.message.transport == IND_TRANSPORT_INTERNAL &&
        ind_slice_starts(intake->at_hand.message.msgid, IND_SLICE("alert")))
        return;
    const struct ind_alerting_call call = {add_cause, add_cause_line, intake};
    ind_alerting_look(&intake->alerting, &intake->at_hand.message, &intake->answers, &call);
}

void ind_intake_alert(struct ind_intake *intake, struct ind_causes *causes)
{
    intake->causes = intake->config->alerts.router ? causes : NULL;
}

static void report_decided(struct ind_intake *intake)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
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

uint32_t ind_intake_account_count(const struct ind_intake *intake)
{
    return ind_accounts_count(intake->accounts);
}

ind_time ind_intake_time(const struct ind_intake *intake)
{
    return intake->at_hand.message.time;
}

/* ---- A message ---- */

/* Everything but its lines. */
static IND_INLINE void read_and_decide(struct ind_intake *intake, struct ind_slice bytes,
                                       const struct ind_origin *origin)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    struct ind_message *message = &at_hand->message;
    at_hand->routes = 0;
    at_hand->gave_up = 0;
    at_hand->dropped = NULL;
    ind_message_reader_read(&intake->reader, at_hand->form, bytes, origin, message);
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
}

static IND_COLD void refuse(struct ind_intake *intake, const struct ind_origin *origin)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    at_hand->routes = 0;
    at_hand->message = (struct ind_message){.received = origin->received, .time = origin->received};
    const struct ind_sender *sender = origin->sender;
    if (sender->allowed && sender->device) /* what it has sent is no trap that is accepted */
        at_hand->account = ind_account_for(
            intake->accounts, origin->number, IND_ACCOUNT_DEVICE,
            (struct ind_slice){sender->device->name, sender->device->name_length}, IND_NOTHING);
    else
        at_hand->account = ind_account_for(intake->accounts, origin->number,
                                           sender->allowed ? IND_ACCOUNT_STRANGER : IND_ACCOUNT_REFUSED,
                                           sender->text, sender->text);
}

/* Of the few messages that are remembered. */
static enum ind_note_fit fit_of(struct ind_intake *intake)
{
    const struct ind_message_at_hand *at_hand = &intake->at_hand;
    if (at_hand->dropped || at_hand->message.transport == IND_TRANSPORT_INTERNAL ||
        ind_patterns_count(intake->config->patterns) == 0)
        return IND_NOTE_NOT_ASKED;
    return ind_answers_pattern(&intake->answers, &at_hand->message).length ? IND_NOTE_FITS
                                                                           : IND_NOTE_FITS_NOT;
}

/* The lines that are in no batch yet. */
static IND_INLINE enum ind_submitted go_on(struct ind_intake *intake, struct ind_batch *batch)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    meet(intake, batch);
    struct ind_tally *tally = at_hand->counted ? NULL : tally_of(intake, at_hand->account, batch);
    if (!tally && !at_hand->counted)
        return IND_SUBMIT_FULL;
    bool whole = add_lines(intake, &at_hand->message, at_hand->account, at_hand->routes, batch);
    if (!at_hand->counted && (whole || at_hand->next_copy > 0)) {
        tally_message(tally, at_hand, intake->taken);
        if (intake->editor && !at_hand->refused && at_hand->message.original.length)
            tally_edits(intake, at_hand->length, batch);
        at_hand->counted = true;
        if (intake->causes && !at_hand->refused && !at_hand->dropped && at_hand->message.original.length)
            look_for_alerts(intake);
        if (intake->notes && !at_hand->refused && at_hand->message.original.length &&
            ind_notes_wants(intake->notes, at_hand->moment, tally->received == 1))
            ind_note_message(intake->notes, at_hand->account, &at_hand->message, at_hand->dropped,
                             fit_of(intake));
    }
    at_hand->pending = !whole;
    return whole ? IND_SUBMIT_DONE : IND_SUBMIT_FULL;
}

IND_COLD enum ind_submitted ind_intake_resume(struct ind_intake *intake, struct ind_batch *batch)
{
    return go_on(intake, batch);
}

enum ind_submitted ind_intake_submit(struct ind_intake *intake, enum ind_line_form form,
                                     struct ind_slice bytes, const struct ind_origin *origin,
                                     struct ind_batch *batch)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    at_hand->form = form;
    at_hand->length = bytes.length;
    at_hand->pending = true;
    at_hand->counted = false;
    at_hand->said_count = 0;
    at_hand->refused = !origin->sender->allowed || origin->refused;
    at_hand->refused_as = origin->sender->allowed ? IND_END_REFUSED_TRAP : IND_END_REFUSED_SENDER;
    at_hand->waits = origin->waits;
    at_hand->sender = origin->sender;
    at_hand->moment = origin->moment;
    if (at_hand->refused) {
        refuse(intake, origin);
    } else {
        read_and_decide(intake, bytes, origin);
        if (intake->onlooker.decided)
            report_decided(intake);
        at_hand->account = account_of(intake, origin, &at_hand->message);
    }
    return go_on(intake, batch);
}

bool ind_intake_pending(const struct ind_intake *intake)
{
    return intake->at_hand.pending;
}

bool ind_intake_counted(const struct ind_intake *intake)
{
    return intake->at_hand.pending && intake->at_hand.counted;
}

IND_COLD void ind_intake_rebase(struct ind_intake *intake, struct ind_slice bytes,
                                const struct ind_origin *origin)
{
    struct ind_message_at_hand *at_hand = &intake->at_hand;
    if (at_hand->refused)
        return;
    at_hand->sender = origin->sender;
    at_hand->replay = true;
    at_hand->replayed = 0;
    read_and_decide(intake, bytes, origin);
    at_hand->replay = false;
}

void ind_intake_withdraw(struct ind_intake *intake)
{
    intake->at_hand.pending = false;
}
