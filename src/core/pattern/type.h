/* core/pattern/type.h: the types of fields in layouts, and how much of a text each takes
 * (docs/pattern-language.md).
 *
 * A type but word, text and remainder takes all it can from where it stands, and so has one end or none.
 * Steps of a scan are linear in what it looks at, which is never past the end of the text. */
#ifndef IND_CORE_PATTERN_TYPE_H
#define IND_CORE_PATTERN_TYPE_H

#include "core/base/slice.h"

/* Narrow to wide: the order in which types are tried where several may stand. */
enum ind_type {
    IND_TYPE_TIME,
    IND_TYPE_IP,
    IND_TYPE_MAC,
    IND_TYPE_INT,
    IND_TYPE_DECIMAL,
    IND_TYPE_HEX,
    IND_TYPE_DURATION,
    IND_TYPE_INTERFACE,
    IND_TYPE_PATH,
    IND_TYPE_HOST,
    IND_TYPE_QUOTED,
    IND_TYPE_PAIRS,
    IND_TYPE_JSON,
    IND_TYPE_RE,
    IND_TYPE_WORD,
    IND_TYPE_TEXT,
    IND_TYPE_REMAINDER,
    IND_TYPES
};

/* "time" and so on; one that no type is called by is -1. */
struct ind_slice ind_type_name(enum ind_type type);
int ind_type_read(struct ind_slice name);
/* The type that was probably meant by a name of none ("integer", "ipv4", "strign"); NULL. */
const char *ind_type_near(struct ind_slice name);
/* "an address such as 192.0.2.9 or 2001:db8::1": what fits, for people. */
const char *ind_type_wants(enum ind_type type);

/* The end of what the type takes from `at`; NULL where it does not fit. Not for re, which needs its
 * expression, nor for remainder, which takes anything. A word is taken up to the next space, a text up to the
 * end. */
extern const char *(*const ind_type_scans[IND_TYPES])(const char *at, const char *end);
static inline const char *ind_type_scan(enum ind_type type, const char *at, const char *end)
{
    return ind_type_scans[type](at, end);
}

/* Kinds of bytes. */
enum {
    IND_TYPE_BLANK = 1,
    IND_TYPE_IN_WORD = 2, /* letters, digits, _ and what is not ASCII */
    IND_TYPE_DIGIT = 4,
    IND_TYPE_HEX_DIGIT = 8,
    IND_TYPE_IN_HOST = 16,
    IND_TYPE_IN_PATH = 32
};
extern const unsigned char ind_type_bytes[256];

static inline bool ind_type_byte(char c, unsigned kinds)
{
    return (ind_type_bytes[(unsigned char)c] & kinds) != 0;
}

/* Whether a field may end here: not in the middle of letters, digits and _, nor at the point of a number. */
static inline bool ind_type_boundary(const char *start, const char *at, const char *end)
{
    if (at == end || at == start)
        return true;
    if (ind_type_byte(*at, IND_TYPE_IN_WORD))
        return !ind_type_byte(at[-1], IND_TYPE_IN_WORD);
    return !(*at == '.' && end - at > 1 && ind_is_digit(at[1]) && ind_is_digit(at[-1]));
}

/* The first space at or after `at`, or `end`; the first byte that is none. */
static inline const char *ind_type_to_blank(const char *at, const char *end)
{
    while (at < end && !ind_type_byte(*at, IND_TYPE_BLANK))
        at++;
    return at;
}

static inline const char *ind_type_past_blanks(const char *at, const char *end)
{
    while (at < end && ind_type_byte(*at, IND_TYPE_BLANK))
        at++;
    return at;
}

/* Without the spaces around it, which do not count. */
static inline struct ind_slice ind_type_trim(struct ind_slice text)
{
    while (text.length && ind_type_byte(text.at[0], IND_TYPE_BLANK))
        text = ind_slice_from(text, 1);
    while (text.length && ind_type_byte(text.at[text.length - 1], IND_TYPE_BLANK))
        text.length--;
    return text;
}

#endif
