/* core/archive/archive_name.h: names of live files and of archives.
 *
 * A live file is NAME.log. Its archives are NAME-YYYYMMDDTHHMMSSZ-NNNNNN.log, with .zst or .gz once
 * compressed: the time (UTC) of the first message in it, and its number within the series, both known from
 * the live file's creation on. */
#ifndef IND_CORE_ARCHIVE_ARCHIVE_NAME_H
#define IND_CORE_ARCHIVE_ARCHIVE_NAME_H

#include "core/time/civil.h"

enum ind_compression { IND_COMPRESS_NONE, IND_COMPRESS_ZSTD, IND_COMPRESS_GZIP };

/* ".log" of a live file becomes "-20261123T044500Z-000007.log". `live` ends in ".log". */
void ind_archive_name_write(struct ind_buffer *buffer, struct ind_slice live, ind_time first,
                            uint64_t number);

/* "", ".zst" or ".gz". */
struct ind_slice ind_compression_suffix(enum ind_compression compression);

struct ind_archive_name {
    struct ind_slice live_stem; /* what stands before "-YYYYMMDD…" */
    struct ind_slice plain;     /* the whole name without the suffix of compression */
    uint64_t number;
    enum ind_compression compression;
};

/* Takes a file's name (with or without folders) apart; false where it is no archive's. */
bool ind_archive_name_read(struct ind_slice name, struct ind_archive_name *parts);

/* A live file's name: ends in ".log" and is no archive's. */
bool ind_is_live_name(struct ind_slice name);

#endif
