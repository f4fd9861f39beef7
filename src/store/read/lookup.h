/* store/read/lookup.h: what is known of one file by its path alone. */
#ifndef IND_STORE_READ_LOOKUP_H
#define IND_STORE_READ_LOOKUP_H

#include "store/disk/stored.h"

/* The layout of the file's lines by the journal of the store that it lies in; IND_STORED_UNKNOWN where it
 * lies in none, or its journal does not know it. */
int ind_stored_of_path(const char *path);

/* The store that a path lies in, or is: the nearest folder upwards, itself included, that has a journal. New;
 * *inside is then the path below it ("" for the store itself), within what is returned. NULL where there is
 * none. */
char *ind_store_around(const char *path, const char **inside);

/* Whether a path leads to something below the folder `store`, whatever links are on the way. */
bool ind_lies_in(const char *store, const char *path);
bool ind_is_same_folder(const char *one, const char *other);

/* Whether the first line of a file looks like a stored one: IND_LAYOUT_PLAIN, IND_LAYOUT_JSON, or -1. */
int ind_looks_stored(const char *path);

#endif
