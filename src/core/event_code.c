#include "core/event_code.h"

enum { LONGEST = 160 };

static bool is_part(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_';
}

static size_t skip_part(struct ind_slice text, size_t at)
{
    while (at < text.length && at < LONGEST && is_part(text.at[at]))
        at++;
    return at;
}

static struct ind_slice piece(struct ind_slice text, size_t from, size_t to)
{
    return (struct ind_slice){text.at + from, to - from};
}

static bool is_severity(struct ind_slice part)
{
    return part.length == 1 && part.at[0] >= '0' && part.at[0] <= '7';
}

/* The colon, after any blanks; 0 where there is none. */
static size_t skip_colon(struct ind_slice text, size_t at)
{
    while (at < text.length && at < LONGEST && text.at[at] == ' ')
        at++;
    return at < text.length && text.at[at] == ':' ? at + 1 : 0;
}

/* "%%01GROUP/N/NAME(l)[12]:" */
static bool read_slashed(struct ind_slice text, struct ind_event_code *code)
{
    size_t at = 2;
    while (at < text.length && at < 5 && ind_is_digit(text.at[at]))
        at++;
    size_t group = at;
    at = skip_part(text, at);
    if (at == 2 || at == group || text.length - at < 4 || text.at[at] != '/' || text.at[at + 2] != '/')
        return false;
    code->group = piece(text, group, at);
    code->severity = piece(text, at + 1, at + 2);
    size_t name = at + 3;
    at = skip_part(text, name);
    code->name = piece(text, name, at);
    static const char brackets[] = "()[]";
    for (int i = 0; i < 4; i += 2)
        if (at < text.length && text.at[at] == brackets[i]) {
            while (at < text.length && at < LONGEST && text.at[at] != brackets[i + 1])
                at++;
            at += at < text.length;
        }
    code->subgroup = IND_NOTHING;
    code->length = skip_colon(text, at);
    return code->length && code->name.length && is_severity(code->severity);
}

bool ind_event_code_read(struct ind_slice text, struct ind_event_code *code)
{
    if (text.length < 6 || (text.at[0] != '%' && text.at[0] != '#'))
        return false;
    if (text.at[0] == '%' && text.at[1] == '%')
        return read_slashed(text, code);
    size_t at = skip_part(text, 1), sub_from = 0, sub_to = 0;
    code->group = piece(text, 1, at);
    if (code->group.length == 0)
        return false;
    for (;;) {
        if (at + 2 >= text.length || text.at[at] != '-')
            return false;
        size_t from = at + 1;
        at = skip_part(text, from);
        struct ind_slice part = piece(text, from, at);
        if (is_severity(part)) {
            code->severity = part;
            break;
        }
        if (part.length == 0)
            return false;
        sub_from = sub_from ? sub_from : from;
        sub_to = at;
    }
    code->subgroup = piece(text, sub_from, sub_to);
    if (at + 1 >= text.length || text.at[at] != '-')
        return false;
    size_t name = at + 1;
    for (at = skip_part(text, name); at + 1 < text.length && text.at[at] == '-' && is_part(text.at[at + 1]);)
        at = skip_part(text, at + 1);
    code->name = piece(text, name, at);
    code->length = skip_colon(text, at);
    return code->length && code->name.length;
}
