/* store/disk/state_file.h: small files of the state, written anew as a whole. */
#ifndef IND_STORE_DISK_STATE_FILE_H
#define IND_STORE_DISK_STATE_FILE_H

#include <stdbool.h>

/* Writes `text` in place of the file NAME of the folder `state`, whole or not at all, and for good. False
 * with errno set. */
bool ind_state_file_write(const char *state, const char *name, const char *text);

#endif
