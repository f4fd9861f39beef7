#include "store/disk/index_file.h"

#include "store/disk/read_at.h"
#include <stdlib.h>
#include <sys/stat.h>

static bool read_at(int file, char *to, size_t length, uint64_t from)
{
    return ind_read_at(file, to, length, from) == (ssize_t)length;
}

static uint32_t number(const char *at)
{
    const unsigned char *bytes = (const unsigned char *)at;
    return (uint32_t)bytes[0] | (uint32_t)bytes[1] << 8 | (uint32_t)bytes[2] << 16 | (uint32_t)bytes[3] << 24;
}

bool ind_index_file_read(int file, struct ind_index *index, char **bytes)
{
    struct stat facts;
    char tail[IND_INDEX_TAIL];
    *bytes = NULL;
    if (fstat(file, &facts) != 0 || facts.st_size < IND_INDEX_WRAP + IND_INDEX_TAIL ||
        !read_at(file, tail, sizeof tail, (uint64_t)facts.st_size - sizeof tail))
        return false;
    const uint64_t size = (uint64_t)facts.st_size;
    const size_t length = ind_index_length(tail), whole = length + IND_INDEX_WRAP;
    if (length == 0 || whole > size || !(*bytes = malloc(whole)))
        return false;
    const bool good =
        read_at(file, *bytes, whole, size - whole) && number(*bytes) == IND_INDEX_MAGIC &&
        number(*bytes + 4) == length &&
        ind_index_read((struct ind_slice){*bytes + IND_INDEX_WRAP, length}, size - whole, index);
    if (!good) {
        free(*bytes);
        *bytes = NULL;
    }
    return good;
}
