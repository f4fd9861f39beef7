/* Segments and positions of a queue as a stranger may have written them; and messages that a relay passes on,
 * read again, whatever they were. What a segment gives is what it has, and every record begins where the last
 * one ended. */
#include "core/line/line.h"
#include "core/line/pass_on.h"
#include "core/message/header.h"
#include "core/message/passed.h"
#include "core/queue/segment.h"
#include "store/queue/queue_private.h"

#include <stdlib.h>

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t length);

static void require(bool holds)
{
    if (!holds)
        abort();
}

static void read_segment(struct ind_slice file)
{
    uint64_t number;
    struct ind_queued record;
    if (!ind_segment_read(file, &number))
        number = 1;
    struct ind_slice rest =
        ind_slice_from(file, file.length < IND_SEGMENT_HEADER ? file.length : IND_SEGMENT_HEADER);
    while (ind_queued_read(rest, number, &record) == IND_QUEUED_WHOLE) {
        require(record.size == ind_queued_size(record.bytes.length) && record.size <= rest.length);
        char *copy = malloc(record.size);
        require(copy != NULL);
        ind_queued_put(copy, record.time, record.bytes);
        ind_queued_seal(copy, number);
        require(memcmp(copy, rest.at, record.size) == 0);
        free(copy);
        rest = ind_slice_from(rest, record.size);
        number++;
    }
}

static void pass_on(struct ind_slice bytes)
{
    static char room[IND_LINE_MOST];
    static struct ind_zone *utc;
    struct ind_message message, again;
    struct ind_buffer out = ind_buffer_on(room, sizeof room);
    if (!utc)
        utc = ind_zone_fixed(0);
    ind_header_read(bytes.at, bytes.length, IND_SECOND, utc, &message);
    message.sender = IND_SLICE("192.0.2.9");
    message.device = message.host.length ? message.host : message.sender;
    (void)ind_pass_on_write(IND_PASS_ON_RFC5424, &message, &out);
    require(!out.full);
    if (out.length == 0)
        return;
    ind_header_read(out.at, out.length, IND_SECOND, utc, &again);
    require(again.form == IND_FORM_RFC5424 && again.severity == message.severity &&
            again.facility == message.facility);
    require(ind_slice_equal(ind_passed_sender(again.data), message.sender));
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t length)
{
    const struct ind_slice input = {(const char *)bytes, length};
    struct ind_queue_position position;
    read_segment(input);
    (void)ind_queue_position_parse(input, &position);
    (void)ind_passed_sender(input);
    if (length)
        pass_on(input);
    return 0;
}
