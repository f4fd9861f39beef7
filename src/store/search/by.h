/* store/search/by.h: what messages are told apart by, and what is measured of them: fields, and times. */
#ifndef IND_STORE_SEARCH_BY_H
#define IND_STORE_SEARCH_BY_H

#include "core/condition/condition.h"
#include "core/time/zone.h"

/* A field of the condition language, or one of these. */
enum {
    IND_BY_NOTHING = IND_FIELDS,
    IND_BY_EVENT,  /* the pattern, else the event code, else the text without its numbers */
    IND_BY_MINUTE, /* from here on: times */
    IND_BY_HOUR,
    IND_BY_DAY,
    IND_BY_WEEKDAY,
    IND_BY_DATE, /* another word for the day */
    IND_BY_END,
    IND_BY_EVERY = IND_BY_END, /* a step of its own */
    IND_COLUMN_SENT            /* in columns only, as are IND_FIELD_TIME, IND_FIELD_LAG and the whole data */
};

/* Steps of time on the clock of a zone: so many seconds, which a day is a multiple of, from its midnight on;
 * a day; a week from Monday; a month. */
struct ind_every {
    enum { IND_EVERY_SECONDS, IND_EVERY_DAY, IND_EVERY_WEEK, IND_EVERY_MONTH } unit;
    uint32_t seconds;
};

struct ind_search_by {
    unsigned what;          /* IND_FIELD_DEVICE, …, IND_BY_MINUTE, … */
    uint8_t network;        /* addresses by networks of so many bits; 0: the value as it is */
    struct ind_every every; /* IND_BY_EVERY */
    struct ind_slice id;    /* of structured data */
    struct ind_slice name;  /* of a field, label or parameter */
    struct ind_slice text;  /* as written */
};

/* Reads "facility", "day", "field NAME", "label NAME", "data ID NAME", …; behind a field "/24". Borrows from
 * the text. False where it is none. */
bool ind_search_by_read(struct ind_slice text, struct ind_search_by *by);
struct ind_slice ind_search_by_name(unsigned what);
/* The same for columns of lines: times of groups are none; "time", "sent", "lag" and "data" are. */
bool ind_search_column_read(struct ind_slice text, struct ind_search_by *by);

static inline bool ind_search_by_is_time(const struct ind_search_by *by)
{
    return by->what >= IND_BY_MINUTE && by->what <= IND_BY_EVERY;
}

/* Whether whole hours are enough to tell its times apart. */
bool ind_search_by_hours(const struct ind_search_by *by);

/* "hour", "day", "week", "month", or a span: false where a day is no multiple of that. */
bool ind_every_read(struct ind_slice text, struct ind_every *every);

/* The first second of a step that holds `local`, which counts seconds on the zone's clock; the first of the
 * step behind it; and how such a one is written. */
int64_t ind_every_begin(const struct ind_every *every, int64_t local);
int64_t ind_every_next(const struct ind_every *every, int64_t begin);
void ind_every_write(const struct ind_every *every, int64_t begin, struct ind_buffer *out);
/* Reads what that wrote. False where the text is none. */
bool ind_every_read_begin(const char *text, int64_t *begin);

/* What reading values needs. One thread's; all zero but for the zone, and freed at the end. */
struct ind_by_reader {
    const struct ind_zone *zone;
    char *room; /* for values that have to be made; NULL until then */
    /* What was found out of the zone, for times nearby. */
    int64_t quarter; /* of an hour, UTC, of which `offset` is */
    int32_t offset;
    bool known;
};

void ind_by_reader_free(struct ind_by_reader *reader);

/* Adds the value, as it can be shown; "-" where there is none. `answers` are of this message. */
void ind_search_by_write(const struct ind_search_by *by, const struct ind_message *message,
                         struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *out);

/* The value of a field as it is, until the next question. */
struct ind_slice ind_search_by_value(const struct ind_search_by *by, const struct ind_message *message,
                                     struct ind_answers *answers, struct ind_by_reader *reader);

/* Longer ones are cut where they are written. */
enum { IND_BY_MOST = 200, IND_BY_WRITTEN_MOST = 4 * IND_BY_MOST + 8 };

#endif
