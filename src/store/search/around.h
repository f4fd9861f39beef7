/* store/search/around.h: what the device of a message that was found said before and after it. */
#ifndef IND_STORE_SEARCH_AROUND_H
#define IND_STORE_SEARCH_AROUND_H

#include "core/time/civil.h"

/* Put before a line in a run. */
struct ind_around_mark {
    uint64_t device; /* a hash of its name */
    bool found;      /* else it may be given with one that is */
};

struct ind_around;

/* `lines`: so many before and after each. `separate`: an empty line is given between what does not follow on.
 * NULL where memory is out. */
struct ind_around *ind_around_new(size_t lines, bool separate);
void ind_around_free(struct ind_around *around);

/* Takes the next line in order of time; gives those that belong to what was found: what was said before it
 * stands in front of it. False once `write` returned false, or memory is out: *failed. */
bool ind_around_take(struct ind_around *around, const struct ind_around_mark *mark, struct ind_slice line,
                     bool (*write)(void *context, struct ind_slice line), void *context, bool *failed);

/* Whether lines had to be forgotten that might have been given: there were too many devices for so many lines
 * each. */
bool ind_around_forgot(const struct ind_around *around);

#endif
