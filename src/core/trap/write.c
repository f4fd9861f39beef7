/* From a text to a trap: for tests, and fleets of made-up devices. */
#include "core/trap/trap.h"

enum { MOST = 64 /* variables of one */, MOST_VALUE = 4096 };

struct word {
    struct ind_slice name, value;
};

/* "name" or "name=value"; a value in quotes ends with them. */
static bool next_word(struct ind_slice *rest, struct word *word)
{
    size_t at = 0, end;
    while (at < rest->length && rest->at[at] == ' ')
        at++;
    for (end = at; end < rest->length && rest->at[end] != ' ' && rest->at[end] != '=';)
        end++;
    word->name = (struct ind_slice){rest->at + at, end - at};
    word->value = IND_NOTHING;
    if (end < rest->length && rest->at[end] == '=') {
        const bool quoted = end + 1 < rest->length && rest->at[end + 1] == '"';
        const size_t from = end + 1 + quoted;
        for (end = from; end < rest->length && rest->at[end] != (quoted ? '"' : ' '); end++)
            end += quoted && rest->at[end] == '\\' && end + 1 < rest->length;
        word->value = (struct ind_slice){rest->at + from, end - from};
        end += quoted && end < rest->length;
    }
    *rest = ind_slice_from(*rest, end);
    return word->name.length > 0;
}

/* The identifier that a word names; *name is what is known of it, or NULL. False where nobody knows it. */
static bool find_oid(struct ind_slice word, const struct ind_trap_names *names, struct ind_buffer *oid,
                     const struct ind_trap_name **name)
{
    char room[IND_OID_PARTS * 12];
    struct ind_slice rest;
    if (ind_slice_starts(word, IND_SLICE("oid.")))
        word = ind_slice_from(word, 4);
    *name = NULL;
    if (word.length && ind_is_digit(word.at[0]) && ind_oid_read(word, oid)) {
        *name = ind_trap_names_find(names, ind_buffer_view(oid), &rest);
        *name = rest.length ? NULL : *name; /* it has an instance already */
        return true;
    }
    for (size_t length = word.length; length > 0; length--) {
        const struct ind_trap_name *known =
            length == word.length || word.at[length] == '.'
                ? ind_trap_names_named(names, (struct ind_slice){word.at, length})
                : NULL;
        if (!known)
            continue;
        if (length == word.length) {
            oid->length = 0;
            ind_buffer_slice(oid, known->oid);
            *name = known;
            return !oid->full;
        }
        struct ind_buffer text = ind_buffer_on(room, sizeof room);
        ind_oid_write(&text, known->oid);
        ind_buffer_slice(&text, ind_slice_from(word, length));
        oid->length = 0;
        return !text.full && ind_oid_read(ind_buffer_view(&text), oid);
    }
    return false;
}

static bool is_whole(struct ind_slice text, int64_t *number)
{
    const bool negative = text.length > 1 && text.at[0] == '-';
    *number = 0;
    if (text.length == negative || text.length > 18)
        return false;
    for (size_t i = negative; i < text.length; i++) {
        if (!ind_is_digit(text.at[i]))
            return false;
        *number = *number * 10 + (text.at[i] - '0');
    }
    *number = negative ? -*number : *number;
    return true;
}

static void put_value(struct ind_slice value, const struct ind_trap_name *name, struct ind_ber_out *out)
{
    char room[MOST_VALUE];
    int64_t number;
    struct ind_buffer text = ind_buffer_on(room, sizeof room);
    if ((name && ind_trap_value_number(name->values, value, &number)) || is_whole(value, &number)) {
        ind_ber_put_integer(out, number);
        return;
    }
    for (size_t i = 0; i < value.length; i++) {
        i += value.at[i] == '\\' && i + 1 < value.length;
        ind_buffer_byte(&text, value.at[i]);
    }
    ind_ber_put_item(out, IND_BER_OCTETS, ind_buffer_view(&text));
}

/* In front of what is written already. */
static bool put_variable(const struct word *word, const struct ind_trap_names *names, struct ind_slice index,
                         struct ind_ber_out *out)
{
    char room[IND_OID_BYTES];
    const struct ind_trap_name *name;
    struct ind_buffer oid = ind_buffer_on(room, sizeof room);
    if (!find_oid(word->name, names, &oid, &name))
        return false;
    const bool bare = name && !name->group;
    if (bare)
        ind_buffer_slice(&oid, index);
    const size_t end = out->at;
    put_value(word->value, name, out);
    ind_ber_put_item(out, IND_BER_OID, ind_buffer_view(&oid));
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
    return true;
}

/* "1.2.3" as the end of an identifier. */
static bool read_index(struct ind_slice text, struct ind_buffer *index)
{
    char room[IND_OID_PARTS * 12], whole[IND_OID_BYTES];
    struct ind_buffer dotted = ind_buffer_on(room, sizeof room), oid = ind_buffer_on(whole, sizeof whole);
    ind_buffer_text(&dotted, "1.3.");
    ind_buffer_slice(&dotted, text);
    if (dotted.full || !ind_oid_read(ind_buffer_view(&dotted), &oid))
        return false;
    ind_buffer_slice(index, ind_slice_from(ind_buffer_view(&oid), 1));
    return true;
}

static void put_first_two(struct ind_slice trap, uint64_t uptime, struct ind_ber_out *out)
{
    size_t end = out->at;
    ind_ber_put_item(out, IND_BER_OID, trap);
    ind_ber_put_item(out, IND_BER_OID, IND_SNMP_TRAP_OID);
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
    end = out->at;
    ind_ber_put_count(out, IND_BER_TICKS, uptime & UINT32_MAX);
    ind_ber_put_item(out, IND_BER_OID, IND_SYS_UP_TIME);
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
}

bool ind_trap_bindings(struct ind_slice text, const struct ind_trap_names *names, uint64_t uptime,
                       struct ind_ber_out *out, struct ind_slice *where)
{
    struct word words[MOST], first;
    char trap_room[IND_OID_BYTES], index_room[IND_OID_BYTES];
    const struct ind_trap_name *name;
    struct ind_buffer trap = ind_buffer_on(trap_room, sizeof trap_room),
                      index = ind_buffer_on(index_room, sizeof index_room);
    size_t count = 0;
    *where = text;
    if (!next_word(&text, &first) || !find_oid(first.name, names, &trap, &name))
        return false;
    ind_buffer_byte(&index, 0);
    while (count < MOST && next_word(&text, &words[count])) {
        *where = words[count].name;
        if (ind_slice_equal(words[count].name, IND_SLICE("index"))) {
            index.length = 0;
            if (!read_index(words[count].value, &index))
                return false;
            continue;
        }
        count++;
    }
    for (size_t i = count; i > 0; i--) {
        *where = words[i - 1].name;
        if (!put_variable(&words[i - 1], names, ind_buffer_view(&index), out))
            return false;
    }
    put_first_two(ind_buffer_view(&trap), uptime, out);
    *where = text;
    return !out->full;
}

void ind_trap_put_pdu(struct ind_ber_out *out, uint8_t pdu, int64_t request_id, size_t end)
{
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
    ind_ber_put_integer(out, 0);
    ind_ber_put_integer(out, 0);
    ind_ber_put_integer(out, request_id);
    ind_ber_wrap(out, pdu, end);
}

void ind_trap_put_v2c(struct ind_ber_out *out, struct ind_slice community, size_t end)
{
    ind_ber_put_item(out, IND_BER_OCTETS, community);
    ind_ber_put_integer(out, IND_SNMP_V2C);
    ind_ber_wrap(out, IND_BER_SEQUENCE, end);
}
