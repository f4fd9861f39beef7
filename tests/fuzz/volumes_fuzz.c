/* Volumes out of any bytes, out of any text, and out of any lines: what was read and is written again is read
 * as the same, and lines counted at a glance are what they are one by one. The first byte says which. */
#include "core/archive/volumes.h"
#include "core/line/line.h"

#include <stdlib.h>
#include <string.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

enum { NAMES = 64, LONGEST = 1024 };

struct names {
    char list[NAMES][LONGEST];
    size_t lengths[NAMES];
    uint32_t count;
};

static uint32_t number_of(void *context, struct ind_slice name)
{
    struct names *names = context;
    uint32_t i = 0;
    while (i < names->count && !ind_slice_equal(name, (struct ind_slice){names->list[i], names->lengths[i]}))
        i++;
    if (i == NAMES)
        return IND_DEVICE_OTHERS;
    if (i == names->count) {
        memcpy(names->list[i], name.at, name.length);
        names->lengths[i] = name.length;
        names->count++;
    }
    return IND_DEVICE_FIRST + i;
}

static struct ind_slice name_of(void *context, uint32_t device)
{
    struct names *names = context;
    return (struct ind_slice){names->list[device - IND_DEVICE_FIRST],
                              names->lengths[device - IND_DEVICE_FIRST]};
}

static void expect_equal(struct ind_volumes *a, struct ind_volumes *b)
{
    size_t count, other_count;
    const struct ind_volume *list = ind_volumes_sorted(a, &count),
                            *other = ind_volumes_sorted(b, &other_count);
    if (count != other_count || ind_volumes_folded(a) != ind_volumes_folded(b))
        abort();
    for (size_t i = 0; i < count; i++)
        if (list[i].hour != other[i].hour || list[i].device != other[i].device ||
            list[i].pri != other[i].pri || list[i].messages != other[i].messages ||
            list[i].bytes != other[i].bytes)
            abort();
}

/* With a right check. */
static void try_packed(const uint8_t *bytes, size_t size)
{
    char *packed = malloc(size + 4);
    struct ind_volumes *volumes = ind_volumes_new(), *again = ind_volumes_new();
    if (size)
        memcpy(packed, bytes, size);
    const uint32_t check = XXH32(packed, size, 0);
    for (size_t i = 0; i < 4; i++)
        packed[size + i] = (char)(check >> (8 * i));
    if (ind_volumes_unpack((struct ind_slice){packed, size + 4}, volumes)) {
        size_t length;
        char *written = ind_volumes_pack(volumes, &length);
        if (!ind_volumes_unpack((struct ind_slice){written, length}, again))
            abort();
        expect_equal(volumes, again);
        free(written);
    }
    free(packed);
    ind_volumes_free(volumes);
    ind_volumes_free(again);
}

static void try_text(const uint8_t *bytes, size_t size)
{
    static struct names names;
    struct ind_volumes *volumes = ind_volumes_new(), *again = ind_volumes_new();
    names.count = 0;
    if (ind_volumes_read((struct ind_slice){(const char *)bytes, size}, number_of, &names, volumes)) {
        size_t length;
        char *written = ind_volumes_write(volumes, IND_VOLUMES_WHOLE, name_of, &names, &length);
        if (!ind_volumes_read((struct ind_slice){written, length}, number_of, &names, again))
            abort();
        expect_equal(volumes, again);
        free(written);
    }
    ind_volumes_free(volumes);
    ind_volumes_free(again);
}

static bool is_same(struct ind_slice a, struct ind_slice b)
{
    return ind_slice_equal(a, b);
}

/* Of two lines that look the same at a glance either both are read, as the same, or none is. */
static void try_lines(const uint8_t *bytes, size_t size)
{
    struct ind_line_glance glances[2];
    struct ind_message messages[2] = {{0}};
    bool read[2];
    char *scratch[2] = {malloc(size + 1), malloc(size + 1)};
    const char *newline = size ? memchr(bytes, '\n', size) : NULL;
    if (newline) {
        const size_t length = (size_t)(newline - (const char *)bytes);
        const struct ind_slice lines[] = {{(const char *)bytes, length}, {newline + 1, size - length - 1}};
        bool glanced = true;
        for (int i = 0; i < 2; i++) {
            glanced &= ind_line_glance_plain(lines[i], &glances[i]);
            read[i] = ind_line_read_plain(lines[i], scratch[i], &messages[i]);
        }
        if (glanced && is_same(glances[0].hour, glances[1].hour) &&
            is_same(glances[0].zone, glances[1].zone) && is_same(glances[0].who, glances[1].who) &&
            (read[0] != read[1] ||
             (read[0] &&
              (ind_volume_hour(messages[0].time) != ind_volume_hour(messages[1].time) ||
               messages[0].facility != messages[1].facility || messages[0].severity != messages[1].severity ||
               !is_same(messages[0].device, messages[1].device)))))
            abort();
    }
    free(scratch[0]);
    free(scratch[1]);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    if (size == 0)
        return 0;
    if (bytes[0] == 'p')
        try_packed(bytes + 1, size - 1);
    else if (bytes[0] == 't')
        try_text(bytes + 1, size - 1);
    else
        try_lines(bytes + 1, size - 1);
    return 0;
}
