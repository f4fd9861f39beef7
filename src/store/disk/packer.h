/* store/disk/packer.h: bytes into a file as they come, compressed on the way. */
#ifndef IND_STORE_DISK_PACKER_H
#define IND_STORE_DISK_PACKER_H

#include "core/archive/archive_name.h"

struct ind_packer;

/* Into `file`, which the packer then owns. NULL with errno set, and the file closed. */
struct ind_packer *ind_packer_new(int file, enum ind_compression compression);
/* False with errno set. */
bool ind_packer_write(struct ind_packer *packer, const char *bytes, size_t length);
/* Writes what is left, has the disk take it, closes and frees. False with errno set where something failed.
 */
bool ind_packer_end(struct ind_packer *packer);

#endif
