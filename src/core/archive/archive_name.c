#include "core/archive/archive_name.h"

enum { STAMP = 16, LEAST_DIGITS = 6 };

struct ind_slice ind_compression_suffix(enum ind_compression compression)
{
    return compression == IND_COMPRESS_ZSTD   ? IND_SLICE(".zst")
           : compression == IND_COMPRESS_GZIP ? IND_SLICE(".gz")
                                              : (struct ind_slice){"", 0};
}

void ind_archive_name_write(struct ind_buffer *buffer, struct ind_slice live, ind_time first, uint64_t number)
{
    ind_buffer_add(buffer, live.at, live.length - 4);
    ind_buffer_byte(buffer, '-');
    ind_time_write_compact(buffer, first);
    ind_buffer_byte(buffer, '-');
    for (uint64_t limit = 100000; limit > 1 && number < limit; limit /= 10)
        ind_buffer_byte(buffer, '0');
    ind_buffer_number(buffer, number);
    ind_buffer_text(buffer, ".log");
}

static bool ends(struct ind_slice name, struct ind_slice end)
{
    return name.length >= end.length && memcmp(name.at + name.length - end.length, end.at, end.length) == 0;
}

static bool is_stamp(const char *at)
{
    for (int i = 0; i < STAMP; i++)
        if (i == 8 ? at[i] != 'T' : i == 15 ? at[i] != 'Z' : !ind_is_digit(at[i]))
            return false;
    return true;
}

bool ind_archive_name_read(struct ind_slice name, struct ind_archive_name *parts)
{
    *parts = (struct ind_archive_name){0};
    for (int kind = IND_COMPRESS_ZSTD; kind <= IND_COMPRESS_GZIP; kind++) {
        struct ind_slice suffix = ind_compression_suffix((enum ind_compression)kind);
        if (ends(name, suffix)) {
            parts->compression = (enum ind_compression)kind;
            name.length -= suffix.length;
            break;
        }
    }
    parts->plain = name;
    if (!ends(name, IND_SLICE(".log")))
        return false;
    size_t at = name.length - 4, digits = 0;
    uint64_t scale = 1;
    while (at > 0 && ind_is_digit(name.at[at - 1]) && digits < 18) {
        parts->number += (uint64_t)(name.at[--at] - '0') * scale;
        scale *= 10;
        digits++;
    }
    if (digits < LEAST_DIGITS || at < STAMP + 2 || name.at[at - 1] != '-' || name.at[at - STAMP - 2] != '-' ||
        !is_stamp(name.at + at - 1 - STAMP))
        return false;
    parts->live_stem = (struct ind_slice){name.at, at - STAMP - 2};
    return true;
}

bool ind_is_live_name(struct ind_slice name)
{
    struct ind_archive_name parts;
    return ends(name, IND_SLICE(".log")) && !ind_archive_name_read(name, &parts);
}
