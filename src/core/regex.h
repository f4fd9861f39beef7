/* core/regex.h: regular expressions that users write (PCRE2), made quick, and the effort that one may take.
 *
 * Internal to core/. What PCRE2 makes is passed about as void *, so that its header stays in few places. */
#ifndef IND_CORE_REGEX_H
#define IND_CORE_REGEX_H

#include "core/slice.h"
#include <stdint.h>

struct ind_regex_error {
    size_t offset; /* where the expression breaks off */
    char reason[120];
};

/* New; `options` are PCRE2's. NULL with *error filled in where the text is no expression. Any thread may use
 * it. */
void *ind_regex_new(struct ind_slice text, uint32_t options, struct ind_regex_error *error);
void ind_regex_free(void *regex);

/* What one thread needs to match: where it matched, and how hard it may try. */
struct ind_regex_room {
    void *match, *effort;
};

/* Beyond `steps` an expression does not match, so that none can hold up the intake. False where memory is
 * out; then, too, it is to be ended. */
bool ind_regex_room_begin(struct ind_regex_room *room, uint32_t steps);
void ind_regex_room_end(struct ind_regex_room *room);

#endif
