/* Bytes as a file, for readers that want a path. */
#ifndef IND_FUZZ_TEMPORARY_H
#define IND_FUZZ_TEMPORARY_H

#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

/* Writes them to a file of this process's own, in /tmp, and puts its name into `name`. */
static inline void ind_fuzz_file(const char *kind, const uint8_t *bytes, size_t size, char name[64])
{
    snprintf(name, 64, "/tmp/indagator-fuzz-%s-%ld", kind, (long)getpid());
    FILE *file = fopen(name, "wb");
    if (!file || (size && fwrite(bytes, 1, size, file) != size) || fclose(file) != 0)
        abort();
}

#endif
