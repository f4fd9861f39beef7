#include "report/texts.h"

#include "report/report_private.h"

#include "core/message/names.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_EVENTS = 100000, MOST_PAIRS = 1000 };

/* ---- Searching ---- */

struct question {
    const char *when; /* beside what was asked; NULL: nothing */
    const char *by[2];
    size_t by_count;
    size_t span;
    size_t top;
};

/* (WHEN) and (ASKED); new. NULL where memory is out. */
static char *both(const char *when, const char *asked)
{
    const size_t room = strlen(when) + (asked ? strlen(asked) : 0) + 16;
    char *text = malloc(room);
    if (text && asked && *asked)
        snprintf(text, room, "(%s) and (%s)", when, asked);
    else if (text)
        snprintf(text, room, "%s", when);
    return text;
}

/* The result is to be freed. False where memory or the disk ran out: then it need not be. */
static bool search(const struct ind_report *report, const struct question *question,
                   const struct ind_search_file *files, size_t count, struct ind_search_result *result)
{
    const struct ind_report_asked *asked = &report->asked;
    struct ind_mistake mistake = {0};
    struct ind_conditions *set = NULL;
    struct ind_search_settings settings = ind_report_settings(report, question->span, files, count);
    settings.by_count = question->by_count;
    settings.order = IND_BY_COUNT;
    settings.top = question->top;
    bool good = true;
    for (size_t i = 0; i < question->by_count; i++)
        good &= ind_search_by_read(ind_slice_of(question->by[i]), &settings.by[i]);
    if (question->when) {
        char *text = both(question->when, asked->when_text);
        good = good && text &&
               ind_config_condition(asked->config, ind_slice_of(text), &set, &settings.when, &mistake);
        settings.conditions = set;
        free(text);
    }
    if (good) {
        ind_search_run(&settings, result);
        good = !result->failed;
        if (!good)
            ind_search_free(result);
    }
    ind_conditions_free(set);
    return good;
}

/* ---- Events ---- */

static struct ind_report_event *event_of(struct ind_report_texts *texts, const char *name)
{
    struct ind_report_event *event = NULL;
    const size_t length = strlen(name);
    HASH_FIND(hh, texts->events, name, (unsigned)length, event);
    if (event)
        return event;
    if (texts->event_count == MOST_EVENTS) {
        texts->events_cut = true;
        return NULL;
    }
    event = calloc(1, sizeof *event + length + 1);
    if (!event)
        return NULL;
    memcpy(event->name, name, length);
    event->worst = IND_SEVERITIES;
    HASH_ADD_KEYPTR(hh, texts->events, event->name, length, event);
    if (!event->hh.tbl) {
        free(event);
        return NULL;
    }
    texts->event_count++;
    return event;
}

static void add_event(struct ind_report_texts *texts, bool now, const struct ind_search_group *group)
{
    struct ind_report_event *event = event_of(texts, ind_group_value(group, 0));
    const int severity = ind_severity_read(ind_slice_of(ind_group_value(group, 1)));
    if (!event)
        return;
    if (!now) {
        event->before += group->count;
        return;
    }
    event->now += group->count;
    if (severity >= 0 && (unsigned)severity < event->worst)
        event->worst = (unsigned)severity;
}

static bool read_events(const struct ind_report *report, const struct ind_search_file *files, size_t count,
                        struct ind_report_texts *texts)
{
    const size_t spans[] = {IND_REPORT_NOW, ind_report_events_before(report)};
    for (size_t i = 0; i < 2; i++) {
        const size_t span = spans[i];
        const struct question question = {.by = {"event", "severity"}, .by_count = 2, .span = span};
        struct ind_search_result result;
        if (report->spans[span].since >= report->spans[span].until)
            continue;
        if (!search(report, &question, files, count, &result))
            return false;
        for (size_t g = 0; g < result.group_count; g++)
            add_event(texts, span == IND_REPORT_NOW, result.groups[g]);
        texts->events_cut |= result.groups_cut;
        ind_search_free(&result);
    }
    return true;
}

