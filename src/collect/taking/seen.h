/* collect/taking/seen.h: the ids of batches that were stored, so that one which comes once more is not stored
 * twice: also after a start. A file, to which ids are added, and from time to time written anew with the last
 * of them. Of one thread. */
#ifndef IND_COLLECT_TAKING_SEEN_H
#define IND_COLLECT_TAKING_SEEN_H

#include <stdbool.h>
#include <stdint.h>

struct ind_seen;

/* Reads the file, or makes it. New; NULL with errno set. */
struct ind_seen *ind_seen_open(const char *path);
/* Accepts NULL. */
void ind_seen_close(struct ind_seen *seen);

/* Of an id; never 0. */
uint64_t ind_seen_hash(const char *id);
bool ind_seen_has(const struct ind_seen *seen, const char *id);
/* Remembers an id; it is on disk after the next ind_seen_flush. False where memory is out. */
bool ind_seen_add(struct ind_seen *seen, const char *id);
/* False with errno set. */
bool ind_seen_flush(struct ind_seen *seen);

#endif
