/* collect/alert/parcels.c: letters as they go each way. */
#include "collect/alert/desk_private.h"

#include "core/time/zone.h"
#include "store/alert/alert_json.h"
#include "json/members.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>

enum { TEXT = 64 << 10, PAGE = 192 << 10, SUBJECT = 300 };

static char *written(void (*write)(const struct ind_letter *letter, struct ind_buffer *buffer),
                     const struct ind_letter *letter, size_t room)
{
    char *text = malloc(room);
    if (!text)
        return NULL;
    struct ind_buffer buffer = ind_buffer_on(text, room - 1);
    write(letter, &buffer);
    text[buffer.length] = '\0';
    return text;
}

/* Lines as RFC 5322 section 2.1 has them: each LF becomes CRLF. Takes over the text. */
static char *with_ends(char *text)
{
    size_t lines = 0, length = 0;
    for (const char *at = text; at && *at; at++)
        lines += *at == '\n';
    char *whole = text ? malloc(strlen(text) + lines + 1) : NULL;
    for (const char *at = text; whole && *at; at++) {
        if (*at == '\n')
            whole[length++] = '\r';
        whole[length++] = *at;
    }
    if (whole)
        whole[length] = '\0';
    free(text);
    return whole;
}

/* ---- As JSON ---- */

/* docs/alerts.md tells the members. */
static char *object_of(const struct ind_way_item *item, const char *host)
{
    const struct ind_letter_item *news = &item->news->item;
    json_t *object = json_object();
    json_object_set_new(object, "event", json_string(ind_alert_event_name(news->event)));
    ind_json_set_time(object, "at", news->at);
    ind_alert_add_to_json(object, news->name, news->alert);
    json_object_set_new(object, "reason", json_string(news->reason));
    if (item->held)
        json_object_set_new(object, "held", json_true());
    json_object_set_new(object, "collector", json_string(host));
    char *text = json_dumps(object, JSON_COMPACT);
    json_decref(object);
    char *line = text ? malloc(strlen(text) + 2) : NULL;
    if (line)
        (void)sprintf(line, "%s\n", text);
    free(text);
    return line;
}

/* ---- As mail ---- */

static size_t list_items(const struct ind_way *way, struct ind_letter_item *items)
{
    for (size_t i = 0; i < way->going; i++) {
        items[i] = way->list[i].news->item;
        items[i].held = way->list[i].held;
    }
    return way->going;
}

/* All mails about one alert are of one thread: whoever reads them sees it open and over. */
static void name_mail(const struct ind_way *way, struct ind_clocks now, struct ind_parcel *parcel)
{
    char text[100];
    const uint64_t number = way->going == 1 ? way->list[0].news->alert.number : 0;
    snprintf(text, sizeof text, "%llu.%llu.%llx", (unsigned long long)number,
             (unsigned long long)way->going_upto, (unsigned long long)now.wall);
    parcel->id = strdup(text);
    snprintf(text, sizeof text, "%llu", (unsigned long long)number);
    parcel->thread = number ? strdup(text) : NULL;
}

static void fill_mail(const struct ind_way *way, const struct ind_letter *letter, struct ind_clocks now,
                      struct ind_parcel *parcel)
{
    parcel->subject = written(ind_letter_subject, letter, SUBJECT);
    parcel->text = with_ends(written(ind_letter_text, letter, TEXT));
    parcel->page = with_ends(written(ind_letter_page, letter, PAGE));
    name_mail(way, now, parcel);
}

/* "indagator on HOST, 04:45:12: the alert …" */
static void write_line(const struct ind_letter *letter, struct ind_buffer *buffer)
{
    ind_buffer_text(buffer, "indagator on ");
    ind_buffer_text(buffer, letter->host);
    ind_buffer_text(buffer, ", ");
    ind_alert_time_write(letter->items[0].at, letter->zone, buffer);
    ind_buffer_text(buffer, ": the alert ");
    ind_letter_line(letter->items, buffer);
    ind_buffer_text(buffer, "\nindagator alerts show ");
    ind_buffer_number(buffer, letter->items[0].alert->number);
}

struct ind_parcel ind_desk_parcel(struct ind_desk *desk, const struct ind_way *way, uint64_t left_out,
                                  struct ind_clocks now)
{
    static const struct ind_letter_item none;
    struct ind_letter_item *items = calloc(way->going + 1, sizeof *items);
    struct ind_parcel parcel = {.kind = way->tell.kind, .program = (char **)(uintptr_t)way->tell.program};
    struct ind_letter letter = {.items = items ? items : &none,
                                .count = items ? list_items(way, items) : 0,
                                .left_out = left_out,
                                .zone = way->zone ? way->zone : desk->rules->zone,
                                .zone_name = way->tell.zone ? way->tell.zone : desk->rules->zone_text,
                                .host = desk->settings.host};
    parcel.to = way->tell.to ? strdup(way->tell.to) : NULL;
    if (way->tell.kind == IND_TELL_MAIL)
        fill_mail(way, &letter, now, &parcel);
    else if (way->tell.kind == IND_TELL_TERMINALS && letter.count)
        parcel.text = written(write_line, &letter, SUBJECT + 700);
    else if (way->going)
        parcel.object = object_of(&way->list[0], desk->settings.host);
    free(items);
    return parcel;
}
