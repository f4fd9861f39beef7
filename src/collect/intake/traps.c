#include "collect/intake/traps.h"

#include <stdlib.h>
#include <xxhash.h>

enum { MESSAGE = 65536, ANSWER = 65507 /* what a datagram holds */ };

struct ind_traps {
    struct ind_trap_engines *engines;
    uint32_t unknown, late; /* reports of either kind that were sent */
    bool salted;
    uint64_t salt; /* of what is enciphered: counted on, from where nobody can guess */
    struct ind_trap trap;
    char message[MESSAGE], clear[MESSAGE], answer[ANSWER], enciphered[ANSWER];
};

/* One datagram under way. */
struct reading {
    struct ind_traps *traps;
    const struct ind_trap_rules *rules;
    const struct ind_trap_sender *sender;
    struct ind_steady now;
    struct ind_trap_result *result;
    struct ind_usm usm; /* of version 3 */
    const struct ind_usm_user *user;
    unsigned char key[IND_USM_KEY], privacy_key[IND_USM_KEY]; /* for the engine that it goes by */
};

struct ind_traps *ind_traps_new(struct ind_trap_engines *engines)
{
    struct ind_traps *traps = malloc(sizeof *traps);
    if (!traps)
        return NULL;
    traps->engines = engines;
    traps->unknown = traps->late = 0;
    traps->salted = false;
    return traps;
}

void ind_traps_free(struct ind_traps *traps)
{
    free(traps);
}

static uint32_t seconds_of(const struct ind_own_engine *own, struct ind_steady now)
{
    const int64_t seconds = ind_steady_from(own->began, now) / IND_SECOND;
    return seconds > 0 ? (uint32_t)(seconds & INT32_MAX) : 0;
}

/* ---- The message ---- */

static void write_message(struct reading *reading)
{
    char room[IND_ADDRESS_WIDTH];
    struct ind_traps *traps = reading->traps;
    struct ind_trap *trap = &traps->trap;
    struct ind_buffer host = ind_buffer_on(room, sizeof room),
                      out = ind_buffer_on(traps->message, sizeof traps->message);
    if (ind_address_equal(&trap->agent, &reading->sender->address))
        trap->agent.bits = 0; /* it speaks for itself */
    if (trap->agent.bits && reading->sender->relay)
        ind_address_write(&host, &trap->agent);
    reading->result->cut = !ind_trap_write(trap, reading->rules->traps->table, ind_buffer_view(&host), &out);
    reading->result->message = ind_buffer_view(&out);
    reading->result->outcome = IND_TRAP_MESSAGE;
}

/* An inform that comes again, since its answer was lost, is answered and not filed again. */
static bool was_here(struct reading *reading)
{
    const struct ind_trap *trap = &reading->traps->trap;
    uint64_t hash =
        XXH3_64bits_withSeed(trap->bindings.at, trap->bindings.length, (uint64_t)trap->request_id);
    hash = XXH3_64bits_withSeed(&reading->sender->address, sizeof reading->sender->address, hash);
    return reading->traps->engines && ind_trap_engines_seen(reading->traps->engines, hash, reading->now);
}

static void take(struct reading *reading)
{
    if (reading->traps->trap.pdu == IND_PDU_INFORM && was_here(reading))
        reading->result->outcome = IND_TRAP_ANSWERED;
    else
        write_message(reading);
}

static void refuse(struct reading *reading, enum ind_trap_fault fault)
{
    reading->result->outcome = IND_TRAP_REFUSED;
    reading->result->fault = fault;
}

/* ---- Versions 1 and 2c ---- */

static bool is_known_community(const struct ind_listen_traps *traps, struct ind_slice community)
{
    for (size_t i = 0; i < traps->community_count; i++)
        if (ind_slice_equal(ind_slice_of(traps->communities[i]), community))
            return true;
    return false;
}

