/* store/archive/copier.h: one file at a time to a second place, such as a mounted share: written, read back,
 * compared. On a thread of its own, which may hang with the share for as long as that likes. */
#ifndef IND_STORE_ARCHIVE_COPIER_H
#define IND_STORE_ARCHIVE_COPIER_H

#include "store/disk/disk.h"
#include "store/disk/identity.h"

struct ind_copy {
    char *place;               /* folder */
    bool known;                /* something was copied there before: it must look like it */
    char id[IND_STORE_ID + 1]; /* of the store (store/disk/identity.h) */
    char *path;                /* of the file, below the store and below `place` */
    char *text;                /* of the file, where it is not below the store; else NULL */
    size_t length;
};

struct ind_copier;

/* `done` is set after each copy; where it is NULL copies are made at once, and whoever asks for one waits.
 * `folder`: of the store. NULL where memory is out. */
struct ind_copier *ind_copier_new(const struct ind_fs *fs, int folder, atomic_bool *done);
/* A copy that is under way is left to itself. Accepts NULL. */
void ind_copier_free(struct ind_copier *copier);

/* Begins a copy, and takes over its texts; not while one is under way. */
void ind_copier_begin(struct ind_copier *copier, const struct ind_copy *copy);

enum ind_copy_state { IND_COPY_NONE, IND_COPY_UNDER_WAY, IND_COPY_DONE, IND_COPY_FAILED };
/* What became of it; told once. `reason`: why it failed. */
enum ind_copy_state ind_copier_look(struct ind_copier *copier, char *reason, size_t room);

#endif
