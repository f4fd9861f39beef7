#include "core/trap/ber.h"

bool ind_ber_next_long(struct ind_ber *ber, struct ind_ber_item *item)
{
    const unsigned char *at = (const unsigned char *)ber->rest.at;
    const size_t room = ber->rest.length;
    size_t header = 2, length;
    *item = (struct ind_ber_item){0};
    if (ber->bad || room == 0)
        return false;
    ber->bad = true;
    if (room < 2 || (at[0] & 0x1f) == 0x1f)
        return false;
    length = at[1];
    if (length & 0x80) {
        const size_t bytes = length & 0x7f; /* 0: of no definite length, which RFC 3417 section 8 forbids */
        if (bytes == 0 || bytes > 4 || room < 2 + bytes)
            return false;
        length = 0;
        for (size_t i = 0; i < bytes; i++)
            length = length << 8 | at[2 + i];
        header += bytes;
    }
    if (length > room - header)
        return false;
    ber->bad = false;
    item->tag = at[0];
    item->value = (struct ind_slice){ber->rest.at + header, length};
    ber->rest = ind_slice_from(ber->rest, header + length);
    return true;
}

struct ind_slice ind_ber_take(struct ind_ber *ber, uint8_t tag)
{
    struct ind_ber_item item;
    if (ind_ber_next(ber, &item) && item.tag == tag)
        return item.value;
    ber->bad = true;
    return IND_NOTHING;
}

bool ind_ber_integer(struct ind_slice value, int64_t *number)
{
    if (value.length == 0 || value.length > 8)
        return false;
    uint64_t bits = (unsigned char)value.at[0] & 0x80 ? UINT64_MAX : 0;
    for (size_t i = 0; i < value.length; i++)
        bits = bits << 8 | (unsigned char)value.at[i];
    memcpy(number, &bits, sizeof bits);
    return true;
}

bool ind_ber_count(struct ind_slice value, uint64_t *number)
{
    if (value.length == 9 && value.at[0] == 0)
        value = ind_slice_from(value, 1);
    if (value.length == 0 || value.length > 8)
        return false;
    *number = 0;
    for (size_t i = 0; i < value.length; i++)
        *number = *number << 8 | (unsigned char)value.at[i];
    return true;
}

int64_t ind_ber_take_integer(struct ind_ber *ber)
{
    int64_t number = 0;
    const struct ind_slice value = ind_ber_take(ber, IND_BER_INTEGER);
    ber->bad |= !ber->bad && !ind_ber_integer(value, &number);
    return ber->bad ? 0 : number;
}

uint64_t ind_ber_take_count(struct ind_ber *ber, uint8_t tag)
{
    uint64_t number = 0;
    const struct ind_slice value = ind_ber_take(ber, tag);
    ber->bad |= !ber->bad && !ind_ber_count(value, &number);
    return ber->bad ? 0 : number;
}

/* ---- Object identifiers ---- */

/* The part at *at, which is set behind it; false where it is none, or as large as 2^32 + 80. */
static bool next_part(struct ind_slice oid, size_t *at, uint64_t *part)
{
    const size_t begun = *at;
    *part = 0;
    while (*at < oid.length && *at - begun < 5) {
        const unsigned char byte = (unsigned char)oid.at[(*at)++];
        *part = *part << 7 | (byte & 0x7f);
        if (!(byte & 0x80))
            return *part <= UINT64_C(0xffffffff) + 80;
        if (*at - begun == 1 && byte == 0x80) /* a leading zero */
            return false;
    }
    return false;
}

/* How many bytes at its beginning are each a part by itself, as nearly all are. */
static size_t count_plain(struct ind_slice oid)
{
    uint64_t eight;
    size_t at = 0;
    for (; at + sizeof eight <= oid.length; at += sizeof eight) {
        memcpy(&eight, oid.at + at, sizeof eight);
        if (eight & UINT64_C(0x8080808080808080))
            break;
    }
    while (at < oid.length && !((unsigned char)oid.at[at] & 0x80))
        at++;
    return at;
}

bool ind_oid_is_good(struct ind_slice oid)
{
    size_t at = count_plain(oid), parts = at + 1;
    uint64_t part;
    for (; at < oid.length; parts++)
        if (!next_part(oid, &at, &part) || (parts > 1 && part > UINT64_C(0xffffffff)))
            return false;
    return oid.length > 0 && parts <= IND_OID_PARTS;
}

