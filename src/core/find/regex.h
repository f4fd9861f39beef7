/* core/find/regex.h: regular expressions that users write (PCRE2), made quick, and the effort that a message
 * may cost in all of them together.
 *
 * PCRE2's own limit counts how often it goes back, but not how far it looks: "(?=.*z)(?=.*y)a" looks through
 * the rest of the text from each of its places. So an expression is compiled twice: as it is, for texts so
 * short that even the worst is little; and with a call of ours before each of its parts, which counts how far
 * it has come. Both give the same answers; what they may cost goes by steps, not by time: the same message
 * always gets the same answer.
 *
 * PCRE2's own types stay in regex.c, so that its header is needed in few places. */
#ifndef IND_CORE_FIND_REGEX_H
#define IND_CORE_FIND_REGEX_H

#include "core/base/slice.h"
#include <stdint.h>

struct ind_regex;

struct ind_regex_error {
    size_t offset; /* where the expression breaks off */
    char reason[120];
};

/* New; `options` are PCRE2's. NULL with *error filled in where the text is no expression. Any thread may use
 * it. */
struct ind_regex *ind_regex_new(struct ind_slice text, uint32_t options, struct ind_regex_error *error);
void ind_regex_free(struct ind_regex *regex);
/* Whether a text with nothing in it can match. */
bool ind_regex_matches_empty(const struct ind_regex *regex);

/* The longest text that stands in every text which the expression fits, case as it is, as far as its writing
 * shows without doubt; nothing where it does not. `to`: room for as many bytes. */
struct ind_slice ind_regex_needs(struct ind_slice expression, char *to);

/* What one thread needs to match: where it matched, and how much a message may still cost. */
struct ind_regex_room {
    struct ind_regex_scratch *scratch;
    int64_t quick, counted; /* steps that are left, of each way */
    size_t at;              /* how far the one at hand has come */
};

/* False where memory is out; then, too, it is to be ended. */
bool ind_regex_room_begin(struct ind_regex_room *room);
void ind_regex_room_end(struct ind_regex_room *room);

/* Before each message: all that its texts cost from now on is counted together, a few milliseconds at most. A
 * byte looked at is a step. */
enum { IND_REGEX_QUICK = 2 << 20, IND_REGEX_COUNTED = 8 << 20 };
static inline void ind_regex_room_next(struct ind_regex_room *room)
{
    room->quick = IND_REGEX_QUICK;
    room->counted = IND_REGEX_COUNTED;
}

enum ind_regex_found {
    IND_REGEX_NONE,
    IND_REGEX_FOUND,
    IND_REGEX_GAVE_UP /* it costs too much: whether it matches is not known */
};

/* Looks for the expression in `text` from byte `from` on; `options` are PCRE2's. *start and *end (may be
 * NULL): where it matches. */
enum ind_regex_found ind_regex_match(const struct ind_regex *regex, struct ind_regex_room *room,
                                     struct ind_slice text, size_t from, uint32_t options, size_t *start,
                                     size_t *end);

#endif
