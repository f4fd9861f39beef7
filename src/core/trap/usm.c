#include "core/trap/usm.h"

enum { SECURITY_MODEL = 3, AUTHENTICATED = 1, ENCIPHERED = 2, REPORTABLE = 4 };

/* RFC 3414 section 2.4 */
static enum ind_trap_fault read_security(struct ind_slice bytes, struct ind_usm *usm)
{
    struct ind_ber ber = {bytes, false};
    const struct ind_slice all = ind_ber_take(&ber, IND_BER_SEQUENCE);
    struct ind_ber parts = {all, ber.bad};
    usm->engine = ind_ber_take(&parts, IND_BER_OCTETS);
    const int64_t boots = ind_ber_take_integer(&parts), time = ind_ber_take_integer(&parts);
    usm->user = ind_ber_take(&parts, IND_BER_OCTETS);
    usm->digest = ind_ber_take(&parts, IND_BER_OCTETS);
    usm->salt = ind_ber_take(&parts, IND_BER_OCTETS);
    if (parts.bad || boots < 0 || boots > INT32_MAX || time < 0 || time > INT32_MAX ||
        usm->engine.length > IND_USM_ENGINE || usm->user.length > IND_USM_USER)
        return IND_TRAP_UNREADABLE;
    usm->boots = (uint32_t)boots;
    usm->time = (uint32_t)time;
    return IND_TRAP_GOOD;
}

enum ind_trap_fault ind_usm_read(struct ind_slice bytes, struct ind_usm *usm)
{
    *usm = (struct ind_usm){.whole = bytes};
    struct ind_ber ber = {bytes, false};
    const struct ind_slice all = ind_ber_take(&ber, IND_BER_SEQUENCE);
    struct ind_ber inside = {all, ber.bad};
    const int64_t version = ind_ber_take_integer(&inside);
    const struct ind_slice header = ind_ber_take(&inside, IND_BER_SEQUENCE);
    struct ind_ber parts = {header, inside.bad};
    usm->id = ind_ber_take_integer(&parts);
    (void)ind_ber_take_integer(&parts);
    const struct ind_slice flags = ind_ber_take(&parts, IND_BER_OCTETS);
    const int64_t model = ind_ber_take_integer(&parts);
    const struct ind_slice security = ind_ber_take(&inside, IND_BER_OCTETS);
    if (parts.bad || inside.bad || flags.length != 1)
        return IND_TRAP_UNREADABLE;
    if (version != IND_SNMP_V3 || model != SECURITY_MODEL)
        return IND_TRAP_VERSION;
    usm->whole.length -= ber.rest.length; /* what stands behind it is not signed */
    usm->authenticated = flags.at[0] & AUTHENTICATED;
    usm->enciphered = flags.at[0] & ENCIPHERED;
    usm->reportable = flags.at[0] & REPORTABLE;
    if (usm->enciphered && !usm->authenticated)
        return IND_TRAP_UNREADABLE; /* RFC 3412 section 7.2, step 5d */
    const enum ind_trap_fault fault = read_security(security, usm);
    usm->scoped = ind_ber_take(&inside, usm->enciphered ? IND_BER_OCTETS : IND_BER_SEQUENCE);
    return fault ? fault : inside.bad ? IND_TRAP_UNREADABLE : IND_TRAP_GOOD;
}

enum ind_trap_fault ind_usm_read_trap(const struct ind_usm *usm, const struct ind_trap_names *names,
                                      struct ind_trap *trap)
{
    memset(trap, 0, offsetof(struct ind_trap, oid_room));
    trap->version = IND_SNMP_V3;
    struct ind_ber ber = {usm->scoped, false};
    if (usm->enciphered)
        ber.rest = ind_ber_take(&ber, IND_BER_SEQUENCE);
    trap->context_engine = ind_ber_take(&ber, IND_BER_OCTETS);
    trap->context_name = ind_ber_take(&ber, IND_BER_OCTETS);
    if (ber.bad)
        return usm->enciphered ? IND_TRAP_PRIVACY : IND_TRAP_UNREADABLE;
    const enum ind_trap_fault fault = ind_trap_read_pdu(&ber, names, trap);
    return fault == IND_TRAP_UNREADABLE && usm->enciphered ? IND_TRAP_PRIVACY : fault;
}

/* ---- Time windows ---- */

static uint64_t beginning(struct ind_slice digest)
{
    uint64_t number = 0;
    memcpy(&number, digest.at, digest.length < sizeof number ? digest.length : sizeof number);
    return number;
}

