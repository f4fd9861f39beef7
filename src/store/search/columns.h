/* store/search/columns.h: lines of columns that were asked for. */
#ifndef IND_STORE_SEARCH_COLUMNS_H
#define IND_STORE_SEARCH_COLUMNS_H

#include "store/search/search.h"

/* Adds the line of a message with its end, in the form that the settings ask for: at most as many bytes as
 * ind_columns_most tells. */
void ind_columns_write(const struct ind_search_settings *settings, const struct ind_message *message,
                       struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *out);
size_t ind_columns_most(const struct ind_search_settings *settings);

/* Adds a value as one of CSV, in quotes where it has to be (RFC 4180 section 2). */
void ind_csv_write(struct ind_buffer *out, struct ind_slice value);

#endif
