#include "cli/explain_trap.h"

#include "core/base/escape.h"

#include <errno.h>
#include <stdlib.h>

enum { DATAGRAM = 65536, FILE_ROOM = 4 * DATAGRAM };

struct ind_explain_trap {
    const struct ind_config *config;
    struct ind_traps *traps;
    struct ind_trap_rules *rules[IND_MOST_LISTENERS];
    const char *names[IND_MOST_LISTENERS]; /* of the listeners */
    size_t count, by;                      /* by: which has read the last */
    struct ind_trap_result result;
    char file[FILE_ROOM], datagram[DATAGRAM];
};

struct ind_explain_trap *ind_explain_trap_new(const struct ind_config *config)
{
    char reason[1400];
    struct ind_explain_trap *trap = calloc(1, sizeof *trap);
    if (!trap || !(trap->traps = ind_traps_new(NULL))) {
        ind_complain("out of memory");
        free(trap);
        return NULL;
    }
    trap->config = config;
    for (size_t i = 0; i < config->listener_count; i++) {
        if (!config->listeners[i].traps)
            continue;
        trap->names[trap->count] = config->listeners[i].text;
        trap->rules[trap->count] = ind_trap_rules_new(&config->listeners[i], reason, sizeof reason);
        if (!trap->rules[trap->count]) {
            ind_complain("%s", reason);
            ind_explain_trap_free(trap);
            return NULL;
        }
        trap->count++;
    }
    if (trap->count > 0)
        return trap;
    ind_complain(
        "no listener of the configuration is for traps; add one such as \"- traps: 0.0.0.0:162\" with "
        "\"communities: [NAME]\"");
    ind_explain_trap_free(trap);
    return NULL;
}

void ind_explain_trap_free(struct ind_explain_trap *trap)
{
    if (!trap)
        return;
    for (size_t i = 0; i < trap->count; i++)
        ind_trap_rules_free(trap->rules[i]);
    ind_traps_free(trap->traps);
    free(trap);
}

struct ind_slice ind_explain_trap_hex(struct ind_explain_trap *trap, struct ind_slice text)
{
    size_t length = 0;
    int high = -1;
    for (size_t i = 0; i < text.length; i++) {
        const int digit = ind_hex_digit(text.at[i]);
        if (digit < 0)
            continue;
        if (high >= 0 && length < DATAGRAM)
            trap->datagram[length++] = (char)(high * 16 + digit);
        high = high >= 0 ? -1 : digit;
    }
    if (length == 0 || high >= 0) {
        ind_complain(length ? "an odd number of hexadecimal digits: one is missing"
                            : "a datagram is expected, as hexadecimal digits such as 30 2c 02 01 01 …");
        return IND_NOTHING;
    }
    return (struct ind_slice){trap->datagram, length};
}

/* A datagram has bytes that are no digits: those of its version, at the least. */
static bool is_hex(struct ind_slice bytes)
{
    for (size_t i = 0; i < bytes.length; i++)
        if (!ind_is_hex(bytes.at[i]) && !(bytes.at[i] && strchr(" \t\r\n:", bytes.at[i])))
            return false;
    return bytes.length > 0;
}

struct ind_slice ind_explain_trap_file(struct ind_explain_trap *trap, const char *path)
{
    const bool standard = strcmp(path, "-") == 0;
    FILE *file = standard ? stdin : fopen(path, "rb");
    if (!file) {
        ind_complain("cannot read %s: %s", path, strerror(errno));
        return IND_NOTHING;
    }
    const size_t length = fread(trap->file, 1, FILE_ROOM, file);
    if (!standard)
        fclose(file);
    const struct ind_slice bytes = {trap->file, length};
    if (length == 0)
        ind_complain("%s is empty", path);
    return is_hex(bytes) ? ind_explain_trap_hex(trap, bytes) : bytes;
}

static bool is_relay(const struct ind_config *config, const struct ind_address *sender)
{
    const struct ind_device *device = sender->bits ? ind_devices_by_address(config->devices, sender) : NULL;
    return device && device->relay;
}

bool ind_explain_trap_read(struct ind_explain_trap *trap, struct ind_slice datagram,
                           const struct ind_address *sender, struct ind_trap_result *result)
{
    const struct ind_trap_sender who = {*sender, is_relay(trap->config, sender)};
    for (trap->by = 0; trap->by < trap->count; trap->by++) {
        ind_traps_read(trap->traps, trap->rules[trap->by], &who, datagram, IND_STEADY_NEVER, &trap->result);
        if (trap->result.outcome == IND_TRAP_MESSAGE)
            break;
    }
    trap->by -= trap->by == trap->count;
    *result = trap->result;
    return result->outcome == IND_TRAP_MESSAGE;
}

/* ---- What is told of it ---- */

static const char *version_of(const struct ind_trap *trap)
{
    return trap->version == IND_SNMP_V1 ? "v1" : trap->version == IND_SNMP_V2C ? "v2c" : "v3";
}