enum ind_trap_fault ind_usm_window(struct ind_usm_engine *engine, const struct ind_usm *usm,
                                   struct ind_steady now)
{
    const uint64_t digest = beginning(usm->digest);
    if (usm->boots == INT32_MAX)
        return IND_TRAP_LATE; /* an engine that cannot count its starts any more */
    if (engine->known) {
        const int64_t passed = ind_steady_from(engine->at, now) / IND_SECOND;
        const int64_t notion = (int64_t)engine->time + passed;
        if (usm->boots < engine->boots ||
            (usm->boots == engine->boots && (int64_t)usm->time + IND_USM_WINDOW < notion))
            return IND_TRAP_LATE;
        for (size_t i = 0; i < IND_USM_RECENT; i++)
            if (digest && engine->recent[i] == digest)
                return IND_TRAP_REPEATED;
    }
    if (!engine->known || usm->boots > engine->boots ||
        (usm->boots == engine->boots && usm->time > engine->time)) {
        engine->known = true;
        engine->boots = usm->boots;
        engine->time = usm->time;
        engine->at = now;
    }
    engine->recent[engine->next] = digest;
    engine->next = (uint8_t)((engine->next + 1) % IND_USM_RECENT);
    return IND_TRAP_GOOD;
}

bool ind_usm_in_time(const struct ind_usm *usm, uint32_t boots, uint64_t seconds)
{
    return usm->boots == boots && boots < INT32_MAX && usm->time + (uint64_t)IND_USM_WINDOW >= seconds &&
           seconds + IND_USM_WINDOW >= usm->time;
}

/* ---- Writing ---- */

void ind_usm_put_scoped(struct ind_ber_out *out, struct ind_slice engine, struct ind_slice name, size_t end)
{
    ind_ber_put_item(out, IND_BER_OCTETS, name);
    ind_ber_put_item(out, IND_BER_OCTETS, engine);
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
}

void ind_usm_put_message(struct ind_ber_out *out, const struct ind_usm_message *message, size_t end,
                         size_t *digest)
{
    static const char zeros[IND_USM_DIGEST] = {0};
    const size_t inside = out->at;
    const char flags =
        (char)((message->digest ? AUTHENTICATED : 0) | (message->salt.length ? ENCIPHERED : 0) |
               (message->reportable ? REPORTABLE : 0));
    ind_ber_put_item(out, IND_BER_OCTETS, message->salt);
    ind_ber_put(out, (struct ind_slice){zeros, message->digest});
    *digest = message->digest ? end - out->at : 0;
    ind_ber_wrap(out, IND_BER_OCTETS, out->at + message->digest);
    ind_ber_put_item(out, IND_BER_OCTETS, message->user);
    ind_ber_put_integer(out, message->time);
    ind_ber_put_integer(out, message->boots);
    ind_ber_put_item(out, IND_BER_OCTETS, message->engine);
    ind_ber_wrap(out, IND_BER_SEQUENCE, inside);
    ind_ber_wrap(out, IND_BER_OCTETS, inside);
    const size_t header = out->at;
    ind_ber_put_integer(out, SECURITY_MODEL);
    ind_ber_put_item(out, IND_BER_OCTETS, (struct ind_slice){&flags, 1});
    ind_ber_put_integer(out, 65507); /* the largest datagram */
    ind_ber_put_integer(out, message->id);
    ind_ber_wrap(out, IND_BER_SEQUENCE, header);
    ind_ber_put_integer(out, IND_SNMP_V3);
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
}

void ind_usm_put_report(struct ind_ber_out *out, enum ind_usm_report report, uint32_t count,
                        int64_t request_id)
{
    /* usmStatsUnknownEngineIDs.0 and usmStatsNotInTimeWindows.0 */
    static const char unknown[] = "\x2b\x06\x01\x06\x03\x0f\x01\x01\x04\x00",
                      late[] = "\x2b\x06\x01\x06\x03\x0f\x01\x01\x02\x00";
    const size_t end = out->at;
    ind_ber_put_count(out, IND_BER_COUNTER, count);
    ind_ber_put_item(out, IND_BER_OID,
                     (struct ind_slice){report == IND_USM_UNKNOWN_ENGINE ? unknown : late, sizeof late - 1});
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
    ind_trap_put_pdu(out, IND_PDU_REPORT, request_id, end);
}
