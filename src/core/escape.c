#include "core/escape.h"

static size_t clean_run(const char *at, size_t length, unsigned low, char also)
{
    size_t run = 0;
    uint64_t eight;
    for (; length - run >= sizeof eight; run += sizeof eight) {
        memcpy(&eight, at + run, sizeof eight);
        if (ind_odd_bytes(eight, low, also))
            break;
    }
    while (run < length && ind_is_clean(at + run, 1, low, also))
        run++;
    return run;
}

size_t ind_printable_run(const char *at, size_t length)
{
    return clean_run(at, length, ' ', '\0');
}

size_t ind_utf8_character(const char *at, size_t length, bool *is_control)
{
    unsigned char lead = (unsigned char)*at;
    size_t need = lead >= 0xC2 && lead <= 0xDF   ? 2
                  : lead >= 0xE0 && lead <= 0xEF ? 3
                  : lead >= 0xF0 && lead <= 0xF4 ? 4
                                                 : 0;
    *is_control = false;
    if (lead < 0x80) {
        *is_control = lead < ' ' || lead == 127;
        return 1;
    }
    if (need == 0 || need > length)
        return 0;
    for (size_t i = 1; i < need; i++)
        if (((unsigned char)at[i] & 0xC0) != 0x80)
            return 0;
    unsigned char second = (unsigned char)at[1];
    /* Overlong forms, surrogates, and beyond U+10FFFF (RFC 3629 section 4). */
    if ((lead == 0xE0 && second < 0xA0) || (lead == 0xED && second > 0x9F) ||
        (lead == 0xF0 && second < 0x90) || (lead == 0xF4 && second > 0x8F))
        return 0;
    *is_control = lead == 0xC2 && second < 0xA0;
    return need;
}

static void hex(struct ind_buffer *buffer, const char *prefix, unsigned char byte)
{
    static const char digits[] = "0123456789abcdef";
    ind_buffer_text(buffer, prefix);
    ind_buffer_byte(buffer, digits[byte >> 4]);
    ind_buffer_byte(buffer, digits[byte & 15]);
}

static void hex_all(struct ind_buffer *buffer, const char *at, size_t length)
{
    for (size_t i = 0; i < length; i++)
        hex(buffer, "\\x", (unsigned char)at[i]);
}

/* One character that is not printable ASCII; returns the bytes it took. */
static size_t escape_one(struct ind_buffer *buffer, const char *at, size_t length)
{
    bool control;
    size_t character = ind_utf8_character(at, length, &control);
    if (*at == '\n' || *at == '\t') {
        ind_buffer_add(buffer, *at == '\n' ? "\\n" : "\\t", 2);
        return 1;
    }
    if (character && !control)
        ind_buffer_add(buffer, at, character);
    else
        hex_all(buffer, at, character ? character : 1);
    return character ? character : 1;
}

void ind_escape_text(struct ind_buffer *buffer, struct ind_slice text)
{
    size_t at = 0;
    if (ind_is_clean(text.at, text.length, ' ', '\0')) {
        ind_buffer_slice(buffer, text);
        return;
    }
    for (;;) {
        size_t run = ind_printable_run(text.at + at, text.length - at);
        ind_buffer_add(buffer, text.at + at, run);
        at += run;
        if (at == text.length)
            return;
        at += escape_one(buffer, text.at + at, text.length - at);
    }
}

void ind_escape_odd_column(struct ind_buffer *buffer, struct ind_slice text, char also)
{
    for (size_t at = 0; at < text.length;) {
        size_t run = clean_run(text.at + at, text.length - at, ' ' + 1, also);
        ind_buffer_add(buffer, text.at + at, run);
        at += run;
        if (at == text.length)
            return;
        char c = text.at[at];
        if (c == ' ' || (c == also && c != '\0'))
            hex(buffer, "\\x", (unsigned char)text.at[at++]);
        else
            at += escape_one(buffer, text.at + at, text.length - at);
    }
}

void ind_escape_raw(struct ind_buffer *buffer, struct ind_slice bytes)
{
    size_t from = 0;
    if (bytes.length && ind_is_clean(bytes.at, bytes.length, ' ', '\0')) {
        ind_buffer_slice(buffer, bytes);
        return;
    }
    for (size_t at = 0; at < bytes.length; at++) {
        at += clean_run(bytes.at + at, bytes.length - at, ' ', '\0');
        char c = at < bytes.length ? bytes.at[at] : ' ';
        if (c != '\n' && c != '\r' && c != '\0')
            continue;
        ind_buffer_add(buffer, bytes.at + from, at - from);
        ind_buffer_text(buffer, c == '\n' ? "\\n" : c == '\r' ? "\\r" : "\\x00");
        from = at + 1;
    }
    if (bytes.length)
        ind_buffer_add(buffer, bytes.at + from, bytes.length - from);
}

static void escape_json_one(struct ind_buffer *buffer, char c)
{
    static const char letters[] = "b\bf\fn\nr\rt\t";
    if (c == '"' || c == '\\') {
        ind_buffer_byte(buffer, '\\');
        ind_buffer_byte(buffer, c);
        return;
    }
    for (size_t i = 1; i < sizeof letters; i += 2)
        if (c == letters[i] && c != '\0') {
            ind_buffer_byte(buffer, '\\');
            ind_buffer_byte(buffer, letters[i - 1]);
            return;
        }
    hex(buffer, "\\u00", (unsigned char)c);
}

void ind_escape_json(struct ind_buffer *buffer, struct ind_slice text)
{
    if (text.length && ind_is_clean(text.at, text.length, ' ', '"') && !memchr(text.at, '\\', text.length)) {
        ind_buffer_slice(buffer, text);
        return;
    }
    for (size_t at = 0; at < text.length;) {
        char c = text.at[at];
        bool control;
        size_t character = ind_utf8_character(text.at + at, text.length - at, &control);
        if (character == 0) {
            hex(buffer, "\\\\x", (unsigned char)c);
            at++;
        } else if (character == 1) {
            if (control || c == '"' || c == '\\')
                escape_json_one(buffer, c);
            else
                ind_buffer_byte(buffer, c);
            at++;
        } else {
            if (control)
                hex(buffer, "\\u00", (unsigned char)text.at[at + 1]);
            else
                ind_buffer_add(buffer, text.at + at, character);
            at += character;
        }
    }
}