/* ---- Topics ---- */

struct topic {
    const char *patterns[2]; /* one of which has to be in use; NULL: none is asked for */
    struct question question;
};

static const struct topic topics[IND_REPORT_TOPICS] = {
    [IND_REPORT_LOGINS] = {{"login-failed", NULL}, {.by = {"field peer", "field user"}, .by_count = 2}},
    [IND_REPORT_PORTS] = {{"connection-denied", NULL},
                          {.by = {"field target_port", "field protocol"}, .by_count = 2}},
    [IND_REPORT_INTERFACES] = {{"link-state", "link-flapping"},
                               {.by = {"device", "field interface"}, .by_count = 2}},
    [IND_REPORT_CLOCKS] = {
        {NULL, NULL}, {.when = "lag at least 300 or lag at most -300", .by = {"device"}, .by_count = 1}}};

/* A condition for those of its patterns that are in use: others are no condition. False where there are none.
 */
static bool condition_of(const struct ind_config *config, const struct topic *topic, char *text, size_t room)
{
    uint32_t pattern;
    size_t length = 0;
    for (size_t i = 0; i < 2; i++)
        if (topic->patterns[i] &&
            ind_pattern_named(config->patterns, ind_slice_of(topic->patterns[i]), &pattern))
            length += (size_t)snprintf(text + length, room - length, "%spattern is \"%s\"",
                                       length ? " or " : "", topic->patterns[i]);
    return length > 0;
}

static bool take_pairs(const struct ind_search_result *result, size_t by_count,
                       struct ind_report_pairs *pairs)
{
    pairs->list = calloc(result->group_count + 1, sizeof *pairs->list);
    pairs->cut = result->groups_cut;
    for (size_t i = 0; pairs->list && i < result->group_count; i++) {
        struct ind_report_pair *pair = &pairs->list[pairs->count++];
        pair->count = result->groups[i]->count;
        for (size_t v = 0; v < 2; v++)
            pair->values[v] = strdup(v < by_count ? ind_group_value(result->groups[i], v) : "");
        if (!pair->values[0] || !pair->values[1])
            return false;
    }
    return pairs->list != NULL;
}

static bool read_topic(const struct ind_report *report, const struct topic *topic,
                       const struct ind_search_file *files, size_t count, struct ind_report_pairs *pairs)
{
    struct question question = topic->question;
    struct ind_search_result result;
    char when[200];
    if (!question.when && condition_of(report->asked.config, topic, when, sizeof when))
        question.when = when;
    pairs->asked = question.when != NULL;
    question.span = IND_REPORT_NOW;
    question.top = MOST_PAIRS;
    if (!pairs->asked)
        return true;
    if (!search(report, &question, files, count, &result))
        return false;
    const bool good = take_pairs(&result, question.by_count, pairs);
    ind_search_free(&result);
    return good;
}

/* ---- All of it ---- */

bool ind_report_read_texts(const struct ind_report *report, const struct ind_search_file *files, size_t count,
                           struct ind_report_texts *texts)
{
    bool good = read_events(report, files, count, texts);
    for (size_t i = 0; good && i < IND_REPORT_TOPICS; i++)
        good = read_topic(report, &topics[i], files, count, &texts->topics[i]);
    return good;
}

void ind_report_texts_free(struct ind_report_texts *texts)
{
    struct ind_report_event *event, *next;
    HASH_ITER(hh, texts->events, event, next)
    {
        HASH_DEL(texts->events, event);
        free(event);
    }
    for (size_t i = 0; i < IND_REPORT_TOPICS; i++) {
        struct ind_report_pairs *pairs = &texts->topics[i];
        for (size_t k = 0; k < pairs->count; k++) {
            free(pairs->list[k].values[0]);
            free(pairs->list[k].values[1]);
        }
        free(pairs->list);
    }
}
