/* Any text has fields or none; each lies within the text or the scratch memory, and `json` holds it. */
#include "core/line/line.h"
#include "core/payload/payload.h"

#include <stdlib.h>

static bool lies_in(struct ind_slice part, const char *at, size_t size)
{
    return part.length == 0 || (part.at >= at && part.at + part.length <= at + size);
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct ind_payload payload;
    static struct ind_line_clock clock;
    if (size > 65536)
        return 0;
    char *text = malloc(size + 1), *scratch = malloc(IND_PAYLOAD_SCRATCH), *line = malloc(IND_LINE_MOST);
    if (!text || !scratch || !line)
        abort();
    if (size)
        memcpy(text, bytes, size);
    struct ind_message message = {
        .text = {text, size}, .sequence = {text, size > 3 ? 3 : 0}, .payload = &payload};
    ind_payload_read(&message, scratch, IND_PAYLOAD_SCRATCH, &payload);
    if (payload.count > IND_PAYLOAD_FIELDS || (payload.kinds == 0 && payload.count))
        abort();
    for (size_t i = 0; i < payload.count; i++) {
        size_t from = 0;
        struct ind_slice value, name = payload.fields[i].name;
        bool own = lies_in(name, text, size) || lies_in(name, scratch, IND_PAYLOAD_SCRATCH);
        const char *near;
        if (!own && (!ind_payload_may_give(name, &near)))
            abort();
        value = payload.fields[i].value;
        if (!lies_in(value, text, size) && !lies_in(value, scratch, IND_PAYLOAD_SCRATCH))
            abort();
        if (!ind_payload_find(&payload, name, &from, &value) || from > i + 1)
            abort();
    }
    struct ind_buffer out = ind_buffer_on(line, IND_LINE_MOST);
    message.time = message.sent = message.received = 0;
    (void)ind_line_write(IND_LAYOUT_JSON, &message, &clock, &out);
    if (out.full || memchr(line, '\n', out.length) != line + out.length - 1)
        abort();
    free(text);
    free(scratch);
    free(line);
    return 0;
}
