#include "core/base/fingerprint.h"

#include "core/base/escape.h"

static const char hash[] = "sha-256:";

bool ind_fingerprint_read(struct ind_slice text, struct ind_fingerprint *fingerprint)
{
    enum { HASH = sizeof hash - 1, PLAIN = 2 * IND_FINGERPRINT_BYTES };
    char start[HASH];
    bool colons = text.length == IND_FINGERPRINT_WIDTH;
    if (!colons && text.length != HASH + PLAIN)
        return false;
    ind_lower_all(start, (struct ind_slice){text.at, HASH});
    if (memcmp(start, hash, HASH) != 0)
        return false;
    const char *at = text.at + HASH;
    for (size_t i = 0; i < IND_FINGERPRINT_BYTES; i++) {
        if (colons && i > 0 && *at++ != ':')
            return false;
        if (!ind_is_hex(at[0]) || !ind_is_hex(at[1]))
            return false;
        fingerprint->bytes[i] = (uint8_t)(ind_hex_digit(at[0]) << 4 | ind_hex_digit(at[1]));
        at += 2;
    }
    return true;
}

void ind_fingerprint_write(struct ind_buffer *buffer, const struct ind_fingerprint *fingerprint)
{
    static const char digits[] = "0123456789ABCDEF";
    ind_buffer_text(buffer, hash);
    for (size_t i = 0; i < IND_FINGERPRINT_BYTES; i++) {
        if (i > 0)
            ind_buffer_byte(buffer, ':');
        ind_buffer_byte(buffer, digits[fingerprint->bytes[i] >> 4]);
        ind_buffer_byte(buffer, digits[fingerprint->bytes[i] & 15]);
    }
}
