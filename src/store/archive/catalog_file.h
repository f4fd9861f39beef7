/* store/archive/catalog_file.h: a file whose lines are counted, for the catalog's files only. */
#ifndef IND_STORE_ARCHIVE_CATALOG_FILE_H
#define IND_STORE_ARCHIVE_CATALOG_FILE_H

#include "store/archive/counting.h"
#include "store/disk/digest.h"

#include <stdint.h>

struct ind_counted_file {
    int64_t id;
    char *archive, *live; /* live: NULL where it is an archive */
    int stored;
    bool layout_known; /* when its counting began */
    uint64_t from;     /* what is counted, and its mark */
    int64_t mark;
    /* What came of it. */
    bool instead; /* of what was counted before: that was another file */
    int error;    /* ECANCELED: it was interrupted */
    uint64_t to, bytes;
};

/* Reads what is new in it: `folder` is the store's. What it holds is added to `counting`, which begins anew;
 * fills in what came of it. Of a live file whole lines only. The interrupt is asked between two blocks, and
 * may be NULL. */
void ind_count_file(int folder, struct ind_counted_file *file, struct ind_counting *counting,
                    const struct ind_interrupt *interrupt);

#endif
