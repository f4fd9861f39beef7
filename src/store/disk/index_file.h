/* store/disk/index_file.h: the index at the end of a .zst (docs/archive-format.md). */
#ifndef IND_STORE_DISK_INDEX_FILE_H
#define IND_STORE_DISK_INDEX_FILE_H

#include "core/archive/index.h"

/* The skippable frame (RFC 8878 section 3.1.2) in which it lies: so many bytes in front of it, and these are
 * their first four, the lowest first. */
enum { IND_INDEX_WRAP = 8 };
#define IND_INDEX_MAGIC UINT32_C(0x184D2A5D)

/* Reads it; `bytes` is what it borrows from, to be freed after it. False where there is none, or it is not as
 * it must be: then the file is read from front to back. */
bool ind_index_file_read(int file, struct ind_index *index, char **bytes);

#endif