void ind_oid_write_parts(struct ind_buffer *buffer, struct ind_slice parts)
{
    uint64_t part;
    for (size_t at = 0; at < parts.length && next_part(parts, &at, &part);) {
        ind_buffer_byte(buffer, '.');
        ind_buffer_number(buffer, part);
    }
}

/* The first byte is two parts: 40 times the first, which is 2 at most, and the second. */
void ind_oid_write(struct ind_buffer *buffer, struct ind_slice oid)
{
    size_t at = 0;
    uint64_t part;
    if (oid.length == 0 || !next_part(oid, &at, &part))
        return;
    const uint64_t first = part < 80 ? part / 40 : 2;
    ind_buffer_number(buffer, first);
    ind_buffer_byte(buffer, '.');
    ind_buffer_number(buffer, part - first * 40);
    ind_oid_write_parts(buffer, ind_slice_from(oid, at));
}

static void add_part(struct ind_buffer *oid, uint64_t part)
{
    for (int shift = 28; shift > 0; shift -= 7)
        if (part >> shift)
            ind_buffer_byte(oid, (char)((part >> shift & 0x7f) | 0x80));
    ind_buffer_byte(oid, (char)(part & 0x7f));
}

void ind_oid_add(struct ind_buffer *oid, uint32_t part)
{
    add_part(oid, part);
}

bool ind_oid_read(struct ind_slice text, struct ind_buffer *oid)
{
    uint64_t first = 0;
    size_t parts = 0;
    for (size_t at = 0; at <= text.length; at++) {
        uint64_t part = 0;
        const size_t begun = at;
        for (; at < text.length && ind_is_digit(text.at[at]) && at - begun < 10; at++)
            part = part * 10 + (uint64_t)(text.at[at] - '0');
        if (at == begun || (at < text.length && text.at[at] != '.') || part > UINT64_C(0xffffffff) ||
            (text.at[begun] == '0' && at - begun > 1) || ++parts > IND_OID_PARTS)
            return false;
        if ((parts == 1 && part > 2) || (parts == 2 && first < 2 && part > 39))
            return false;
        if (parts == 1)
            first = part;
        else
            add_part(oid, parts == 2 ? first * 40 + part : part);
    }
    return parts > 1 && !oid->full;
}

/* ---- Writing ---- */

void ind_ber_put(struct ind_ber_out *out, struct ind_slice bytes)
{
    if (out->full || bytes.length > out->at) {
        out->full = true;
        return;
    }
    out->at -= bytes.length;
    if (bytes.length)
        memcpy(out->room + out->at, bytes.at, bytes.length);
}

void ind_ber_wrap(struct ind_ber_out *out, uint8_t tag, size_t end)
{
    const size_t length = end - out->at;
    char header[6];
    size_t at = sizeof header;
    if (length < 0x80) {
        header[--at] = (char)length;
    } else {
        for (size_t rest = length; rest; rest >>= 8)
            header[--at] = (char)(rest & 0xff);
        const size_t bytes = sizeof header - at;
        header[--at] = (char)(0x80 | bytes);
    }
    header[--at] = (char)tag;
    ind_ber_put(out, (struct ind_slice){header + at, sizeof header - at});
}

void ind_ber_put_item(struct ind_ber_out *out, uint8_t tag, struct ind_slice value)
{
    const size_t end = out->at;
    ind_ber_put(out, value);
    ind_ber_wrap(out, tag, end);
}

void ind_ber_put_integer(struct ind_ber_out *out, int64_t number)
{
    char bytes[8];
    size_t at = sizeof bytes;
    uint64_t bits;
    memcpy(&bits, &number, sizeof bits);
    do {
        bytes[--at] = (char)(bits & 0xff);
        bits = bits >> 8 | (number < 0 ? UINT64_C(0xff) << 56 : 0);
    } while (at > 0 && ((number < 0 ? bits != UINT64_MAX : bits != 0) ||
                        ((unsigned char)bytes[at] >> 7) != (number < 0)));
    ind_ber_put_item(out, IND_BER_INTEGER, (struct ind_slice){bytes + at, sizeof bytes - at});
}

void ind_ber_put_count(struct ind_ber_out *out, uint8_t tag, uint64_t number)
{
    char bytes[9];
    size_t at = sizeof bytes;
    do {
        bytes[--at] = (char)(number & 0xff);
        number >>= 8;
    } while (number || ((unsigned char)bytes[at] & 0x80));
    ind_ber_put_item(out, tag, (struct ind_slice){bytes + at, sizeof bytes - at});
}
