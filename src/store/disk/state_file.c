#include "store/disk/state_file.h"

#include "store/disk/fs.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

bool ind_state_file_write(const char *state, const char *name, const char *text)
{
    char new[100];
    const struct ind_fs *fs = &ind_fs_posix;
    const int folder = open(state, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    snprintf(new, sizeof new, "%s.new", name);
    const int file =
        folder < 0 ? -1 : fs->open(fs->context, folder, new, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0640);
    const bool good = file >= 0 && ind_fs_write_all(fs, file, text, strlen(text)) &&
                      fs->sync(fs->context, file) == 0 && fs->rename(fs->context, folder, new, name) == 0;
    const int error = errno;
    if (file >= 0)
        close(file);
    if (folder >= 0)
        close(folder);
    errno = error;
    return good;
}
