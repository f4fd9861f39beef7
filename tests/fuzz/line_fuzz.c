/* Any bytes may lie in a store: stored lines of each layout, which are written again as they were read; zone
 * files, archives' names. */
#include "core/archive/archive_name.h"
#include "core/message/framing.h"
#include "core/time/zone.h"
#include "round.h"

#include <stdio.h>
#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct ind_line_reader *reader, *other;
    static char room[2 * IND_LINE_MOST];
    struct ind_message message;
    struct ind_slice sent;
    struct ind_archive_name name;
    struct ind_slice text = {(const char *)bytes, size};
    if (!reader) {
        reader = ind_line_reader_new();
        other = ind_line_reader_new();
    }
    for (int stored = IND_STORED_UNKNOWN; stored <= IND_STORED_OLD + IND_STORED_TEMPLATE; stored++) {
        if (!ind_line_reader_read(reader, stored, text, &message, &sent))
            continue;
        if (message.facility > 23 || message.severity > 7 || stored == IND_LAYOUT_RAW)
            abort();
        const char *wrong = size < IND_MESSAGE_LIMIT && stored < IND_LAYOUTS && !message.line_cut
                                ? round_trip((enum ind_layout)stored, &message, other, room)
                                : NULL;
        if (wrong) {
            fprintf(stderr, "%s: %s\n", ind_layout_name((enum ind_layout)stored).at, wrong);
            abort();
        }
    }
    if (ind_archive_name_read(text, &name) && name.plain.length > size)
        abort();
    struct ind_zone *zone = ind_zone_read(bytes, size);
    if (zone) {
        for (int64_t seconds = -4000000000; seconds < 8000000000; seconds += 99999999)
            (void)ind_zone_to_utc(zone, seconds + ind_zone_offset(zone, seconds));
        ind_zone_free(zone);
    }
    return 0;
}
