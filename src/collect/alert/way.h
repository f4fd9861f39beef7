/* collect/alert/way.h: one way to tell: a mailbox, an address, a program, terminals; what waits for it, and
 * when it may go.
 *
 * The first is told at once. To a mailbox, what comes within the next minute goes into one mail, and there
 * are so many mails in an hour at most: the next then has all that has come. Everything else goes one by one.
 * What could not be delivered is tried again after 10 s, 20 s and so on up to 10 min. Of one thread. */
#ifndef IND_COLLECT_ALERT_WAY_H
#define IND_COLLECT_ALERT_WAY_H

#include "collect/alert/news.h"
#include "core/time/steady.h"

enum { IND_WAY_WAITING = 1000, IND_WAY_IN_ONE = 400 };

struct ind_way_item {
    struct ind_news *news;
    uint64_t id; /* of its notice in the file */
    bool held;
};

struct ind_way {
    /* What it is. */
    char *id;             /* "mail noc@skerry.example": one for all alerts */
    struct ind_tell tell; /* its texts are its own */
    struct ind_zone *zone;
    bool wanted;

    /* What waits, the oldest first; of what has no room the number only. */
    struct ind_way_item list[IND_WAY_WAITING];
    size_t count;
    uint64_t left_out, upto; /* upto: the last notice that came */

    /* When it may go. */
    uint64_t at_most;        /* in an hour; 0: as many as there are */
    struct ind_steady *went; /* the last `at_most` times */
    uint64_t gone;           /* how often */
    struct ind_steady last;  /* when one went last */
    bool under_way;
    size_t going; /* of `list`, with what is under way; */
    uint64_t going_left_out, going_upto;
    unsigned failures;        /* one after the other */
    struct ind_steady failed; /* when, and why */
    char reason[200];
    bool told_failed;
    struct ind_steady told;

    uint64_t delivered, failed_count; /* letters */
};

/* New; copies the tell. NULL where memory is out. */
struct ind_way *ind_way_new(const struct ind_tell *tell, const char *id, uint64_t at_most);
void ind_way_free(struct ind_way *way);

/* The text that is the same for all that go the same way, in `room`. */
void ind_way_id(const struct ind_tell *tell, struct ind_buffer *room);

/* The same as others may see it: of an address its host, of a program its name; the rest may be secret. */
void ind_way_show(const struct ind_way *way, struct ind_buffer *room);

/* Adds news, which it holds. */
void ind_way_add(struct ind_way *way, struct ind_news *news, uint64_t id, bool held);
/* Whether something may go now; then `going` of the list are under way, and *left_out others with them. */
bool ind_way_begin(struct ind_way *way, struct ind_steady now, uint64_t *left_out);
/* What is under way has been delivered, or not. Sets *upto: notices up to that id are told. */
void ind_way_end(struct ind_way *way, bool delivered, const char *reason, struct ind_steady now,
                 uint64_t *upto);
/* How long until the next try, from its failure on. */
int64_t ind_way_pause(const struct ind_way *way);

#endif
