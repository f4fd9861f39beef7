#include "core/trap/trap.h"

static const char *const fault_texts[IND_TRAP_FAULTS] = {
    [IND_TRAP_GOOD] = "accepted",
    [IND_TRAP_UNREADABLE] = "no readable SNMP message",
    [IND_TRAP_VERSION] = "of an unknown version",
    [IND_TRAP_NO_TRAP] = "neither a trap nor an inform",
    [IND_TRAP_COMMUNITY] = "its community is not in communities:",
    [IND_TRAP_USER] = "its user is not in users:",
    [IND_TRAP_LEVEL] = "not secured as its user is to be",
    [IND_TRAP_DIGEST] = "not signed with its user's key",
    [IND_TRAP_LATE] = "outside the time window of its sender",
    [IND_TRAP_REPEATED] = "here already",
    [IND_TRAP_PRIVACY] = "not enciphered with its user's key",
    [IND_TRAP_ENGINE] = "an inform that does not know this engine and its time yet"};
static const char *const fault_keys[IND_TRAP_FAULTS] = {"accepted",  "unreadable", "version", "no_trap",
                                                        "community", "user",       "level",   "digest",
                                                        "late",      "repeated",   "privacy", "engine"};

const char *ind_trap_fault_text(enum ind_trap_fault fault)
{
    return fault_texts[fault];
}

const char *ind_trap_fault_key(enum ind_trap_fault fault)
{
    return fault_keys[fault];
}

/* The next of a list; false at its end, and where it is bad: `rest` is then still in front of it. */
static bool read_variable(struct ind_ber *list, struct ind_trap_variable *variable)
{
    const struct ind_slice before = list->rest;
    struct ind_ber_item item;
    if (ind_ber_next(list, &item)) {
        struct ind_ber parts = {item.value, item.tag != IND_BER_SEQUENCE};
        variable->oid = ind_ber_take(&parts, IND_BER_OID);
        list->bad = !ind_ber_next(&parts, &variable->value) || !ind_oid_is_good(variable->oid);
        if (!list->bad)
            return true;
    }
    list->rest = before;
    return false;
}

const struct ind_trap_variable *ind_trap_next(struct ind_trap_walk *walk, const struct ind_trap_names *names)
{
    if (walk->at < walk->trap->first_count)
        return &walk->trap->first[walk->at++];
    if (walk->rest.rest.length == 0 || !read_variable(&walk->rest, &walk->one))
        return NULL;
    walk->one.name = ind_trap_names_find(names, walk->one.oid, &walk->one.rest);
    return &walk->one;
}

/* Nearly all traps have so few variables that each is looked at once. */
static void read_first(struct ind_trap *trap, const struct ind_trap_names *names)
{
    struct ind_ber list = {trap->variables, false};
    while (trap->first_count < IND_TRAP_FIRST) {
        struct ind_trap_variable *one = &trap->first[trap->first_count];
        if (!read_variable(&list, one))
            break;
        one->name = ind_trap_names_find(names, one->oid, &one->rest);
        trap->has_address |= one->value.tag == IND_BER_ADDRESS;
        trap->first_count++;
    }
    trap->first_bytes = trap->variables.length - list.rest.length;
    trap->has_address |= trap->first_count == IND_TRAP_FIRST;
}

/* 1.3.6.1.6.3.18.1.3.0 and 1.3.6.1.6.3.1.1.5 */
#define SNMP_TRAP_ADDRESS IND_SLICE("\x2b\x06\x01\x06\x03\x12\x01\x03\x00")
#define SNMP_TRAPS "\x2b\x06\x01\x06\x03\x01\x01\x05"

static void put_own(struct ind_trap *trap, bool zero, uint32_t specific)
{
    struct ind_buffer oid = ind_buffer_on(trap->oid_room, sizeof trap->oid_room);
    ind_buffer_slice(&oid, trap->enterprise);
    if (zero)
        ind_oid_add(&oid, 0);
    ind_oid_add(&oid, specific);
    trap->oid = ind_buffer_view(&oid);
}

static bool has_name(const struct ind_trap *trap, const struct ind_trap_names *names)
{
    struct ind_slice rest;
    return ind_trap_names_find(names, trap->oid, &rest) && rest.length == 0;
}

/* RFC 3584 section 3.1: an own trap of `enterprise` is below it, behind a zero; but that some standard ones
 * are named without it. */
static void find_v1_oid(struct ind_trap *trap, uint32_t generic, uint32_t specific,
                        const struct ind_trap_names *names)
{
    enum { OWN = 6 };
    if (generic < OWN) {
        struct ind_buffer oid = ind_buffer_on(trap->oid_room, sizeof trap->oid_room);
        ind_buffer_slice(&oid, IND_SLICE(SNMP_TRAPS));
        ind_oid_add(&oid, generic + 1);
        trap->oid = ind_buffer_view(&oid);
        return;
    }
    put_own(trap, true, specific);
    if (has_name(trap, names))
        return;
    put_own(trap, false, specific);
    if (!has_name(trap, names))
        put_own(trap, true, specific);
}

