#include "cli/grown.h"

#include <stdlib.h>

bool ind_grown_add(struct ind_grown *grown, const char *bytes, size_t length)
{
    if (grown->room - grown->length <= length) {
        const size_t room = (grown->length + length) * 2 + 64;
        char *at = realloc(grown->at, room);
        if (!at)
            return false;
        grown->at = at;
        grown->room = room;
    }
    if (length)
        memcpy(grown->at + grown->length, bytes, length);
    grown->length += length;
    grown->at[grown->length] = '\0';
    return true;
}

bool ind_kept_add(struct ind_kept_lines *kept, struct ind_slice line)
{
    const size_t count = kept->count;
    if ((count & (count - 1)) == 0) {
        struct ind_kept_line *list = realloc(kept->list, (count ? 2 * count : 1) * sizeof *list);
        if (!list)
            return false;
        kept->list = list;
    }
    char *copy = malloc(line.length ? line.length : 1);
    if (!copy)
        return false;
    if (line.length)
        memcpy(copy, line.at, line.length);
    kept->list[kept->count++] = (struct ind_kept_line){copy, line.length};
    return true;
}

void ind_kept_give_back(struct ind_kept_lines *kept, void (*give)(void *context, struct ind_slice line),
                        void *context)
{
    for (size_t i = kept->count; i-- > 0;) {
        give(context, (struct ind_slice){kept->list[i].at, kept->list[i].length});
        free(kept->list[i].at);
    }
    free(kept->list);
    *kept = (struct ind_kept_lines){NULL, 0};
}