static void read_community(struct reading *reading, struct ind_slice datagram)
{
    struct ind_traps *traps = reading->traps;
    struct ind_trap *trap = &traps->trap;
    const enum ind_trap_fault fault = ind_trap_read(datagram, reading->rules->traps->table, trap);
    if (fault) {
        refuse(reading, fault);
        return;
    }
    if (!is_known_community(reading->rules->traps, trap->community)) {
        refuse(reading, IND_TRAP_COMMUNITY);
        return;
    }
    take(reading);
    if (trap->pdu != IND_PDU_INFORM || !traps->engines)
        return;
    struct ind_ber_out out = {traps->answer, sizeof traps->answer, sizeof traps->answer, false};
    ind_ber_put(&out, trap->bindings);
    ind_trap_put_pdu(&out, IND_PDU_RESPONSE, trap->request_id, sizeof traps->answer);
    ind_trap_put_v2c(&out, trap->community, sizeof traps->answer);
    reading->result->answer = ind_ber_written(&out);
}

/* ---- Version 3 ---- */

/* What was written last, from `at` on, as the message of our engine that its user may read. */
static void put_secured(struct reading *reading, struct ind_ber_out *out, struct ind_slice context_engine,
                        struct ind_slice context_name, bool authenticated, bool enciphered)
{
    struct ind_traps *traps = reading->traps;
    const struct ind_own_engine *own = ind_trap_engines_own(traps->engines);
    const uint32_t seconds = seconds_of(own, reading->now);
    unsigned char salt[IND_USM_SALT], digest[IND_USM_DIGEST];
    size_t from_end;
    const size_t end = out->size;
    struct ind_usm_message message = {.id = reading->usm.id,
                                      .engine = {own->id, own->id_length},
                                      .user = reading->usm.user,
                                      .boots = own->boots,
                                      .time = seconds};
    ind_usm_put_scoped(out, context_engine, context_name, end);
    if (enciphered) {
        const struct ind_slice scoped = ind_ber_written(out);
        if (!traps->salted)
            traps->salted = ind_usm_random(&traps->salt, sizeof traps->salt);
        if (!traps->salted) {
            out->full = true;
            return;
        }
        traps->salt++;
        memcpy(salt, &traps->salt, sizeof salt);
        if (scoped.length == 0 ||
            !ind_usm_encipher(reading->privacy_key, own->boots, seconds, salt, scoped, traps->enciphered)) {
            out->full = true;
            return;
        }
        out->at = end;
        ind_ber_put_item(out, IND_BER_OCTETS, (struct ind_slice){traps->enciphered, scoped.length});
        message.salt = (struct ind_slice){(const char *)salt, sizeof salt};
    }
    message.digest = authenticated ? ind_usm_digest_bytes(reading->user->authentication) : 0;
    ind_usm_put_message(out, &message, end, &from_end);
    if (!authenticated || out->full)
        return;
    if (ind_usm_sign(reading->user->authentication, reading->key, ind_ber_written(out),
                     out->size - out->at - from_end, digest))
        memcpy(out->room + end - from_end, digest, message.digest);
    else
        out->full = true;
}

/* RFC 3414 section 3.2: who asks for our engine, or has another time than it, is told. */
static void report(struct reading *reading, enum ind_usm_report what, uint32_t count)
{
    struct ind_traps *traps = reading->traps;
    struct ind_ber_out out = {traps->answer, sizeof traps->answer, sizeof traps->answer, false};
    ind_usm_put_report(&out, what, count, 0);
    const struct ind_own_engine *own = ind_trap_engines_own(traps->engines);
    put_secured(reading, &out, (struct ind_slice){own->id, own->id_length}, IND_NOTHING,
                what == IND_USM_NOT_IN_TIME, false);
    reading->result->answer = ind_ber_written(&out);
    reading->result->outcome = IND_TRAP_ANSWERED;
    reading->result->fault = IND_TRAP_ENGINE;
}

static enum ind_trap_fault find_user(struct reading *reading)
{
    const struct ind_usm *usm = &reading->usm;
    for (size_t i = 0; i < reading->rules->user_count && !reading->user; i++)
        if (ind_slice_equal(ind_slice_of(reading->rules->users[i].name), usm->user))
            reading->user = &reading->rules->users[i];
    const struct ind_usm_user *user = reading->user;
    if (!user)
        return IND_TRAP_USER;
    if (usm->authenticated != (user->authentication != IND_USM_NO_AUTHENTICATION) ||
        usm->enciphered != (user->privacy != IND_USM_NO_PRIVACY))
        return IND_TRAP_LEVEL;
    if (!usm->authenticated)
        return IND_TRAP_GOOD;
    const bool keys =
        ind_usm_localise(user->authentication, user->key, usm->engine, reading->key) &&
        ind_usm_localise(user->authentication, user->privacy_key, usm->engine, reading->privacy_key);
    return keys && ind_usm_is_signed(user->authentication, reading->key, usm) ? IND_TRAP_GOOD
                                                                              : IND_TRAP_DIGEST;
}