/* RFC 1157 section 4.1.6 */
static enum ind_trap_fault read_v1(struct ind_slice pdu, const struct ind_trap_names *names,
                                   struct ind_trap *trap)
{
    struct ind_ber ber = {pdu, false};
    trap->enterprise = ind_ber_take(&ber, IND_BER_OID);
    const struct ind_slice agent = ind_ber_take(&ber, IND_BER_ADDRESS);
    const int64_t generic = ind_ber_take_integer(&ber), specific = ind_ber_take_integer(&ber);
    const uint64_t uptime = ind_ber_take_count(&ber, IND_BER_TICKS);
    if (ber.bad || !ind_oid_is_good(trap->enterprise) || agent.length != 4 || generic < 0 || generic > 6 ||
        specific < INT32_MIN || specific > UINT32_MAX)
        return IND_TRAP_UNREADABLE;
    static const uint8_t nobody[4] = {0};
    if (memcmp(agent.at, nobody, 4) != 0)
        trap->agent = ind_address_v4((const uint8_t *)agent.at);
    trap->has_uptime = true;
    trap->uptime = uptime;
    find_v1_oid(trap, (uint32_t)generic, (uint32_t)specific, names);
    struct ind_ber list = ber;
    trap->variables = trap->bindings = ind_ber_take(&ber, IND_BER_SEQUENCE);
    if (ber.bad)
        trap->unreadable = list.rest;
    read_first(trap, names);
    return IND_TRAP_GOOD;
}

/* The agent that a relay of v2 passes on for (RFC 3584 section 3.1) stands among the variables. */
static void look_for_agent(struct ind_trap *trap, const struct ind_trap_names *names)
{
    const struct ind_trap_variable *one;
    struct ind_trap_walk walk;
    if (!trap->has_address)
        return;
    ind_trap_variables(trap, &walk);
    while ((one = ind_trap_next(&walk, names)) != NULL)
        if (one->value.tag == IND_BER_ADDRESS && one->value.value.length == 4 &&
            ind_slice_equal(one->oid, SNMP_TRAP_ADDRESS))
            trap->agent = ind_address_v4((const uint8_t *)one->value.value.at);
}

/* RFC 3416 section 4.2.6: the first two variables say when and what. */
static enum ind_trap_fault read_v2(struct ind_slice pdu, const struct ind_trap_names *names,
                                   struct ind_trap *trap)
{
    struct ind_ber ber = {pdu, false};
    struct ind_trap_variable one;
    trap->request_id = ind_ber_take_integer(&ber);
    (void)ind_ber_take_integer(&ber);
    (void)ind_ber_take_integer(&ber);
    trap->bindings = ind_ber_take(&ber, IND_BER_SEQUENCE);
    if (ber.bad)
        return IND_TRAP_UNREADABLE;
    struct ind_ber variables = {trap->bindings, false};
    if (!read_variable(&variables, &one))
        return IND_TRAP_UNREADABLE;
    if (ind_slice_equal(one.oid, IND_SYS_UP_TIME)) {
        trap->has_uptime = ind_ber_count(one.value.value, &trap->uptime);
        if (!read_variable(&variables, &one))
            return IND_TRAP_UNREADABLE;
    }
    if (!ind_slice_equal(one.oid, IND_SNMP_TRAP_OID) || one.value.tag != IND_BER_OID ||
        !ind_oid_is_good(one.value.value))
        return IND_TRAP_UNREADABLE;
    trap->oid = one.value.value;
    trap->variables = variables.rest;
    read_first(trap, names);
    look_for_agent(trap, names);
    return IND_TRAP_GOOD;
}

enum ind_trap_fault ind_trap_read_pdu(struct ind_ber *ber, const struct ind_trap_names *names,
                                      struct ind_trap *trap)
{
    struct ind_ber_item pdu;
    if (!ind_ber_next(ber, &pdu))
        return IND_TRAP_UNREADABLE;
    trap->pdu = pdu.tag;
    if (pdu.tag == IND_PDU_TRAP_V1 && trap->version == IND_SNMP_V1)
        return read_v1(pdu.value, names, trap);
    if ((pdu.tag == IND_PDU_TRAP || pdu.tag == IND_PDU_INFORM) && trap->version != IND_SNMP_V1)
        return read_v2(pdu.value, names, trap);
    return pdu.tag >= IND_PDU_GET && pdu.tag <= IND_PDU_REPORT ? IND_TRAP_NO_TRAP : IND_TRAP_UNREADABLE;
}

int ind_trap_version(struct ind_slice bytes)
{
    const unsigned char *at = (const unsigned char *)bytes.at;
    const size_t header = bytes.length < 2 ? 0 : at[1] < 0x80 ? 2u : 2u + (at[1] & 0x7f);
    return header && bytes.length >= header + 3 && at[0] == IND_BER_SEQUENCE &&
                   at[header] == IND_BER_INTEGER && at[header + 1] == 1 && at[header + 2] < 0x80
               ? at[header + 2]
               : -1;
}

enum ind_trap_fault ind_trap_read(struct ind_slice bytes, const struct ind_trap_names *names,
                                  struct ind_trap *trap)
{
    struct ind_ber ber = {bytes, false};
    memset(trap, 0, offsetof(struct ind_trap, oid_room));
    const struct ind_slice all = ind_ber_take(&ber, IND_BER_SEQUENCE);
    struct ind_ber inside = {all, ber.bad};
    const int64_t version = ind_ber_take_integer(&inside);
    if (inside.bad)
        return IND_TRAP_UNREADABLE;
    if (version != IND_SNMP_V1 && version != IND_SNMP_V2C)
        return IND_TRAP_VERSION;
    trap->version = (uint8_t)version;
    trap->community = ind_ber_take(&inside, IND_BER_OCTETS);
    return inside.bad ? IND_TRAP_UNREADABLE : ind_trap_read_pdu(&inside, names, trap);
}
