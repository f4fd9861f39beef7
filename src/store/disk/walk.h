/* store/disk/walk.h: the files below a folder. Reads only. */
#ifndef IND_STORE_DISK_WALK_H
#define IND_STORE_DISK_WALK_H

#include <stdbool.h>
#include <stddef.h>

/* Calls `visit` for each file below `folder` that is no folder, with its path; folders and files that begin
 * with a dot are passed over but for temporary files of ours. Adds to *unreadable (may be NULL) the folders
 * that could not be looked into. False where `visit` said so, or the folder itself cannot be read. */
bool ind_walk(int folder, bool (*visit)(void *context, const char *path), void *context, size_t *unreadable);

/* The temporary name of a compressed archive in the making: ".NAME.tmp" beside it. */
void ind_temporary_name(const char *path, char *name, size_t room);
/* Whether a name without folders is such a one. */
bool ind_is_temporary_name(const char *name);

#endif
