/* Bytes as a file, for readers that want a path; and a folder, for those that want more. */
#ifndef IND_FUZZ_TEMPORARY_H
#define IND_FUZZ_TEMPORARY_H

#ifndef _XOPEN_SOURCE
#define _XOPEN_SOURCE 700 /* nftw */
#endif

#include <ftw.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static inline void ind_fuzz_name(const char *kind, char name[64])
{
    const char *where = getenv("TMPDIR");
    int length = snprintf(name, 64, "%s/indagator-fuzz-%s-%ld", where ? where : "/tmp", kind, (long)getpid());
    if (length >= 64)
        abort();
}

/* Writes them to a file of this process's own, in TMPDIR or /tmp, and puts its name into `name`. */
static inline void ind_fuzz_file(const char *kind, const uint8_t *bytes, size_t size, char name[64])
{
    ind_fuzz_name(kind, name);
    FILE *file = fopen(name, "wb");
    if (!file || (size && fwrite(bytes, 1, size, file) != size) || fclose(file) != 0)
        abort();
}

static char ind_fuzz_folder_name[64];

static inline int ind_fuzz_remove_one(const char *path, const struct stat *facts, int kind, struct FTW *where)
{
    (void)facts, (void)kind, (void)where;
    return remove(path);
}

static inline void ind_fuzz_remove_folder(void)
{
    (void)nftw(ind_fuzz_folder_name, ind_fuzz_remove_one, 16, FTW_DEPTH | FTW_PHYS);
}

/* This process's own folder there: made by the first call, and gone when the process ends. */
static inline const char *ind_fuzz_folder(const char *kind)
{
    if (!ind_fuzz_folder_name[0]) {
        ind_fuzz_name(kind, ind_fuzz_folder_name);
        if (mkdir(ind_fuzz_folder_name, 0700) != 0)
            abort();
        atexit(ind_fuzz_remove_folder);
    }
    return ind_fuzz_folder_name;
}

#endif
