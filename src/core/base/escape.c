#include "core/base/escape.h"

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
    unsigned char third = need > 2 ? (unsigned char)at[2] : 0;
    *is_control = (lead == 0xC2 && second < 0xA0) ||
                  (lead == 0xE2 && ((second == 0x80 && third >= 0xAA && third <= 0xAE) ||
                                    (second == 0x81 && third >= 0xA6 && third <= 0xA9)));
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

/* Whether the character at `at` is written as an escape; *taken: its bytes. */
static bool is_odd(const char *at, size_t length, size_t *taken)
{
    bool control;
    size_t character = ind_utf8_character(at, length, &control);
    *taken = character ? character : 1;
    return character == 0 || control;
}

static void escape_odd(struct ind_buffer *buffer, const char *at, size_t length)
{
    const char *letter = *at == '\n' ? "\\n" : *at == '\t' ? "\\t" : *at == '\r' ? "\\r" : NULL;
    if (letter)
        ind_buffer_add(buffer, letter, 2);
    else
        hex_all(buffer, at, length);
}

void ind_escape_shown(struct ind_buffer *buffer, struct ind_slice text)
{
    for (size_t at = 0, taken; at < text.length; at += taken) {
        size_t run = ind_printable_run(text.at + at, text.length - at);
        ind_buffer_add(buffer, text.at + at, run);
        at += run;
        if (at == text.length)
            return;
        if (is_odd(text.at + at, text.length - at, &taken))
            escape_odd(buffer, text.at + at, taken);
        else
            ind_buffer_add(buffer, text.at + at, taken);
    }
}

/* What is written for a piece of a line: bytes below `low` and those of `also` are escaped. */
struct rule {
    unsigned low;
    const char *also;
};

static bool must_escape(const struct rule *rule, const char *at, size_t length, size_t *taken)
{
    bool odd = is_odd(at, length, taken);
    return odd || (unsigned char)*at < rule->low || (*at != '\0' && strchr(rule->also, *at));
}

/* Whether the backslash at `at` would be read as the beginning of an escape. */
static bool must_double(const struct rule *rule, const char *at, size_t length)
{
    size_t taken;
    return length > 1 &&
           ((at[1] != '\0' && strchr("ntrx\\", at[1])) || must_escape(rule, at + 1, length - 1, &taken));
}

static size_t plain_run(const struct rule *rule, const char *at, size_t length)
{
    size_t run = clean_run(at, length, rule->low, '\\');
    for (const char *also = rule->also; *also && run; also++) {
        const char *found = memchr(at, *also, run);
        run = found ? (size_t)(found - at) : run;
    }
    return run;
}

static void escape(struct ind_buffer *buffer, struct ind_slice text, const struct rule *rule)
{
    if (text.length == 0) {
        ind_buffer_byte(buffer, '-');
        return;
    }
    if (text.length == 1 && text.at[0] == '-') {
        ind_buffer_add(buffer, "\\x2d", 4);
        return;
    }
    for (size_t at = 0, taken; at < text.length; at += taken) {
        size_t run = plain_run(rule, text.at + at, text.length - at);
        ind_buffer_add(buffer, text.at + at, run);
        at += run;
        if (at == text.length)
            return;
        const char *here = text.at + at;
        if (*here == '\\') {
            taken = 1;
            ind_buffer_add(buffer, "\\\\", must_double(rule, here, text.length - at) ? 2 : 1);
        } else if (must_escape(rule, here, text.length - at, &taken)) {
            escape_odd(buffer, here, taken);
        } else {
            ind_buffer_add(buffer, here, taken);
        }
    }
}

void ind_escape_text(struct ind_buffer *buffer, struct ind_slice text)
{
    static const struct rule rule = {' ', ""};
    if (text.length > 1 && ind_is_clean(text.at, text.length, ' ', '\\'))
        ind_buffer_slice(buffer, text);
    else
        escape(buffer, text, &rule);
}

