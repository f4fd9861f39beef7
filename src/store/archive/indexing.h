/* store/archive/indexing.h: the index of an archive that is being compressed. A thread of its own reads the
 * lines of a frame while the frame is packed. */
#ifndef IND_STORE_ARCHIVE_INDEXING_H
#define IND_STORE_ARCHIVE_INDEXING_H

#include "store/disk/compress.h"
#include "store/disk/stored.h"

struct ind_indexing;

/* For a file whose lines are `stored` (store/disk/stored.h), of about `size` bytes, packed at that level.
 * NULL where memory is out. */
struct ind_indexing *ind_indexing_new(int stored, int level, uint64_t size);
void ind_indexing_free(struct ind_indexing *indexing);

/* What ind_compress_file is to tell it; borrows it. */
struct ind_frame_calls ind_indexing_calls(struct ind_indexing *indexing);

#endif
