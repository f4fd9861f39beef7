/* collect/intake/message_reader.h: from bytes to a message: one as it was sent, or a stored line; whose it
 * is, and by which time it is filed. The same for all who look at messages: intakes, followers, explain,
 * rehearse. */
#ifndef IND_COLLECT_INTAKE_MESSAGE_READER_H
#define IND_COLLECT_INTAKE_MESSAGE_READER_H

#include "collect/intake/origin.h"
#include "config/config.h"
#include "store/disk/line_reader.h"

/* Belongs to one thread. */
struct ind_message_reader {
    const struct ind_config *config;
    struct ind_line_reader *lines;
    char device[IND_DEVICE_SCRATCH];
};

/* False where memory is out; it is to be ended in any case. */
bool ind_message_reader_begin(struct ind_message_reader *reader, const struct ind_config *config);
void ind_message_reader_end(struct ind_message_reader *reader);

/* Fills *message, all but the fields of its payload; slices point into `bytes` and into the reader, until its
 * next call. Of a message that is over the size limit the beginning is read, and it says so. */
void ind_message_reader_read(struct ind_message_reader *reader, enum ind_line_form form,
                             struct ind_slice bytes, const struct ind_origin *origin,
                             struct ind_message *message);

#endif