void ind_escape_odd_column(struct ind_buffer *buffer, struct ind_slice text, const char *also)
{
    const struct rule rule = {' ' + 1, also};
    escape(buffer, text, &rule);
}

static bool ends_line(char c)
{
    return c == '\n' || c == '\r' || c == '\0';
}

void ind_escape_raw(struct ind_buffer *buffer, struct ind_slice bytes)
{
    size_t from = 0;
    if (bytes.length && ind_is_clean(bytes.at, bytes.length, ' ', '\\')) {
        ind_buffer_slice(buffer, bytes);
        return;
    }
    for (size_t at = 0; at < bytes.length; at++) {
        at += clean_run(bytes.at + at, bytes.length - at, ' ', '\\');
        char c = at < bytes.length ? bytes.at[at] : ' ',
             next = at + 1 < bytes.length ? bytes.at[at + 1] : ' ';
        bool doubled = c == '\\' && (ends_line(next) || strchr("ntrx\\", next));
        if (!ends_line(c) && !doubled)
            continue;
        ind_buffer_add(buffer, bytes.at + from, at - from);
        ind_buffer_text(buffer, doubled ? "\\\\" : c == '\n' ? "\\n" : c == '\r' ? "\\r" : "\\x00");
        from = at + 1;
    }
    if (bytes.length)
        ind_buffer_add(buffer, bytes.at + from, bytes.length - from);
}

static bool is_data_escape(const char *at, size_t length)
{
    return length > 1 && (at[1] == '"' || at[1] == '\\' || at[1] == ']');
}

void ind_escape_data(struct ind_buffer *buffer, struct ind_slice data)
{
    size_t taken;
    for (size_t at = 0; at < data.length; at += taken) {
        const char *here = data.at + at;
        size_t left = data.length - at, after;
        taken = clean_run(here, left, ' ', '\\');
        if (taken) {
            ind_buffer_add(buffer, here, taken);
        } else if (*here == '\\' && is_data_escape(here, left)) {
            taken = 2;
            ind_buffer_add(buffer, here, taken);
        } else if (*here == '\\') {
            taken = 1;
            bool begins = left > 1 && ((here[1] != '\0' && strchr("ntrx", here[1])) ||
                                       is_odd(here + 1, left - 1, &after));
            ind_buffer_text(buffer, begins ? "\\x5c" : "\\");
        } else if (is_odd(here, left, &taken)) {
            escape_odd(buffer, here, taken);
        } else {
            ind_buffer_add(buffer, here, taken);
        }
    }
}

int ind_hex_digit(char c)
{
    return ind_is_digit(c)        ? c - '0'
           : c >= 'a' && c <= 'f' ? c - 'a' + 10
           : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                  : -1;
}

int ind_hex_four(const char *at)
{
    int number = 0;
    for (int i = 0; i < 4; i++) {
        int digit = ind_hex_digit(at[i]);
        if (digit < 0)
            return -1;
        number = number * 16 + digit;
    }
    return number;
}

void ind_utf8_put(struct ind_buffer *buffer, unsigned code)
{
    if (code < 0x80) {
        ind_buffer_byte(buffer, (char)code);
        return;
    }
    int more = code < 0x800 ? 1 : code < 0x10000 ? 2 : 3;
    static const unsigned char starts[] = {0, 0xC0, 0xE0, 0xF0};
    ind_buffer_byte(buffer, (char)(starts[more] | code >> (6 * more)));
    while (more-- > 0)
        ind_buffer_byte(buffer, (char)(0x80 | (code >> (6 * more) & 0x3F)));
}

/* `\xNN` at `at`, or -1. */
static int hex_escape(const char *at, size_t length)
{
    int high = length > 3 && at[1] == 'x' ? ind_hex_digit(at[2]) : -1,
        low = high < 0 ? -1 : ind_hex_digit(at[3]);
    return low < 0 ? -1 : high * 16 + low;
}

enum undone { UNDO_TEXT, UNDO_DATA, UNDO_JSON };

