/* store/disk/engine_file.h: STATE/engine.json: the engine of SNMP version 3 that a collector is (RFC 3411
 * section 5), and how often it has started. */
#ifndef IND_STORE_DISK_ENGINE_FILE_H
#define IND_STORE_DISK_ENGINE_FILE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Of the folder `state`: the `length` bytes of its id, and its starts. False where there is none, it is of
 * another length, or the file is damaged. */
bool ind_engine_file_read(const char *state, char *id, size_t length, uint32_t *starts);
/* Whole or not at all. False with errno set. */
bool ind_engine_file_write(const char *state, const char *id, size_t length, uint32_t starts);

#endif
