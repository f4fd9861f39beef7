#include "collect/control/recent.h"

#include "collect/control/rows.h"
#include "core/message/message.h"
#include "json/members.h"

#include <stdlib.h>
#include <string.h>

/* Where a message is remembered. */
struct place {
    ind_time time;
    uint32_t note;
    uint16_t intake;
    uint8_t slot;
};

json_t *ind_recent_object(const struct ind_status *status, uint16_t listener,
                          const struct ind_note_message *message)
{
    char text[IND_ADDRESS_WIDTH];
    struct ind_buffer from = ind_buffer_on(text, sizeof text);
    json_t *object = json_object();
    ind_address_write(&from, &message->from);
    ind_json_set_time(object, "time", message->time);
    json_object_set_new(object, "sender", json_stringn(text, from.length));
    json_object_set_new(object, "listener", json_string(status->listeners[listener].name));
    json_object_set_new(object, "transport", json_string(ind_transport_name(message->transport).at));
    json_object_set_new(object, "dropped", json_boolean(message->dropped));
    json_object_set_new(object, "cut", json_boolean(message->cut));
    json_object_set_new(object, "line", json_stringn(message->line, message->length));
    return object;
}

static int newest_first(const void *one, const void *other)
{
    const struct place *a = one, *b = other;
    return (a->time < b->time) - (a->time > b->time);
}

/* All that are remembered. New, with *count of them; NULL where memory is out. */
static struct place *find_places(const struct ind_status *status, struct ind_note *note, size_t *count)
{
    size_t room = 4096;
    struct place *places = malloc(room * sizeof *places);
    *count = 0;
    for (unsigned i = 0; i < status->intakes && places; i++)
        for (uint32_t n = 0; status->notes[i] && places && ind_notes_at(status->notes[i], n, note); n++) {
            if (room - *count < IND_NOTE_MESSAGES) {
                struct place *grown = realloc(places, (room *= 2) * sizeof *grown);
                if (!grown)
                    free(places);
                places = grown;
            }
            for (uint8_t slot = 0; places && slot < IND_NOTE_MESSAGES; slot++)
                if (note->last[slot].length > 0)
                    places[(*count)++] = (struct place){note->last[slot].time, n, (uint16_t)i, slot};
        }
    return places;
}

/* What has made room for another meanwhile is passed over. */
static void add_message(json_t *array, const struct ind_status *status, const struct place *place,
                        struct ind_note *note)
{
    if (!ind_notes_at(status->notes[place->intake], place->note, note))
        return;
    const struct ind_note_message *message = &note->last[place->slot];
    const struct ind_account *account = ind_account_at(status->accounts[place->intake], note->account);
    if (message->time == place->time && message->length > 0)
        json_array_append_new(array, ind_recent_object(status, account->listener, message));
}

char *ind_recent_text(const struct ind_status *status)
{
    size_t count = 0;
    char *text = NULL;
    struct ind_note *note = malloc(sizeof *note);
    struct place *places = note ? find_places(status, note, &count) : NULL;
    json_t *object = json_object(), *array = json_array();
    if (places) {
        qsort(places, count, sizeof *places, newest_first);
        for (size_t i = count < IND_RECENT ? count : IND_RECENT; i-- > 0;)
            add_message(array, status, &places[i], note);
        json_object_set_new(object, "remembered", json_integer((json_int_t)count));
        json_object_set(object, "messages", array);
        text = json_dumps(object, JSON_COMPACT);
    }
    json_decref(array);
    json_decref(object);
    free(places);
    free(note);
    return text;
}
