#include "collect/alert/news.h"

#include <stdlib.h>

static char *copy_of(const char *text, bool *whole)
{
    char *copy = strdup(text ? text : "");
    *whole &= copy != NULL;
    return copy;
}

struct ind_news *ind_news_new(enum ind_alert_event event, const struct ind_alert *alert, const char *name,
                              const char *reason, const char *when, ind_time at)
{
    struct ind_news *news = calloc(1, sizeof *news);
    bool whole = true;
    if (!news)
        return NULL;
    news->holders = 1;
    news->alert = *alert;
    news->alert.rule = NULL;
    news->alert.key = copy_of(alert->key, &whole);
    news->alert.note = alert->note ? copy_of(alert->note, &whole) : NULL;
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        news->alert.lines[i] = alert->lines[i] ? copy_of(alert->lines[i], &whole) : NULL;
    news->item = (struct ind_letter_item){.event = event,
                                          .at = at,
                                          .alert = &news->alert,
                                          .name = copy_of(name, &whole),
                                          .reason = copy_of(reason, &whole),
                                          .when = copy_of(when, &whole)};
    if (whole)
        return news;
    ind_news_let_go(news);
    return NULL;
}

struct ind_news *ind_news_hold(struct ind_news *news)
{
    news->holders++;
    return news;
}

static void free_text(const char *text)
{
    free((void *)(uintptr_t)text);
}

void ind_news_let_go(struct ind_news *news)
{
    if (!news || --news->holders > 0)
        return;
    free_text(news->alert.key);
    free(news->alert.note);
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        free(news->alert.lines[i]);
    free_text(news->item.name);
    free_text(news->item.reason);
    free_text(news->item.when);
    free(news);
}