static const char *type_of(uint8_t tag)
{
    static const struct {
        uint8_t tag;
        const char *name;
    } types[] = {
        {IND_BER_INTEGER, "INTEGER"},       {IND_BER_OCTETS, "OCTET STRING"}, {IND_BER_NULL, "NULL"},
        {IND_BER_OID, "OBJECT IDENTIFIER"}, {IND_BER_ADDRESS, "IpAddress"},   {IND_BER_COUNTER, "Counter32"},
        {IND_BER_GAUGE, "Gauge32"},         {IND_BER_TICKS, "TimeTicks"},     {IND_BER_OPAQUE, "Opaque"},
        {IND_BER_COUNTER64, "Counter64"},   {IND_BER_NO_OBJECT, "(none)"},    {IND_BER_NO_INSTANCE, "(none)"},
        {IND_BER_END_OF_VIEW, "(none)"}};
    for (size_t i = 0; i < sizeof types / sizeof *types; i++)
        if (types[i].tag == tag)
            return types[i].name;
    return "(unknown)";
}

/* An identifier in digits, and the name of its longest beginning that has one. */
struct told {
    char oid[IND_OID_PARTS * 11], name[120];
};

static void tell_oid(const struct ind_trap_names *names, struct ind_slice oid, struct told *told)
{
    struct ind_slice rest;
    struct ind_buffer out = ind_buffer_on(told->oid, sizeof told->oid - 1);
    const struct ind_trap_name *name = ind_trap_names_find(names, oid, &rest);
    ind_oid_write(&out, oid);
    told->oid[out.length] = '\0';
    const struct ind_slice text = name ? name->name : IND_SLICE("");
    snprintf(told->name, sizeof told->name, "%.*s", IND_ARG(text));
}

/* The widest identifier and name, up to what fits a line. */
static void find_widths(const struct ind_trap *read, const struct ind_trap_names *names, int *oid, int *name)
{
    enum { WIDEST = 60 };
    struct told told;
    struct ind_trap_walk variables;
    const struct ind_trap_variable *one;
    tell_oid(names, read->oid, &told);
    *oid = (int)strlen(told.oid);
    *name = (int)strlen(told.name);
    ind_trap_variables(read, &variables);
    while ((one = ind_trap_next(&variables, names)) != NULL) {
        tell_oid(names, one->oid, &told);
        *oid = (int)strlen(told.oid) > *oid ? (int)strlen(told.oid) : *oid;
        *name = (int)strlen(told.name) > *name ? (int)strlen(told.name) : *name;
    }
    *oid = *oid < WIDEST ? *oid : WIDEST;
}

void ind_explain_trap_print(const struct ind_explain_trap *trap, const struct ind_explaining *run)
{
    const struct ind_trap *read = ind_traps_last(trap->traps);
    const struct ind_trap_names *names = trap->rules[trap->by]->traps->table;
    struct told told;
    int oid, name;
    printf("%sTrap%s        ", run->bold ? IND_BOLD : "", run->bold ? IND_PLAIN : "");
    if (trap->result.outcome != IND_TRAP_MESSAGE) {
        printf("refused by %s: %s\n", trap->names[trap->by], ind_trap_fault_text(trap->result.fault));
        return;
    }
    find_widths(read, names, &oid, &name);
    tell_oid(names, read->oid, &told);
    printf("SNMP %s, %s, accepted by %s\n  %-*s  %s\n", version_of(read),
           read->pdu == IND_PDU_INFORM ? "an inform" : "a trap", trap->names[trap->by], oid, told.oid,
           told.name);
    struct ind_trap_walk variables;
    const struct ind_trap_variable *one;
    ind_trap_variables(read, &variables);
    while ((one = ind_trap_next(&variables, names)) != NULL) {
        tell_oid(names, one->oid, &told);
        printf("  %-*s  %-*s  %s\n", oid, told.oid, name, told.name, type_of(one->value.tag));
    }
    printf("\nWhat is made of it:\n");
}

json_t *ind_explain_trap_json(const struct ind_explain_trap *trap)
{
    const struct ind_trap *read = ind_traps_last(trap->traps);
    const struct ind_trap_names *names = trap->rules[trap->by]->traps->table;
    struct told told;
    json_t *object = json_object(), *list = json_array();
    json_object_set_new(object, "listener", json_string(trap->names[trap->by]));
    if (trap->result.outcome != IND_TRAP_MESSAGE) {
        json_object_set_new(object, "refused", json_string(ind_trap_fault_key(trap->result.fault)));
        json_decref(list);
        return object;
    }
    tell_oid(names, read->oid, &told);
    json_object_set_new(object, "version", json_string(version_of(read)));
    json_object_set_new(object, "inform", json_boolean(read->pdu == IND_PDU_INFORM));
    json_object_set_new(object, "oid", json_string(told.oid));
    struct ind_trap_walk variables;
    const struct ind_trap_variable *one;
    ind_trap_variables(read, &variables);
    while ((one = ind_trap_next(&variables, names)) != NULL) {
        json_t *variable = json_object();
        tell_oid(names, one->oid, &told);
        json_object_set_new(variable, "oid", json_string(told.oid));
        if (told.name[0])
            json_object_set_new(variable, "name", json_string(told.name));
        json_object_set_new(variable, "type", json_string(type_of(one->value.tag)));
        json_array_append_new(list, variable);
    }
    json_object_set_new(object, "variables", list);
    return object;
}
