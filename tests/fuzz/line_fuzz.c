/* Any bytes may lie in a store: stored lines, zone files, archives' names. */
#include "core/archive_name.h"
#include "core/line.h"
#include "core/zone.h"
#include "store/json_line.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct ind_json_line *json;
    struct ind_message message;
    struct ind_archive_name name;
    struct ind_slice text = {(const char *)bytes, size};
    if (!json)
        json = ind_json_line_new();
    if (ind_line_read_plain(text, &message) && (message.facility > 23 || message.severity > 7))
        abort();
    if (ind_json_line_read(json, text, &message) && (message.facility > 23 || message.severity > 7))
        abort();
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
