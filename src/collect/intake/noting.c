#include "collect/intake/noting.h"

#include "core/line/line.h"
#include <stdio.h>

/* A line that is longer than what is kept of it is of no use. With every byte escaped a line of such parts
 * has room in IND_NOTE_ROOM. */
enum { PART = 128, DATA = 200 };
_Static_assert((6 * PART + DATA + IND_NOTE_LINE) * 4 + 256 < IND_NOTE_ROOM, "such a line has room");

static bool cut_to(struct ind_slice *part, size_t most)
{
    bool cut = part->length > most;
    if (cut)
        part->length = most;
    return cut;
}

/* Structured data that is not whole could not be read. */
static bool shorten(struct ind_message *message)
{
    bool cut = cut_to(&message->text, IND_NOTE_LINE);
    cut |= cut_to(&message->host, PART);
    cut |= cut_to(&message->device, PART);
    cut |= cut_to(&message->app, PART);
    cut |= cut_to(&message->procid, PART);
    cut |= cut_to(&message->msgid, PART);
    if (message->data.length > DATA) {
        message->data = IND_NOTHING;
        cut = true;
    }
    return cut;
}

struct ind_slice ind_note_line(const struct ind_message *message, char *room, bool *cut)
{
    struct ind_buffer buffer = ind_buffer_on(room, IND_NOTE_ROOM);
    struct ind_line_clock clock = {0};
    struct ind_message noted = *message;
    noted.payload = NULL;
    *cut = shorten(&noted);
    (void)ind_line_write(IND_LAYOUT_PLAIN, &noted, &clock, &buffer);
    struct ind_slice line = ind_buffer_view(&buffer);
    line.length -= line.length > 0; /* its end */
    return line;
}

void ind_note_message(struct ind_notes *notes, uint32_t account, const struct ind_message *message,
                      const struct ind_edit *dropped, enum ind_note_fit fit)
{
    char line[IND_NOTE_ROOM], text[PART + 32];
    struct ind_message noted = *message;
    if (dropped) {
        int length = snprintf(text, sizeof text, "(dropped by the edit %.*s)", PART, dropped->name);
        noted.text = (struct ind_slice){text, (size_t)length};
        noted.data = noted.host = noted.app = noted.procid = noted.msgid = IND_NOTHING;
    }
    struct ind_notable notable = {.name = noted.host,
                                  .app = noted.app,
                                  .time = noted.time,
                                  .transport = noted.transport,
                                  .dropped = dropped != NULL,
                                  .asked = fit != IND_NOTE_NOT_ASKED,
                                  .fits = fit == IND_NOTE_FITS,
                                  .configured = noted.configured != NULL};
    notable.line = ind_note_line(&noted, line, &notable.cut);
    (void)ind_address_read(noted.sender, &notable.from);
    ind_notes_add(notes, account, &notable);
}
