/* The file `position`: two lines of one length, of which the newer holds. Each write is of one line, in
 * place, so that the other is whole whatever becomes of it. */
#include "store/disk/read_at.h"
#include "store/queue/queue_private.h"

#define XXH_INLINE_ALL
#include <stdio.h>
#include <stdlib.h>
#include <xxhash.h>

void ind_queue_position_write(const struct ind_queue_position *position, char line[IND_POSITION_LINE])
{
    struct ind_buffer out = ind_buffer_on(line, IND_POSITION_LINE);
    char text[200];
    const int length =
        snprintf(text, sizeof text, "%020llu acknowledged %020llu offered %020llu boot %.36s batches",
                 (unsigned long long)position->generation, (unsigned long long)position->acknowledged,
                 (unsigned long long)position->offered, position->boot);
    ind_buffer_add(&out, text, (size_t)length);
    for (unsigned i = 0; i < position->batches.count; i++) {
        ind_buffer_byte(&out, i ? ',' : ' ');
        ind_buffer_number(&out, position->batches.records[i]);
    }
    ind_buffer_text(&out, position->batches.count ? " " : " - ");
    snprintf(text, sizeof text, "%016llx", (unsigned long long)XXH3_64bits(line, out.length));
    ind_buffer_text(&out, text);
    memset(line + out.length, ' ', IND_POSITION_LINE - out.length);
    line[IND_POSITION_LINE - 1] = '\n';
}

/* "1024,7 …": up to the space. */
static bool read_batches(const char *at, struct ind_queue_batches *batches)
{
    batches->count = 0;
    for (; *at >= '0' && *at <= '9' && batches->count < IND_QUEUE_BATCHES; at += *at == ',') {
        char *end;
        const unsigned long records = strtoul(at, &end, 10);
        if (records == 0 || records > UINT16_MAX)
            return false;
        batches->records[batches->count++] = (uint32_t)records;
        at = end;
    }
    return *at == ' ' || *at == '-';
}

bool ind_queue_position_parse(struct ind_slice line, struct ind_queue_position *position)
{
    char text[IND_POSITION_LINE + 1], again[IND_POSITION_LINE];
    unsigned long long generation, acknowledged, offered;
    int at = 0;
    if (line.length < IND_POSITION_LINE)
        return false;
    memcpy(text, line.at, IND_POSITION_LINE);
    text[IND_POSITION_LINE] = '\0';
    *position = (struct ind_queue_position){0};
    if (sscanf(text, "%20llu acknowledged %20llu offered %20llu boot %36s batches %n", &generation,
               &acknowledged, &offered, position->boot, &at) != 4 ||
        at == 0 || !read_batches(text + at, &position->batches))
        return false;
    position->generation = generation;
    position->acknowledged = acknowledged;
    position->offered = offered;
    ind_queue_position_write(position, again);
    return memcmp(again, line.at, IND_POSITION_LINE) == 0;
}

bool ind_queue_position_read(int file, struct ind_queue_position *position)
{
    char lines[2 * IND_POSITION_LINE];
    const ssize_t got = ind_read_at(file, lines, sizeof lines, 0);
    bool found = false;
    for (ssize_t at = 0; at + IND_POSITION_LINE <= got; at += IND_POSITION_LINE) {
        struct ind_queue_position one;
        if (!ind_queue_position_parse((struct ind_slice){lines + at, IND_POSITION_LINE}, &one) ||
            (found && one.generation < position->generation))
            continue;
        *position = one;
        found = true;
    }
    return found;
}
