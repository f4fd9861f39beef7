/* collect/intake/file_reader.h: files read by one thread and given in blocks, in turn, to several. */
#ifndef IND_COLLECT_INTAKE_FILE_READER_H
#define IND_COLLECT_INTAKE_FILE_READER_H

#include "collect/intake/origin.h"
#include <stdint.h>

struct ind_file_reading {
    const char *const *files; /* "-" is standard input; compressed by their names */
    size_t file_count;
    enum ind_line_form form; /* of the lines, but for files of a store whose journal says that they are raw */
    unsigned threads;
    /* On thread `thread`: whole lines of one form; the last of a file may have no end. `block` counts the
     * blocks. */
    void (*lines)(void *context, unsigned thread, uint64_t block, enum ind_line_form form,
                  struct ind_slice lines);
    /* On each thread, once it is through. */
    void (*end)(void *context, unsigned thread);
    /* On the reading thread: whether to go on; told how many bytes were read. */
    bool (*goes_on)(void *context, uint64_t bytes);
    /* A file that cannot be read, or not to its end (`all` is false then). */
    void (*unread)(void *context, const char *path, bool all, const char *reason);
    void *context;
};

enum ind_file_reading_end {
    IND_FILE_READING_DONE,
    IND_FILE_READING_STOPPED,
    IND_FILE_READING_NO_MEMORY,
    IND_FILE_READING_NO_THREAD
};

/* Reads all of them on the calling thread; returns once all that was read is taken. */
enum ind_file_reading_end ind_files_read(const struct ind_file_reading *reading);

#endif
