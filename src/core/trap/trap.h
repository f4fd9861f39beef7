/* core/trap/trap.h: from the bytes of one SNMP message to the trap or inform in it (RFC 1157 section 4.1.6,
 * RFC 3416 section 4.2).
 *
 * Everything is borrowed from the bytes given but the identifier of a v1 trap, which is put together in the
 * trap itself. Steps are linear in the length; nothing is allocated. What a user of version 3 has to prove is
 * another matter (core/trap/usm.h): here its message is read once it is clear. */
#ifndef IND_CORE_TRAP_TRAP_H
#define IND_CORE_TRAP_TRAP_H

#include "core/base/address.h"
#include "core/trap/ber.h"
#include "core/trap/names.h"

/* Why what came to a listener for traps is refused. */
enum ind_trap_fault {
    IND_TRAP_GOOD,
    IND_TRAP_UNREADABLE, /* no SNMP message */
    IND_TRAP_VERSION,    /* of none that is known */
    IND_TRAP_NO_TRAP,    /* something that asks, sets or answers */
    IND_TRAP_COMMUNITY,  /* not one of those that may send */
    IND_TRAP_USER,       /* likewise, of version 3 */
    IND_TRAP_LEVEL,      /* less, or more, secured than its user is to be */
    IND_TRAP_DIGEST,     /* not signed with its user's key */
    IND_TRAP_LATE,       /* outside the time window of its sender's engine (RFC 3414 section 3.2) */
    IND_TRAP_REPEATED,   /* it was here already */
    IND_TRAP_PRIVACY,    /* its deciphered text is none: another key */
    IND_TRAP_ENGINE,     /* an inform for another engine than ours, or without the time that is ours */
    IND_TRAP_FAULTS
};
/* Short English, and a key; never freed. */
const char *ind_trap_fault_text(enum ind_trap_fault fault);
const char *ind_trap_fault_key(enum ind_trap_fault fault);

/* What the first two variables of a trap are (RFC 3416 section 4.2.6): sysUpTime.0, 1.3.6.1.2.1.1.3.0, and
 * snmpTrapOID.0, 1.3.6.1.6.3.1.1.4.1.0. */
#define IND_SYS_UP_TIME IND_SLICE("\x2b\x06\x01\x02\x01\x01\x03\x00")
#define IND_SNMP_TRAP_OID IND_SLICE("\x2b\x06\x01\x06\x03\x01\x01\x04\x01\x00")

/* Tags of what an SNMP message asks for (RFC 3416 section 3, RFC 1157 section 4.1). */
enum {
    IND_PDU_GET = 0xa0,
    IND_PDU_RESPONSE = 0xa2,
    IND_PDU_TRAP_V1 = 0xa4,
    IND_PDU_INFORM = 0xa6,
    IND_PDU_TRAP = 0xa7,
    IND_PDU_REPORT = 0xa8
};

enum { IND_SNMP_V1 = 0, IND_SNMP_V2C = 1, IND_SNMP_V3 = 3 }; /* as messages number them */

/* One variable, and what is known of it. */
struct ind_trap_variable {
    struct ind_slice oid;
    struct ind_ber_item value;
    const struct ind_trap_name *name; /* of the longest beginning of the identifier that has one; or NULL */
    struct ind_slice rest;            /* what follows that */
};

enum { IND_TRAP_FIRST = 24 };

