/* core/alert/letter.h: what people are told of alerts, as text and as a page.
 *
 * What is of strangers in it (keys and lines) was written by core/line/, so no control character is in it; in
 * a page it is escaped. */
#ifndef IND_CORE_ALERT_LETTER_H
#define IND_CORE_ALERT_LETTER_H

#include "core/alert/alerts.h"
#include "core/time/zone.h"

/* Something that has happened to an alert. `alert->rule` is not looked at. */
struct ind_letter_item {
    enum ind_alert_event event;
    ind_time at;
    bool held; /* it was held back until now */
    const struct ind_alert *alert;
    const char *name;   /* of the alert, */
    const char *reason; /* "more than 20 in 5 min by field peer, …"; "": not known any more */
    const char *when;   /* and its condition; "": every message */
};

struct ind_letter {
    const struct ind_letter_item *items;
    size_t count;
    uint64_t left_out; /* others, for which there is no room */
    const struct ind_zone *zone;
    const char *zone_name; /* as people write it */
    const char *host;      /* whose collector this is */
};

/* "opened", "opened again", "still open", "over": never freed. */
const char *ind_alert_event_word(enum ind_alert_event event);
/* "21 messages", "1 message", "no message". */
void ind_alert_count_write(const struct ind_alert *alert, struct ind_buffer *buffer);
/* "2026-11-23 04:45:12" on the clock of a zone; "never". */
void ind_alert_time_write(ind_time time, const struct ind_zone *zone, struct ind_buffer *buffer);

/* One line, without its end: it begins with the alert's name, so that a mailbox in the order of its subjects
 * has together what belongs together. */
void ind_letter_subject(const struct ind_letter *letter, struct ind_buffer *buffer);
/* What has no room in the buffer is left out, and said so: 64 KiB hold some hundred items. */
void ind_letter_text(const struct ind_letter *letter, struct ind_buffer *buffer);
void ind_letter_page(const struct ind_letter *letter, struct ind_buffer *buffer);
/* An item on one line. */
void ind_letter_line(const struct ind_letter_item *item, struct ind_buffer *buffer);

#endif
