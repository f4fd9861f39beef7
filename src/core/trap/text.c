/* A trap as a message of RFC 5424. */
#include "core/base/escape.h"
#include "core/message/names.h"
#include "core/trap/trap.h"

enum { MOST_MSGID = 32, FACILITY = 3 /* daemon */, MOST_UNREADABLE = 256 };

/* What is common to all variables of a trap. */
struct common {
    struct ind_slice instance; /* of those that have one; empty: there is none, or several */
    bool apart;                /* they differ: each name has its own */
    bool told;                 /* a variable says it */
};

static bool is_zero(struct ind_slice instance)
{
    return instance.length == 1 && instance.at[0] == 0;
}

static bool has_instance(const struct ind_trap_variable *one)
{
    return one->name && !one->name->group && one->rest.length > 0 && !is_zero(one->rest);
}

/* Whether the variable is a whole number that says the instance alone. */
static bool says(const struct ind_ber_item *value, struct ind_slice instance)
{
    char room[8];
    int64_t number;
    struct ind_buffer oid = ind_buffer_on(room, sizeof room);
    if (value->tag != IND_BER_INTEGER || !ind_ber_integer(value->value, &number) || number < 0 ||
        number > UINT32_MAX)
        return false;
    ind_oid_add(&oid, (uint32_t)number);
    return ind_slice_equal(ind_buffer_view(&oid), instance);
}

static struct common find_common(const struct ind_trap *trap, const struct ind_trap_names *names)
{
    struct common common = {0};
    const struct ind_trap_variable *one;
    struct ind_trap_walk walk;
    ind_trap_variables(trap, &walk);
    while ((one = ind_trap_next(&walk, names)) != NULL) {
        if (!has_instance(one))
            continue;
        common.apart |= common.instance.length > 0 && !ind_slice_equal(common.instance, one->rest);
        common.instance = one->rest;
        common.told |= says(&one->value, one->rest);
    }
    return common;
}

/* ---- Values ---- */

static void write_hex(struct ind_buffer *out, struct ind_slice bytes)
{
    static const char digits[] = "0123456789abcdef";
    for (size_t i = 0; i < bytes.length; i++) {
        if (i > 0)
            ind_buffer_byte(out, ':');
        ind_buffer_byte(out, digits[(unsigned char)bytes.at[i] >> 4]);
        ind_buffer_byte(out, digits[(unsigned char)bytes.at[i] & 15]);
    }
}

static bool is_bare(char c)
{
    return (ind_byte_kinds[(unsigned char)c] & IND_IN_TAG) || (c && strchr(":+%#*", c));
}

/* UTF-8 without what drives a terminal, but that lines may end in it. */
static bool is_text(struct ind_slice bytes)
{
    for (size_t at = 0; at < bytes.length;) {
        bool control;
        const size_t length = ind_utf8_character(bytes.at + at, bytes.length - at, &control);
        if (length == 0 || (control && (length > 1 || !strchr("\t\r\n", bytes.at[at]) || !bytes.at[at])))
            return false;
        at += length;
    }
    return true;
}

/* Without the zeros that end a text in many devices, where what is left is one. */
static struct ind_slice without_end(struct ind_slice bytes)
{
    struct ind_slice text = bytes;
    while (text.length > 0 && text.at[text.length - 1] == '\0')
        text.length--;
    return text.length < bytes.length && is_text(text) ? text : bytes;
}

static void write_octets(struct ind_buffer *out, struct ind_slice bytes)
{
    size_t bare = 0;
    bytes = without_end(bytes);
    while (bare < bytes.length && is_bare(bytes.at[bare]))
        bare++;
    if (bytes.length > 0 && bare == bytes.length) {
        ind_buffer_slice(out, bytes);
        return;
    }
    if (!is_text(bytes)) {
        write_hex(out, bytes);
        return;
    }
    ind_buffer_byte(out, '"');
    for (size_t i = 0; i < bytes.length; i++) {
        if (bytes.at[i] == '"' || bytes.at[i] == '\\')
            ind_buffer_byte(out, '\\');
        ind_buffer_byte(out, bytes.at[i]);
    }
    ind_buffer_byte(out, '"');
}

static void write_signed(struct ind_buffer *out, int64_t number)
{
    if (number < 0)
        ind_buffer_byte(out, '-');
    ind_buffer_number(out, number < 0 ? 0 - (uint64_t)number : (uint64_t)number);
}

/* An identifier by the name of its beginning, where that has one. */
static void write_named(struct ind_buffer *out, struct ind_slice oid, const struct ind_trap_name *name,
                        struct ind_slice rest)
{
    if (!name) {
        ind_oid_write(out, oid);
        return;
    }
    ind_buffer_slice(out, name->name);
    ind_oid_write_parts(out, rest);
}

static void write_oid(struct ind_buffer *out, struct ind_slice oid, const struct ind_trap_names *names)
{
    struct ind_slice rest;
    const struct ind_trap_name *name = ind_trap_names_find(names, oid, &rest);
    write_named(out, oid, name, rest);
}