static enum ind_trap_fault read_scoped(struct reading *reading)
{
    struct ind_traps *traps = reading->traps;
    struct ind_usm clear = reading->usm;
    if (clear.enciphered) {
        if (!ind_usm_decipher(reading->privacy_key, &reading->usm, traps->clear))
            return IND_TRAP_PRIVACY;
        clear.scoped.at = traps->clear;
    }
    return ind_usm_read_trap(&clear, reading->rules->traps->table, &traps->trap);
}

static void answer_inform(struct reading *reading)
{
    struct ind_traps *traps = reading->traps;
    const struct ind_trap *trap = &traps->trap;
    struct ind_ber_out out = {traps->answer, sizeof traps->answer, sizeof traps->answer, false};
    ind_ber_put(&out, trap->bindings);
    ind_trap_put_pdu(&out, IND_PDU_RESPONSE, trap->request_id, sizeof traps->answer);
    put_secured(reading, &out, trap->context_engine, trap->context_name, reading->usm.authenticated,
                reading->usm.enciphered);
    reading->result->answer = ind_ber_written(&out);
}

/* Of an inform we are the engine that decides whether it is in time, of a trap its sender. True where it is
 * told to ask again. */
static bool ask_our_engine(struct reading *reading, bool *ours, enum ind_trap_fault *fault)
{
    struct ind_traps *traps = reading->traps;
    const struct ind_own_engine *own = ind_trap_engines_own(traps->engines);
    const struct ind_usm *usm = &reading->usm;
    *ours = ind_slice_equal(usm->engine, (struct ind_slice){own->id, own->id_length});
    if (usm->reportable && !*ours && reading->rules->user_count) {
        report(reading, IND_USM_UNKNOWN_ENGINE, ++traps->unknown);
        return true;
    }
    *fault = find_user(reading);
    if (*fault || !usm->authenticated || !*ours ||
        ind_usm_in_time(usm, own->boots, seconds_of(own, reading->now)))
        return false;
    report(reading, IND_USM_NOT_IN_TIME, ++traps->late);
    return true;
}

static void read_user_based(struct reading *reading, struct ind_slice datagram)
{
    struct ind_traps *traps = reading->traps;
    bool ours = false;
    enum ind_trap_fault fault = ind_usm_read(datagram, &reading->usm);
    if (!fault && !traps->engines)
        fault = find_user(reading);
    else if (!fault && ask_our_engine(reading, &ours, &fault))
        return;
    fault = fault ? fault : read_scoped(reading);
    const bool inform = !fault && traps->trap.pdu == IND_PDU_INFORM;
    if (!fault && traps->engines && inform != ours)
        fault = IND_TRAP_ENGINE;
    if (!fault && traps->engines && !ours && reading->usm.authenticated)
        fault = ind_trap_engines_ask(traps->engines, &reading->usm, reading->now);
    if (fault) {
        refuse(reading, fault);
        return;
    }
    take(reading);
    if (inform && traps->engines)
        answer_inform(reading);
}

const struct ind_trap *ind_traps_last(const struct ind_traps *traps)
{
    return &traps->trap;
}

void ind_traps_read(struct ind_traps *traps, const struct ind_trap_rules *rules,
                    const struct ind_trap_sender *sender, struct ind_slice datagram, struct ind_steady now,
                    struct ind_trap_result *result)
{
    struct reading reading = {.traps = traps, .rules = rules, .sender = sender, .now = now, .result = result};
    *result = (struct ind_trap_result){.outcome = IND_TRAP_REFUSED};
    if (ind_trap_version(datagram) == IND_SNMP_V3)
        read_user_based(&reading, datagram);
    else
        read_community(&reading, datagram);
}
