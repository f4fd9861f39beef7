/* store/disk/line_reader.h: lines of stored files, each by the layout of its file. One thread's. */
#ifndef IND_STORE_DISK_LINE_READER_H
#define IND_STORE_DISK_LINE_READER_H

#include "store/disk/stored.h"

struct ind_line_reader;

struct ind_line_reader *ind_line_reader_new(void); /* NULL where memory is out */
void ind_line_reader_free(struct ind_line_reader *reader);

/* Reads a line (without its end) of a file of code `stored`. True where it is such a line: *message borrows
 * from the line and from the reader, until the next call. False where it is a message that somebody sent, to
 * be read by its header: *bytes are those that came. */
bool ind_line_reader_read(struct ind_line_reader *reader, int stored, struct ind_slice line,
                          struct ind_message *message, struct ind_slice *bytes);

#endif
