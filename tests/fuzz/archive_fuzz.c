/* Any bytes as an archive: read to its end, or to where it breaks off, as .zst, .gz and text; and looked
 * through for an index. */
#include "store/disk/digest.h"
#include "store/disk/index_file.h"
#include "temporary.h"

#include <fcntl.h>
#include <unistd.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    const char *path = ind_fuzz_folder("archive");
    const int folder = open(path, O_RDONLY | O_DIRECTORY);
    const int file = openat(folder, "archive", O_RDWR | O_CREAT | O_TRUNC, 0600);
    struct ind_digest digest;
    struct ind_index index;
    char *kept;
    if (folder < 0 || file < 0 || write(file, bytes, size) != (ssize_t)size)
        abort();
    for (int compression = IND_COMPRESS_NONE; compression <= IND_COMPRESS_GZIP; compression++) {
        const char *reason = NULL;
        const int error =
            ind_digest_file(folder, "archive", (enum ind_compression)compression, NULL, &digest, &reason);
        if (compression == IND_COMPRESS_NONE && (error || digest.bytes != size))
            abort();
        if (error && !reason)
            abort();
    }
    if (ind_index_file_read(file, &index, &kept)) {
        ind_index_free(&index);
        free(kept);
    }
    close(file);
    close(folder);
    return 0;
}
