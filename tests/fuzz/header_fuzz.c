/* Any bytes are a message: its parts lie within it, a close look finds the same, and its line is one line in
 * every layout. */
#include "core/line/line.h"
#include "core/message/header.h"
#include "core/message/names.h"
#include "core/route/route.h"
#include "round.h"

#include <stdio.h>
#include <stdlib.h>

static void within(const uint8_t *bytes, size_t size, struct ind_slice slice)
{
    if (slice.length &&
        ((const uint8_t *)slice.at < bytes || (const uint8_t *)slice.at + slice.length > bytes + size))
        abort();
}

static bool same(struct ind_slice a, struct ind_slice b)
{
    return a.length == b.length && (a.length == 0 || a.at == b.at);
}

static void look_closely(const uint8_t *bytes, size_t size, const struct ind_zone *zone,
                         const struct ind_message *message)
{
    struct ind_message close;
    ind_header_read_closely((const char *)bytes, size, INT64_C(1795409100) * IND_SECOND, zone, &close);
    if (!same(message->host, close.host) || !same(message->app, close.app) ||
        !same(message->procid, close.procid) || !same(message->msgid, close.msgid) ||
        !same(message->data, close.data) || !same(message->text, close.text) ||
        !same(message->timestamp, close.timestamp) || !same(message->sequence, close.sequence) ||
        !same(message->location, close.location) || message->sent != close.sent ||
        message->form != close.form || message->mark != close.mark || message->malformed != close.malformed)
        abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    static struct ind_zone *zone;
    static struct ind_devices *devices;
    static char room[2 * IND_LINE_MOST];
    static struct ind_line_reader *reader;
    char scratch[IND_DEVICE_SCRATCH];
    struct ind_message message;
    if (!zone) {
        zone = ind_zone_fixed(-12600);
        reader = ind_line_reader_new();
        devices = ind_devices_new(IND_SLICE("skerry.example"));
    }
    if (size > 65536)
        return 0;
    ind_header_read((const char *)bytes, size, INT64_C(1795409100) * IND_SECOND, zone, &message);
    look_closely(bytes, size, zone, &message);
    const struct ind_slice parts[] = {message.host,     message.app,     message.procid,   message.msgid,
                                      message.data,     message.text,    message.original, message.timestamp,
                                      message.sequence, message.location};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        within(bytes, size, parts[i]);
    if (message.facility >= IND_FACILITIES || message.severity >= IND_SEVERITIES)
        abort();
    ind_device_resolve(devices, NULL, &message, scratch);
    message.time = message.sent != IND_TIME_NONE ? message.sent : 0;
    for (int layout = 0; layout < IND_LAYOUTS; layout++) {
        const char *wrong = round_trip((enum ind_layout)layout, &message, reader, room);
        if (wrong) {
            fprintf(stderr, "%s: %s\n", ind_layout_name((enum ind_layout)layout).at, wrong);
            abort();
        }
    }
    struct ind_template template;
    struct ind_mistake mistake = {0};
    struct ind_path_clock path_clock = {.zone = zone};
    struct ind_buffer path = ind_buffer_on(room, IND_PATH);
    (void)ind_template_read(IND_SLICE("{host}/{app}-{device}.log"), IND_TEMPLATE_PATH, &template, &mistake);
    ind_template_path(&template, &message, &path_clock, false, &path);
    if (path.full || room[0] == '.' || room[0] == '/' || memchr(room, '\0', path.length))
        abort();
    return 0;
}
