#include "store/disk/line_reader.h"

#include "store/disk/json_line.h"
#include <stdlib.h>

struct ind_line_reader {
    struct ind_json_line *json;
    char *scratch;
    size_t room;
};

struct ind_line_reader *ind_line_reader_new(void)
{
    struct ind_line_reader *reader = calloc(1, sizeof *reader);
    if (reader && (reader->json = ind_json_line_new()))
        return reader;
    free(reader);
    return NULL;
}

void ind_line_reader_free(struct ind_line_reader *reader)
{
    if (!reader)
        return;
    ind_json_line_free(reader->json);
    free(reader->scratch);
    free(reader);
}

/* Escapes are undone in here; most lines have none. */
static bool make_room(struct ind_line_reader *reader, struct ind_slice line)
{
    if (reader->room >= line.length)
        return true;
    char *grown = realloc(reader->scratch, line.length * 2);
    if (!grown)
        return false;
    reader->scratch = grown;
    reader->room = line.length * 2;
    return true;
}

bool ind_line_reader_read(struct ind_line_reader *reader, int stored, struct ind_slice line,
                          struct ind_message *message, struct ind_slice *bytes)
{
    *bytes = line;
    if (!make_room(reader, line))
        return false;
    switch (stored) {
    case IND_LAYOUT_PLAIN:
        return ind_line_read_plain(line, reader->scratch, message);
    case IND_LAYOUT_PLAIN + IND_STORED_OLD:
        return ind_line_read_plain_old(line, message);
    case IND_LAYOUT_JSON:
        return line.length && line.at[0] == '{' && ind_json_line_read(reader->json, line, message);
    case IND_LAYOUT_RFC5424:
        return ind_line_read_rfc5424(line, reader->scratch, message);
    case IND_LAYOUT_RAW:
        *bytes = ind_line_read_raw(line, reader->scratch);
        return false;
    default: /* of before, by a template, or of a file that nobody knows */
        return false;
    }
}
