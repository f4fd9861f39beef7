/* store/archive/counting.h: the lines of stored files, added up by hour, device and PRI. */
#ifndef IND_STORE_ARCHIVE_COUNTING_H
#define IND_STORE_ARCHIVE_COUNTING_H

#include "core/archive/volumes.h"

struct ind_counting;

struct ind_counting *ind_counting_new(void); /* NULL where memory is out */
void ind_counting_free(struct ind_counting *counting);

/* Begins anew, with lines of a layout (store/disk/stored.h). */
void ind_counting_begin(struct ind_counting *counting, int stored);
/* Whole lines; only the last of a file may lack its end. */
void ind_counting_add(struct ind_counting *counting, struct ind_slice block);
/* What was added since the beginning, with devices numbered as they came, and the name of each of these; of
 * counting until it begins anew. NULL where memory was out. */
struct ind_volumes *ind_counting_volumes(struct ind_counting *counting);
struct ind_slice ind_counting_name(const struct ind_counting *counting, uint32_t device);
/* What was added since the beginning, with the numbers that `number` gives for devices by their names. New,
 * the caller's; NULL where memory is out, or was. */
struct ind_volumes *ind_counting_end(struct ind_counting *counting,
                                     uint32_t (*number)(void *context, struct ind_slice device),
                                     void *context);

#endif
