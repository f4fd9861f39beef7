/* cli/grown.h: a text that grows, and lines that are kept to be given the other way round. */
#ifndef IND_CLI_GROWN_H
#define IND_CLI_GROWN_H

#include "core/base/slice.h"

/* Empty where it is all zero; `at` is to be freed. */
struct ind_grown {
    char *at;
    size_t length, room;
};

/* Adds bytes, and a NUL behind them that does not count. False where memory is out: nothing was added. */
bool ind_grown_add(struct ind_grown *grown, const char *bytes, size_t length);

struct ind_kept_lines {
    struct ind_kept_line {
        char *at;
        size_t length;
    } * list;
    size_t count;
};

/* Adds a copy. False where memory is out. */
bool ind_kept_add(struct ind_kept_lines *kept, struct ind_slice line);
/* Gives the last one first, and frees them. */
void ind_kept_give_back(struct ind_kept_lines *kept, void (*give)(void *context, struct ind_slice line),
                        void *context);

#endif
