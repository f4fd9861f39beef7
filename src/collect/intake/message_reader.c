#include "collect/intake/message_reader.h"

#include "core/message/framing.h"
#include "core/message/header.h"

bool ind_message_reader_begin(struct ind_message_reader *reader, const struct ind_config *config)
{
    reader->config = config;
    reader->lines = ind_line_reader_new();
    return reader->lines != NULL;
}

void ind_message_reader_end(struct ind_message_reader *reader)
{
    ind_line_reader_free(reader->lines);
    reader->lines = NULL;
}

/* False where it is a message as it was sent: *bytes. */
static bool read_stored(struct ind_message_reader *reader, enum ind_line_form form, struct ind_slice line,
                        struct ind_message *message, struct ind_slice *bytes)
{
    static const int stored_of[] = {[IND_LINES_RAW] = IND_STORED_UNKNOWN,
                                    [IND_LINES_PLAIN] = IND_LAYOUT_PLAIN,
                                    [IND_LINES_JSON] = IND_LAYOUT_JSON,
                                    [IND_LINES_RFC5424] = IND_LAYOUT_RFC5424,
                                    [IND_LINES_STORED_RAW] = IND_LAYOUT_RAW};
    bool good = ind_line_reader_read(reader->lines, stored_of[form], line, message, bytes);
    if (good)
        message->configured = ind_devices_by_name(reader->config->devices, message->device);
    return good;
}

/* `time`, by which a message is filed: when it was received; for messages from files, what they say
 * themselves. */
static IND_INLINE void settle_time(const struct ind_origin *origin, struct ind_message *message)
{
    if (origin->transport != IND_TRANSPORT_FILE) {
        message->received = message->time = origin->received;
        return;
    }
    message->received = origin->received; /* where somebody has said when */
    message->time = message->sent != IND_TIME_NONE      ? message->sent
                    : origin->received != IND_TIME_NONE ? origin->received
                                                        : origin->now;
}

static IND_INLINE void read_sent(struct ind_message_reader *reader, struct ind_slice bytes,
                                 const struct ind_origin *origin, struct ind_message *message)
{
    const struct ind_config *config = reader->config;
    const struct ind_header_context context = {.devices = config->devices,
                                               .of_sender = origin->sender->device,
                                               .sender = origin->sender->text,
                                               .reference = ind_origin_reference(origin),
                                               .zone = config->zone,
                                               .scratch = reader->device};
    bool cut = bytes.length > IND_MESSAGE_LIMIT;
    bytes.length = cut ? IND_MESSAGE_LIMIT : bytes.length;
    ind_header_read_with_device(&context, bytes, message);
    message->transport = (uint8_t)origin->transport;
    message->listener = origin->listener;
    message->certificate = origin->certificate;
    if (origin->cut || cut)
        message->malformed = IND_MALFORMED_CUT;
    settle_time(origin, message);
}

void ind_message_reader_read(struct ind_message_reader *reader, enum ind_line_form form,
                             struct ind_slice bytes, const struct ind_origin *origin,
                             struct ind_message *message)
{
    if (form == IND_LINES_RAW || !read_stored(reader, form, bytes, message, &bytes))
        read_sent(reader, bytes, origin, message);
    else if (origin->cut || message->line_cut)
        message->malformed = IND_MALFORMED_CUT;
}