struct ind_trap {
    uint8_t version, pdu;
    struct ind_slice community; /* of v1 and v2c */
    struct ind_slice oid; /* which trap it is, as encoded: snmpTrapOID; v1 as RFC 3584 section 3.1 has it */
    struct ind_slice enterprise; /* of a v1 trap; else empty */
    struct ind_address agent;    /* who it is of, where somebody passes it on; of 0 bits: not said */
    bool has_uptime;
    uint64_t uptime;                               /* hundredths of a second */
    int64_t request_id;                            /* of what is answered */
    struct ind_slice context_engine, context_name; /* of version 3, for an answer */
    struct ind_slice bindings;   /* the contents of the list of variables, whole, for an answer */
    struct ind_slice variables;  /* without the first two of v2 and v3, which are told above */
    struct ind_slice unreadable; /* what stands in place of the variables of a v1 trap, where it is no list */
    bool has_address;            /* a variable may be an address */
    size_t first_count; /* variables that were read already; more of them are in `variables`, behind: */
    size_t first_bytes;
    char oid_room[IND_OID_BYTES + 6];
    struct ind_trap_variable first[IND_TRAP_FIRST];
};

/* Reads a message of v1 or v2c, or the parts of one of version 3 behind its security (ind_trap_read_pdu: from
 * its PDU on). `names` tell whether v1 traps have one without RFC 3584's zero. */
enum ind_trap_fault ind_trap_read(struct ind_slice bytes, const struct ind_trap_names *names,
                                  struct ind_trap *trap);
enum ind_trap_fault ind_trap_read_pdu(struct ind_ber *ber, const struct ind_trap_names *names,
                                      struct ind_trap *trap);
/* The version at the head of a message, from its first bytes; -1 where it is none of SNMP. */
int ind_trap_version(struct ind_slice bytes);

/* Goes through the variables; begins as ind_trap_variables makes it. Once there are none left, `rest.bad`
 * says whether there was something else, which is in front of `rest` then. */
struct ind_trap_walk {
    const struct ind_trap *trap;
    size_t at;
    struct ind_ber rest;
    struct ind_trap_variable one; /* beyond the first ones */
};
static inline void ind_trap_variables(const struct ind_trap *trap, struct ind_trap_walk *walk)
{
    walk->trap = trap;
    walk->at = 0;
    walk->rest = (struct ind_ber){
        trap->first_bytes ? ind_slice_from(trap->variables, trap->first_bytes) : trap->variables, false};
}
/* The next, borrowed until the one after it; NULL: there is none. */
const struct ind_trap_variable *ind_trap_next(struct ind_trap_walk *walk, const struct ind_trap_names *names);

/* ---- text.c ---- */

/* Writes it as a message of RFC 5424: "<27>1 - HOST trap - linkDown DATA linkDown ifIndex=3 ifDescr=ge0/3".
 * Its time is none, MSGID the name of the trap (its last 32 bytes), DATA when its sender started ([meta
 * sysUpTime], section 7.3.3) and who it is of ([origin ip enterpriseId], section 7.2). Names are those of
 * the identifiers, with what is behind them; the instance, where all variables share it, is `index` once,
 * and nothing where it is 0 or stands in a value. Texts have quotes where a bare one would not be read back,
 * bytes that are no text are in hexadecimal with colons. `host`: in place of "-". False where the buffer is
 * full: what is in it ends somewhere. */
bool ind_trap_write(const struct ind_trap *trap, const struct ind_trap_names *names, struct ind_slice host,
                    struct ind_buffer *out);

/* ---- write.c: the other way ---- */

/* The variables that such a text names, and the trap it begins with: "linkDown ifIndex=3 ifDescr=ge0/3",
 * "1.3.6.1.4.1.32473.0.7 enterprises.32473.2.1=5". Whole numbers are INTEGER, other values octets; `index`
 * is the instance of all (0 without one). Writes the contents of a list of variables; false where the text
 * has names that nobody knows: *where is the first. */
bool ind_trap_bindings(struct ind_slice text, const struct ind_trap_names *names, uint64_t uptime,
                       struct ind_ber_out *out, struct ind_slice *where);

/* A PDU in front of the list of variables that was written last, which began at `end`. */
void ind_trap_put_pdu(struct ind_ber_out *out, uint8_t pdu, int64_t request_id, size_t end);
/* And the message of v2c around it. */
void ind_trap_put_v2c(struct ind_ber_out *out, struct ind_slice community, size_t end);

#endif