static void write_value(struct ind_buffer *out, const struct ind_ber_item *item,
                        const struct ind_trap_name *name, const struct ind_trap_names *names)
{
    const struct ind_slice value = item->value;
    int64_t number;
    uint64_t count;
    switch (item->tag) {
    case IND_BER_INTEGER:
        if (!ind_ber_integer(value, &number))
            break;
        if (name && ind_trap_value_name(name->values, number).length)
            ind_buffer_slice(out, ind_trap_value_name(name->values, number));
        else
            write_signed(out, number);
        return;
    case IND_BER_COUNTER:
    case IND_BER_GAUGE:
    case IND_BER_TICKS:
    case IND_BER_COUNTER64:
        if (!ind_ber_count(value, &count))
            break;
        ind_buffer_number(out, count);
        return;
    case IND_BER_OCTETS:
        write_octets(out, value);
        return;
    case IND_BER_OID:
        if (!ind_oid_is_good(value))
            break;
        write_oid(out, value, names);
        return;
    case IND_BER_ADDRESS:
        if (value.length == 4 || value.length == 16) {
            const struct ind_address address = value.length == 4 ? ind_address_v4((const uint8_t *)value.at)
                                                                 : ind_address_v6((const uint8_t *)value.at);
            ind_address_write(out, &address);
            return;
        }
        break;
    case IND_BER_NULL:
        ind_buffer_text(out, "\"\"");
        return;
    case IND_BER_NO_OBJECT:
        ind_buffer_text(out, "noSuchObject");
        return;
    case IND_BER_NO_INSTANCE:
        ind_buffer_text(out, "noSuchInstance");
        return;
    case IND_BER_END_OF_VIEW:
        ind_buffer_text(out, "endOfMibView");
        return;
    default:
        break;
    }
    if (value.length)
        write_hex(out, value);
    else
        ind_buffer_text(out, "\"\"");
}

/* ---- The parts of the message ---- */

/* Parts from the middle of an identifier, without the point before the first. */
static void write_rest(struct ind_slice parts, struct ind_buffer *out)
{
    const size_t at = out->length;
    ind_oid_write_parts(out, parts);
    if (out->full || out->length == at)
        return;
    memmove(out->at + at, out->at + at + 1, out->length - at - 1);
    out->length--;
}

static void write_variables(const struct ind_trap *trap, const struct ind_trap_names *names,
                            struct ind_buffer *out)
{
    const struct common common = find_common(trap, names);
    const struct ind_trap_variable *one;
    struct ind_trap_walk walk;
    ind_trap_variables(trap, &walk);
    while (!out->full && (one = ind_trap_next(&walk, names)) != NULL) {
        ind_buffer_byte(out, ' ');
        if (!one->name) {
            ind_buffer_text(out, "oid.");
            ind_oid_write(out, one->oid);
        } else {
            ind_buffer_slice(out, one->name->name);
            if (one->name->group || (common.apart && has_instance(one)))
                ind_oid_write_parts(out, one->rest);
        }
        ind_buffer_byte(out, '=');
        write_value(out, &one->value, one->name, names);
    }
    const struct ind_slice left = walk.rest.bad ? walk.rest.rest : trap->unreadable;
    if (common.instance.length && !common.apart && !common.told) {
        ind_buffer_text(out, " index=");
        write_rest(common.instance, out);
    }
    if (left.length) {
        ind_buffer_text(out, " unreadable=");
        write_hex(out, (struct ind_slice){left.at, left.length < MOST_UNREADABLE ? left.length
                                                                                 : (size_t)MOST_UNREADABLE});
    }
}

/* [origin enterpriseId] is below 1.3.6.1.4.1 (RFC 5424 section 7.2.2). */
static void write_enterprise(struct ind_slice enterprise, struct ind_buffer *out)
{
    const struct ind_slice enterprises = IND_SLICE("\x2b\x06\x01\x04\x01");
    if (enterprise.length <= enterprises.length || !ind_slice_starts(enterprise, enterprises))
        return;
    ind_buffer_text(out, " enterpriseId=\"");
    write_rest(ind_slice_from(enterprise, enterprises.length), out);
    ind_buffer_byte(out, '"');
}

static void write_data(const struct ind_trap *trap, struct ind_buffer *out)
{
    const size_t begun = out->length;
    if (trap->has_uptime) {
        ind_buffer_text(out, "[meta sysUpTime=\"");
        ind_buffer_number(out, trap->uptime);
        ind_buffer_text(out, "\"]");
    }
    const size_t before = out->length;
    ind_buffer_text(out, "[origin");
    const size_t empty = out->length;
    if (trap->agent.bits) {
        ind_buffer_text(out, " ip=\"");
        ind_address_write(out, &trap->agent);
        ind_buffer_byte(out, '"');
    }
    write_enterprise(trap->enterprise, out);
    if (out->length == empty)
        out->length = before;
    else
        ind_buffer_byte(out, ']');
    if (out->length == begun)
        ind_buffer_byte(out, '-');
}

/* Its end is what tells it from others like it. */
static void write_msgid(struct ind_buffer *out, const char *name, size_t length)
{
    size_t from = length > MOST_MSGID ? length - MOST_MSGID : 0;
    ind_buffer_slice(out, (struct ind_slice){name + from, length - from});
}

bool ind_trap_write(const struct ind_trap *trap, const struct ind_trap_names *names, struct ind_slice host,
                    struct ind_buffer *out)
{
    char room[IND_OID_PARTS * 11 + 128];
    struct ind_slice rest;
    struct ind_buffer name = ind_buffer_on(room, sizeof room);
    const struct ind_trap_name *known = ind_trap_names_find(names, trap->oid, &rest);
    const int facility = known && known->facility >= 0 ? known->facility : FACILITY;
    const int severity = known && known->severity >= 0 ? known->severity : IND_SEVERITY_NOTICE;
    write_named(&name, trap->oid, known, rest);
    ind_buffer_byte(out, '<');
    ind_buffer_number(out, (unsigned)(facility * IND_SEVERITIES + severity));
    ind_buffer_text(out, ">1 - ");
    ind_buffer_slice(out, host.length ? host : IND_SLICE("-"));
    ind_buffer_text(out, " trap - ");
    write_msgid(out, name.at, name.length);
    ind_buffer_byte(out, ' ');
    write_data(trap, out);
    ind_buffer_byte(out, ' ');
    ind_buffer_slice(out, ind_buffer_view(&name));
    write_variables(trap, names, out);
    return !out->full;
}
