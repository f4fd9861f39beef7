/* collect/output/writer_facts.h: what a writer did so far: written by it after each batch, read by any
 * thread.
 */
#ifndef IND_COLLECT_OUTPUT_WRITER_FACTS_H
#define IND_COLLECT_OUTPUT_WRITER_FACTS_H

#include "store/write/store.h"

#include <stdatomic.h>

struct ind_writer_facts {
    atomic_uint_fast64_t lines, bytes, rotated, overflowed, live_files, open_files;
    atomic_int disk_error; /* for which the disk takes nothing; 0: it does */
};

static inline void ind_writer_facts_set(struct ind_writer_facts *facts, const struct ind_store_counts *counts)
{
    atomic_store(&facts->lines, counts->lines);
    atomic_store(&facts->bytes, counts->bytes);
    atomic_store(&facts->rotated, counts->rotated);
    atomic_store(&facts->overflowed, counts->overflowed);
    atomic_store(&facts->live_files, counts->live_files);
    atomic_store(&facts->open_files, counts->open_files);
    atomic_store(&facts->disk_error, counts->disk_error);
}

static inline void ind_writer_facts_add(const struct ind_writer_facts *facts, struct ind_store_counts *sum)
{
    int error = atomic_load(&facts->disk_error);
    sum->lines += atomic_load(&facts->lines);
    sum->bytes += atomic_load(&facts->bytes);
    sum->rotated += atomic_load(&facts->rotated);
    sum->overflowed += atomic_load(&facts->overflowed);
    sum->live_files += (size_t)atomic_load(&facts->live_files);
    sum->open_files += (size_t)atomic_load(&facts->open_files);
    sum->disk_error = sum->disk_error ? sum->disk_error : error;
}

#endif
