#include "store/disk/identity.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <unistd.h>

enum { BYTES = IND_STORE_ID / 2 };

/* False with errno set: ENOENT where there is none, or it was cut off by a stop. */
static bool read_id(int folder, char id[IND_STORE_ID + 1])
{
    const int file = openat(folder, IND_STORE_ID_PATH, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (file < 0)
        return false;
    const ssize_t got = read(file, id, IND_STORE_ID);
    close(file);
    id[IND_STORE_ID] = '\0';
    if (got == IND_STORE_ID && strspn(id, "0123456789abcdef") == IND_STORE_ID)
        return true;
    errno = got < 0 ? errno : ENOENT;
    return false;
}

static bool write_id(const struct ind_fs *fs, int folder, const char id[IND_STORE_ID + 1])
{
    const int file =
        fs->open(fs->context, folder, IND_STORE_ID_PATH, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0640);
    if (file < 0)
        return false;
    const bool good = ind_fs_write_all(fs, file, id, IND_STORE_ID) && ind_fs_write_all(fs, file, "\n", 1) &&
                      fs->sync(fs->context, file) == 0;
    const int error = errno;
    close(file);
    errno = error;
    return good && ind_fs_sync_folders_of(fs, folder, IND_STORE_ID_PATH) == 0;
}

static bool draw(char id[IND_STORE_ID + 1])
{
    unsigned char bytes[BYTES];
    const int file = open("/dev/urandom", O_RDONLY | O_CLOEXEC);
    const bool good = file >= 0 && read(file, bytes, BYTES) == BYTES;
    if (file >= 0)
        close(file);
    for (size_t i = 0; good && i < BYTES; i++) {
        id[2 * i] = "0123456789abcdef"[bytes[i] >> 4];
        id[2 * i + 1] = "0123456789abcdef"[bytes[i] & 15];
    }
    id[IND_STORE_ID] = '\0';
    return good;
}

bool ind_store_id(const struct ind_fs *fs, int folder, char id[IND_STORE_ID + 1])
{
    return read_id(folder, id) || (errno == ENOENT && draw(id) && write_id(fs, folder, id));
}

enum ind_claim ind_store_id_claim(const struct ind_fs *fs, int place, const char id[IND_STORE_ID + 1])
{
    char there[IND_STORE_ID + 1];
    if (read_id(place, there))
        return strcmp(there, id) == 0 ? IND_CLAIM_OURS : IND_CLAIM_OTHERS;
    return errno == ENOENT && write_id(fs, place, id) ? IND_CLAIM_OURS : IND_CLAIM_FAILED;
}
