#include "cli/plain_line.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/terminal.h"
#include "core/message/names.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

const char *ind_severity_colour(const char *severity)
{
    const int number = ind_severity_read(ind_slice_of(severity));
    if (!ind_colour() || number < 0 || number > IND_SEVERITY_WARNING)
        return "";
    return number < IND_SEVERITY_WARNING ? IND_RED : IND_YELLOW;
}

/* The columns of a line of the layout `plain`; what stands behind the ninth is its text. */
enum { COLUMNS = 10, TIME = 0, DEVICE = 2, FACILITY = 3, SEVERITY = 4, APP = 5, TEXT = 9 };

static void split(char *line, char *columns[COLUMNS])
{
    for (int i = 0; i < COLUMNS; i++) {
        columns[i] = line;
        char *space = i < TEXT ? strchr(line, ' ') : NULL;
        line = space ? space + 1 : line + strlen(line);
        if (space)
            *space = '\0';
    }
}

/* "pier1-rtr local7 ospfd: neighbour is full", in `room` bytes. */
static void join(char *const columns[COLUMNS], bool device, char *text, size_t room)
{
    struct ind_buffer out = ind_buffer_on(text, room - 1);
    if (device) {
        const size_t length = strlen(columns[DEVICE]);
        const bool nameless = length > 3 && strcmp(columns[DEVICE] + length - 3, "(-)") == 0;
        ind_buffer_add(&out, columns[DEVICE], nameless ? length - 3 : length);
        ind_buffer_byte(&out, ' ');
        ind_buffer_text(&out, columns[FACILITY]);
        ind_buffer_byte(&out, ' ');
    }
    if (strcmp(columns[APP], "-") != 0) {
        ind_buffer_text(&out, columns[APP]);
        ind_buffer_text(&out, ": ");
    }
    ind_buffer_text(&out, columns[TEXT]);
    text[out.length] = '\0';
}

void ind_print_plain(const json_t *message, bool device, size_t indent, size_t width)
{
    enum { HEAD = sizeof "11-23 04:45:00  warning    " - 1, MOST = 1024 };
    char *line = strdup(ind_answer_text(message, "line")), *columns[COLUMNS], text[MOST];
    if (!line)
        return;
    split(line, columns);
    join(columns, device, text, sizeof text);
    const char *colour = ind_severity_colour(columns[SEVERITY]);
    const char *time = strlen(columns[TIME]) > 19 ? columns[TIME] : "----------T--:--:--";
    const size_t room = width > indent + HEAD + 1 ? width - indent - HEAD : 1;
    const bool cut = strlen(text) > room || json_is_true(json_object_get(message, "cut"));
    const struct ind_slice shown = ind_slice_begin(ind_slice_of(text), cut ? room - 1 : room);
    printf("%*s%.5s %.8s  %s%-9s%s  %.*s%s\n", (int)indent, "", time + 5, time + 11, colour,
           columns[SEVERITY], *colour ? IND_PLAIN : "", IND_ARG(shown), cut ? "…" : "");
    free(line);
}
