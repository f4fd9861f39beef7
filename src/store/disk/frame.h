/* store/disk/frame.h: one zstd frame of an archive (RFC 8878), read by where its index says that it lies. */
#ifndef IND_STORE_DISK_FRAME_H
#define IND_STORE_DISK_FRAME_H

#include "core/base/slice.h"
#include <stdint.h>

/* Frames of more text are not read by this: no collector makes them. */
enum { IND_FRAME_MOST = 96 << 20 };

struct ind_frame_reader;

struct ind_frame_reader *ind_frame_reader_new(void); /* NULL where memory is out */
void ind_frame_reader_free(struct ind_frame_reader *reader);

/* Reads the frame of `packed` bytes at `offset` of the file, which unpacks to `length` bytes, into `text`.
 * Why not, or NULL. */
const char *ind_frame_read(struct ind_frame_reader *reader, int file, uint64_t offset, size_t packed,
                           char *text, size_t length);

#endif
