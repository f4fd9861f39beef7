/* store/disk/reader.h: a file's lines in blocks, whatever it is compressed with. */
#ifndef IND_STORE_DISK_READER_H
#define IND_STORE_DISK_READER_H

#include "core/archive/archive_name.h"
#include "core/base/slice.h"

struct ind_reader;

/* Reads from `file`, which the reader then owns, up to `limit` bytes of it as they lie on disk (UINT64_MAX:
 * all). For plain files `from` is where to begin. New, or NULL with errno set and the file closed. */
struct ind_reader *ind_reader_open(int file, enum ind_compression compression, uint64_t from, uint64_t limit);
void ind_reader_close(struct ind_reader *reader);

enum ind_read { IND_READ_BLOCK, IND_READ_END, IND_READ_FAILED };

/* The next run of whole lines, good until the next call. Only the last of a file may lack its line end. *at:
 * where in the text it begins. On failure ind_reader_reason tells why. */
enum ind_read ind_reader_next(struct ind_reader *reader, struct ind_slice *block, uint64_t *at);
const char *ind_reader_reason(const struct ind_reader *reader);

/* By name: ".zst", ".gz" or neither. */
enum ind_compression ind_compression_of(const char *path);

/* The first block of a file that others wrote may begin with a byte order mark, which is no part of its first
 * line. */
static inline struct ind_slice ind_without_mark(struct ind_slice block, uint64_t at)
{
    bool mark = at == 0 && block.length >= 3 && memcmp(block.at, "\xEF\xBB\xBF", 3) == 0;
    return mark ? ind_slice_from(block, 3) : block;
}

#endif
