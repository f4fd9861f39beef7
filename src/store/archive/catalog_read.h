/* store/archive/catalog_read.h: what the catalog knows of the messages of each archive, for whoever would
 * have to read these otherwise. */
#ifndef IND_STORE_ARCHIVE_CATALOG_READ_H
#define IND_STORE_ARCHIVE_CATALOG_READ_H

#include "core/archive/archive_name.h"
#include "core/archive/volumes.h"

struct ind_config;

/* Names of devices by their numbers. */
struct ind_catalog_names;
/* Nothing where it is none, or not known. */
struct ind_slice ind_catalog_name(const struct ind_catalog_names *names, uint32_t device);

struct ind_catalog;
/* New; NULL where they cannot be read. */
struct ind_catalog_names *ind_catalog_names_read(struct ind_catalog *catalog);
/* Accepts NULL. */
void ind_catalog_names_free(struct ind_catalog_names *names);

struct ind_catalog_counts {
    const char *archive; /* the path of the plain archive below the store; of many: "compacted: SERIES" */
    bool removed;        /* it is there no more: its size is not told */
    bool many;           /* it stands for all of a series that were removed: their volumes are by day */
    enum ind_compression compression;
    uint64_t bytes;          /* of the file as it lies on the disk */
    struct ind_slice packed; /* as ind_volumes_pack made it */
    const struct ind_catalog_names *names;
};

/* Whether the file in the store is, by its size, the one that was counted. */
bool ind_catalog_is_as_counted(int folder, const struct ind_catalog_counts *counts);

/* Visits each archive that was counted to its end, and of which `wanted` (NULL: all) says so, with `removed`
 * also those that are there no more; ends once `visit` returns false. `folder`: the store, opened. False
 * where there is no catalog that serves; some may have been visited then. */
bool ind_catalog_each_counts(const struct ind_config *config, int folder, bool removed,
                             bool (*wanted)(void *context, const char *archive),
                             bool (*visit)(void *context, const struct ind_catalog_counts *counts),
                             void *context);

#endif
