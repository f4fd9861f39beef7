/* Lines of a stored file that anybody may have written: what a quick look tells of one is what reading it
 * does; the time with which it begins is its time. */
#include "core/line/line.h"
#include "store/disk/stored.h"
#include "store/search/quick.h"
#include "store/search/stamp.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void check_line(struct ind_quick *quick, struct ind_slice line, char *scratch)
{
    struct ind_message whole;
    size_t width;
    const bool readable = ind_line_read_plain(line, scratch, &whole);
    const struct ind_message *seen = ind_quick_read(quick, line);
    if (seen && (!readable || seen->time != whole.time || seen->facility != whole.facility ||
                 seen->severity != whole.severity || !ind_slice_equal(seen->device, whole.device) ||
                 !ind_slice_equal(seen->host, whole.host)))
        abort();
    const ind_time time = ind_quick_time(quick, line);
    if (time != IND_TIME_NONE && time != ind_line_plain_time(line, &width))
        abort();
    if (readable && ind_search_stamp_time(IND_LAYOUT_PLAIN, line) != whole.time)
        abort();
    (void)ind_search_stamp_time(IND_LAYOUT_JSON, line);
    (void)ind_search_stamp_time(IND_LAYOUT_RFC5424, line);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    struct ind_slice rest = {(const char *)data, size}, line;
    struct ind_quick quick = {0};
    char *scratch = malloc(size + 1);
    while (scratch && ind_slice_line(&rest, &line)) {
        char *copy =
            malloc(line.length ? line.length : 1); /* of just that length: nothing beyond is looked at */
        if (copy && line.length) {
            memcpy(copy, line.at, line.length);
            check_line(&quick, (struct ind_slice){copy, line.length}, scratch);
        }
        free(copy);
    }
    ind_quick_free(&quick);
    free(scratch);
    return 0;
}
