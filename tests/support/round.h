/* tests/support/round.h: what is written as a stored line is read back as it was. */
#ifndef IND_TESTS_ROUND_H
#define IND_TESTS_ROUND_H

#include "store/disk/line_reader.h"

/* Writes the message in the layout, reads the line, and compares; then writes what was read: the same line
 * must come. NULL where all is well, else what is not. `room` holds two lines of IND_LINE_MOST bytes. A line
 * that was cut is read back too, but not compared. */
const char *round_trip(enum ind_layout layout, const struct ind_message *message,
                       struct ind_line_reader *reader, char *room);

#endif
