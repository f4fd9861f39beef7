/* bench/archive.c: what compressing an archive costs, with and without its index and its digest, as the
 * keeper does it but for flushing to the disk. Usage: bench_archive FILE LEVEL bare|index|chain|gzip;
 * FILE.zst is left behind. */
#include "measure.h"

#include "store/archive/indexing.h"
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static int no_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

int main(int argc, char **argv)
{
    struct stat facts;
    struct ind_disk disk = {.fs = ind_fs_posix};
    char to[4096];
    uint64_t size = 0;
    if (argc < 4 || stat(argv[1], &facts) != 0)
        return 2;
    disk.fs.sync = no_sync;
    disk.folder = open(".", O_RDONLY | O_DIRECTORY);
    snprintf(to, sizeof to, "%s.zst", argv[1]);
    const bool chain = strcmp(argv[3], "chain") == 0, bare = strcmp(argv[3], "bare") == 0;
    struct ind_digesting *digesting = chain ? ind_digesting_new() : NULL;
    struct ind_indexing *indexing =
        bare ? NULL : ind_indexing_new(IND_LAYOUT_PLAIN, atoi(argv[2]), (uint64_t)facts.st_size);
    struct ind_frame_calls calls;
    if (indexing)
        calls = ind_indexing_calls(indexing);
    const double start = now();
    const struct ind_packing packing = {.from = argv[1],
                                        .to = to,
                                        .compression = IND_COMPRESS_ZSTD,
                                        .level = atoi(argv[2]),
                                        .calls = indexing ? &calls : NULL,
                                        .digesting = digesting};
    const int error = ind_compress_file(&disk, &packing, &size);
    printf("%.3f s\t%llu bytes\n", now() - start, (unsigned long long)size);
    ind_indexing_free(indexing);
    ind_digesting_free(digesting);
    return error;
}
