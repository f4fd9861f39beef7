/* Any bytes as a stream: in whatever portions they come, they give the same messages. */
#include "core/message/framing.h"

#include <stdlib.h>

struct seen {
    uint64_t sum;
    size_t messages;
};

static void mix(struct seen *seen, struct ind_slice bytes)
{
    for (size_t i = 0; i < bytes.length; i++)
        seen->sum = (seen->sum ^ (unsigned char)bytes.at[i]) * UINT64_C(1099511628211);
}

static struct seen play(const uint8_t *data, size_t size, size_t portion, bool join)
{
    struct ind_framing framing = {.join = join};
    struct seen seen = {0, 0};
    struct ind_slice bytes;
    bool cut = false, bad = false;
    for (size_t at = 0; at < size && !bad; at += portion) {
        struct ind_slice input = {(const char *)data + at, size - at < portion ? size - at : portion};
        enum ind_frame frame;
        size_t steps = 0, most = 2 * input.length + 4;
        while ((frame = ind_framing_next(&framing, &input, &bytes, &cut)) != IND_FRAME_MORE) {
            if (++steps > most)
                abort(); /* no progress */
            mix(&seen, bytes);
            if (frame == IND_FRAME_END) {
                seen.messages++;
                seen.sum = seen.sum * 31 + (cut ? 7 : 3);
            }
            if (frame == IND_FRAME_BAD) {
                bad = true;
                break;
            }
        }
        if (frame == IND_FRAME_MORE && input.length)
            abort();
    }
    if (!bad && ind_framing_end(&framing, false, &bytes, &cut)) {
        mix(&seen, bytes);
        seen.messages++;
        seen.sum += cut;
    }
    return seen;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    if (size == 0)
        return 0;
    for (int join = 0; join < 2; join++) {
        struct seen whole = play(data, size, size, join), ones = play(data, size, 1, join),
                    some = play(data, size, 1 + data[0] % 13, join);
        if (whole.sum != ones.sum || whole.messages != ones.messages || whole.sum != some.sum)
            abort();
    }
    return 0;
}