static size_t undo(char *to, struct ind_slice written, enum undone what)
{
    size_t out = 0;
    for (size_t at = 0; at < written.length;) {
        const char *here = written.at + at;
        size_t left = written.length - at;
        const char *backslash = memchr(here, '\\', left);
        size_t run = backslash ? (size_t)(backslash - here) : left;
        memmove(to + out, here, run);
        out += run;
        at += run;
        here += run;
        left -= run;
        if (left == 0)
            break;
        int byte = hex_escape(here, left);
        char next = left > 1 ? here[1] : ' ';
        const char *letter = what != UNDO_JSON && next != '\0' ? strchr("n\nt\tr\r", next) : NULL;
        if (byte >= 0) {
            to[out++] = (char)byte;
            at += 4;
        } else if (letter && ind_is_alpha(next)) {
            to[out++] = letter[1];
            at += 2;
        } else {
            bool pair = what == UNDO_DATA ? is_data_escape(here, left) : next == '\\' && left > 1;
            to[out++] = '\\';
            if (pair && what == UNDO_DATA)
                to[out++] = next;
            at += pair ? 2 : 1;
        }
    }
    return out;
}

size_t ind_unescape(char *to, struct ind_slice written)
{
    return undo(to, written, UNDO_TEXT);
}

size_t ind_unescape_data(char *to, struct ind_slice written)
{
    return undo(to, written, UNDO_DATA);
}

size_t ind_unescape_json(char *to, struct ind_slice written)
{
    return undo(to, written, UNDO_JSON);
}

static void escape_json_control(struct ind_buffer *buffer, const char *at, size_t length)
{
    static const char letters[] = "b\bf\fn\nr\rt\t";
    unsigned char first = (unsigned char)*at, second = length > 1 ? (unsigned char)at[1] : 0;
    for (size_t i = 1; i < sizeof letters; i += 2)
        if (*at == letters[i] && *at != '\0') {
            ind_buffer_byte(buffer, '\\');
            ind_buffer_byte(buffer, letters[i - 1]);
            return;
        }
    unsigned code = length == 1 ? first
                    : length == 2
                        ? (first & 0x1Fu) << 6 | (second & 0x3Fu)
                        : (first & 0xFu) << 12 | (second & 0x3Fu) << 6 | ((unsigned char)at[2] & 0x3Fu);
    hex(buffer, "\\u", (unsigned char)(code >> 8));
    hex(buffer, "", (unsigned char)code);
}

/* Whether a byte is one that only `\xNN` can tell. */
static bool is_no_text(const char *at, size_t length, bool key)
{
    bool control;
    return ind_utf8_character(at, length, &control) == 0 || (key && *at == '\0');
}

bool ind_escape_json(struct ind_buffer *buffer, struct ind_slice text, bool reversible, bool key)
{
    bool good = true, control;
    if (!buffer->full && buffer->capacity - buffer->length >= text.length && text.length &&
        ind_copy_clean_but(buffer->at + buffer->length, text.at, text.length, ' ', '"', '\\')) {
        buffer->length += text.length;
        return true;
    }
    for (size_t at = 0; at < text.length;) {
        const char *here = text.at + at;
        size_t left = text.length - at, character = ind_utf8_character(here, left, &control);
        if (character == 0 || (key && *here == '\0')) {
            hex(buffer, "\\\\x", (unsigned char)*here);
            good = false;
            at++;
            continue;
        }
        at += character;
        if (control)
            escape_json_control(buffer, here, character);
        else if (*here == '"')
            ind_buffer_add(buffer, "\\\"", 2);
        else if (*here != '\\')
            ind_buffer_add(buffer, here, character);
        else if (reversible && left > 1 &&
                 (here[1] == 'x' || here[1] == '\\' || is_no_text(here + 1, left - 1, key)))
            ind_buffer_add(buffer, "\\\\\\\\", 4);
        else
            ind_buffer_add(buffer, "\\\\", 2);
    }
    return good;
}
