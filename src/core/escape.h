/* core/escape.h: text from the network made harmless.
 *
 * Control characters (C0, DEL, C1) and bytes that are not UTF-8 (RFC 3629) are written `\n`, `\t`, `\xNN`; a
 * backslash stays. So a message can neither forge a line nor drive a terminal. What is read back is the
 * written form. */
#ifndef IND_CORE_ESCAPE_H
#define IND_CORE_ESCAPE_H

#include "core/slice.h"

/* The text of a line: blanks stay. At most four times as long as what went in. */
void ind_escape_text(struct ind_buffer *buffer, struct ind_slice text);

/* One column: blanks become `\x20`, each byte of `also` becomes `\xNN`, nothing at all becomes `-`. */
void ind_escape_column(struct ind_buffer *buffer, struct ind_slice text, const char *also);

/* As the layout `raw` has it: only what would end a line (LF, CR, NUL) is written otherwise. */
void ind_escape_raw(struct ind_buffer *buffer, struct ind_slice bytes);

/* The inside of a JSON string (RFC 8259 section 7); bytes that are not UTF-8 as the text `\xNN`. */
void ind_escape_json(struct ind_buffer *buffer, struct ind_slice text);

/* How many leading bytes are printable ASCII. */
size_t ind_printable_run(const char *at, size_t length);

/* The length of the UTF-8 character at `at`, 0 where there is none; *is_control tells C1 (U+0080 to U+009F).
 */
size_t ind_utf8_character(const char *at, size_t length, bool *is_control);

#endif
