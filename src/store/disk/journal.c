#include "store/disk/journal.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

bool ind_journal_append(const struct ind_fs *fs, int journal, const char *line, size_t length)
{
    struct iovec pieces[] = {{(char *)line, length}, {(char[]){'\n'}, 1}};
    const off_t before = lseek(journal, 0, SEEK_END);
    ssize_t written = fs->write(fs->context, journal, pieces, 2);
    int error = written < 0 ? errno : ENOSPC;
    if (written == (ssize_t)length + 1)
        return true;
    /* A torn line goes, so that the next record stands alone: a full disk would not let us end it. */
    if (written > 0 && (before < 0 || fs->truncate(fs->context, journal, (uint64_t)before) != 0))
        (void)ind_fs_write_all(fs, journal, "\n", 1);
    errno = error;
    return false;
}

int ind_journal_open(const struct ind_fs *fs, int folder)
{
    int file = fs->open(fs->context, folder, IND_JOURNAL_PATH, O_RDWR | O_CREAT | O_APPEND, 0640);
    if (file < 0)
        return -1;
    struct stat facts;
    char last = '\n';
    if (fstat(file, &facts) == 0 && facts.st_size > 0 && pread(file, &last, 1, facts.st_size - 1) == 1 &&
        last != '\n')
        (void)ind_fs_write_all(fs, file, "\n", 1);
    return file;
}

uint64_t ind_journal_size(int folder)
{
    struct stat facts;
    return fstatat(folder, IND_JOURNAL_PATH, &facts, 0) == 0 ? (uint64_t)facts.st_size : 0;
}

uint64_t ind_journal_lines(int folder, uint64_t from, void (*visit)(void *, char *line, size_t length),
                           void *context)
{
    int file = openat(folder, IND_JOURNAL_PATH, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    FILE *stream = file >= 0 ? fdopen(file, "r") : NULL;
    if (!stream) {
        if (file >= 0)
            close(file);
        return 0;
    }
    char *line = NULL;
    size_t room = 0;
    ssize_t length;
    uint64_t at = from;
    if (fseeko(stream, (off_t)from, SEEK_SET) == 0)
        while ((length = getline(&line, &room, stream)) > 0) {
            if (line[length - 1] != '\n')
                break; /* still being written, or torn */
            line[length - 1] = '\0';
            at += (uint64_t)length;
            visit(context, line, (size_t)length - 1);
        }
    free(line);
    fclose(stream);
    return at;
}

struct reading {
    const char *holding;
    void (*visit)(void *, const struct ind_journal_record *);
    void *context;
};

static void visit_holding(void *context, char *line, size_t length)
{
    const struct reading *reading = context;
    if (!reading->holding || strstr(line, reading->holding) || memchr(line, '\\', length))
        (void)ind_record_read(line, length, reading->visit, reading->context);
}

uint64_t ind_journal_read(int folder, uint64_t from, const char *holding,
                          void (*visit)(void *, const struct ind_journal_record *), void *context)
{
    struct reading reading = {holding, visit, context};
    return ind_journal_lines(folder, from, visit_holding, &reading);
}
