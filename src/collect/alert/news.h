/* collect/alert/news.h: what has happened to an alert, as it was then: for all who are to be told of it.
 * Several may hold one; of one thread. */
#ifndef IND_COLLECT_ALERT_NEWS_H
#define IND_COLLECT_ALERT_NEWS_H

#include "core/alert/letter.h"

struct ind_news {
    struct ind_letter_item item; /* its texts and its alert are its own */
    struct ind_alert alert;
    unsigned holders;
};

/* New, with one holder; copies all. NULL where memory is out. `reason`, `when`: NULL: not known. */
struct ind_news *ind_news_new(enum ind_alert_event event, const struct ind_alert *alert, const char *name,
                              const char *reason, const char *when, ind_time at);
struct ind_news *ind_news_hold(struct ind_news *news);
/* Accepts NULL. */
void ind_news_let_go(struct ind_news *news);

#endif
