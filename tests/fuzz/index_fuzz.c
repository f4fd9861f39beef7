/* Any bytes as an index with a right checksum: it is refused, or every question to it stays within its
 * bounds. */
#include "core/archive/index.h"

#include <stdlib.h>
#include <string.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    struct ind_index index;
    const size_t length = size + IND_INDEX_TAIL;
    char *text = malloc(length);
    uint64_t before = 0;
    if (!text)
        abort();
    memcpy(text, bytes, size);
    const uint64_t sum = XXH64(text, size, 0);
    for (size_t i = 0; i < 8; i++)
        text[size + i] = (char)(sum >> (8 * i));
    for (size_t i = 0; i < 4; i++)
        text[size + 8 + i] = (char)(length >> (8 * i));
    memcpy(text + size + 12, "XdnI", 4);
    for (size_t i = 0; size >= 36 && i < 4; i++) /* of one frame: what it says it takes */
        before |= (uint64_t)(unsigned char)text[32 + i] << (8 * i);
    if (ind_index_read((struct ind_slice){text, length}, before, &index)) {
        uint64_t offset = 0;
        for (uint32_t i = 0; i < index.frame_count; i++) {
            const struct ind_index_frame *frame = &index.frames[i];
            if (frame->offset != offset)
                abort();
            offset += frame->packed;
            (void)ind_index_has_key(frame, sum);
            (void)ind_index_has_device(&index, frame, IND_SLICE("pier1-rtr"));
        }
        if (offset != before)
            abort();
        ind_index_free(&index);
    }
    free(text);
    return 0;
}
