/* What of texts: events that are new or come much more often, failed logins, denied ports, interfaces,
 * clocks. */
#include "report/sections_private.h"
#include "report/texts.h"

#include "core/message/names.h"

#include <stdlib.h>
#include <string.h>

/* Fewer are no flapping, and no attack; MOST: rows. */
enum { FEW = 20, FLAPS = 6, MOST = 1000, SHOWN_NAME = 60 };

/* ---- Events ---- */

static bool is_new(const struct ind_report_event *event)
{
    return event->now > 0 && event->before == 0;
}

static bool is_much_more(const struct ind_report_event *event)
{
    return event->before > 0 && event->now >= event->before + FEW && event->now / 2 >= event->before;
}

static int compare_events(const void *a, const void *b)
{
    const struct ind_report_event *x = *(struct ind_report_event *const *)a,
                                  *y = *(struct ind_report_event *const *)b;
    if (x->worst != y->worst)
        return x->worst < y->worst ? -1 : 1;
    if (x->now != y->now)
        return x->now > y->now ? -1 : 1;
    return strcmp(x->name, y->name);
}

static void add_event(struct ind_report_page *page, struct ind_report_section *section,
                      const struct ind_report_event *event, bool comparable)
{
    ind_section_text(page, section, event->name);
    ind_section_text(page, section, !comparable ? "-" : is_new(event) ? "new" : "more");
    ind_section_text(page, section, event->worst < IND_SEVERITIES ? ind_severity_name(event->worst).at : "-");
    ind_section_number(page, section, event->now);
    if (comparable)
        ind_section_number(page, section, event->before);
    else
        ind_section_time(page, section, IND_TIME_NONE);
}

static void say_events(struct ind_report_page *page, struct ind_report_section *section, size_t new,
                       size_t more, bool comparable)
{
    const struct ind_report_texts *texts = page->report->texts;
    const char *before =
        ind_report_events_before(page->report) == IND_REPORT_WEEK ? "a week before" : "in the span before";
    if (!comparable)
        ind_section_say(page, section, false,
                        "%zu different events; nothing is known of the span before to compare with.",
                        texts->event_count);
    else if (new + more == 0)
        ind_section_say(page, section, false, "No event is new, and none came twice as often as %s.", before);
    else
        ind_section_say(page, section, true, "%zu event%s new, %zu came at least twice as often as %s.", new,
                        new == 1 ? " is" : "s are", more, before);
    if (texts->events_cut)
        ind_report_note(page, "There are more events than can be told apart: some are left out.");
}

void ind_section_events(struct ind_report_page *page)
{
    static const struct ind_report_column columns[] = {
        {"event", "event", IND_REPORT_TEXT, false, false},
        {"change", "change", IND_REPORT_TEXT, false, false},
        {"severity", "severity", IND_REPORT_TEXT, false, false},
        {"messages", "messages", IND_REPORT_NUMBER, false, false},
        {"before", "before", IND_REPORT_NUMBER, false, false}};
    struct ind_report_section *section = ind_section_new(page, "events", "Events", columns, 5);
    const struct ind_report_texts *texts = page->report->texts;
    const bool comparable = page->report->known[ind_report_events_before(page->report)];
    struct ind_report_event **list = calloc(texts->event_count + 1, sizeof(struct ind_report_event *)),
                            *event, *next;
    size_t count = 0, new = 0, more = 0;
    if (!list) {
        page->failed = true;
        return;
    }
    HASH_ITER(hh, texts->events, event, next)
    {
        new += comparable &&is_new(event);
        more += comparable && is_much_more(event);
        if (event->now > 0 && (!comparable || is_new(event) || is_much_more(event)))
            list[count++] = event;
    }
    qsort(list, count, sizeof *list, compare_events);
    for (size_t i = 0; i < count && i < MOST; i++)
        add_event(page, section, list[i], comparable);
    say_events(page, section, new, more, comparable);
    free(list);
}

/* ---- Topics ---- */

static uint64_t sum_of(const struct ind_report_pairs *pairs)
{
    uint64_t sum = 0;
    for (size_t i = 0; i < pairs->count; i++)
        sum += pairs->list[i].count;
    return sum;
}

static struct ind_report_section *begin_topic(struct ind_report_page *page, const char *id, const char *title,
                                              const char *const names[2], const char *const titles[2],
                                              const struct ind_report_pairs *pairs, uint64_t least)
{
    const struct ind_report_column columns[] = {{names[0], titles[0], IND_REPORT_TEXT, false, false},
                                                {names[1], titles[1], IND_REPORT_TEXT, false, false},
                                                {"messages", "messages", IND_REPORT_NUMBER, true, false}};
    struct ind_report_section *section = ind_section_new(page, id, title, columns, 3);
    for (size_t i = 0; i < pairs->count && pairs->list[i].count >= least; i++) {
        ind_section_text(page, section, pairs->list[i].values[0]);
        ind_section_text(page, section, pairs->list[i].values[1]);
        ind_section_number(page, section, pairs->list[i].count);
    }
    return section;
}

static void add_logins(struct ind_report_page *page, const struct ind_report_pairs *pairs)
{
    char number[IND_AMOUNT_WIDTH];
    struct ind_report_section *section =
        begin_topic(page, "logins", "Failed logins", (const char *const[]){"peer", "user"},
                    (const char *const[]){"from", "user"}, pairs, 0);
    const uint64_t sum = sum_of(pairs);
    if (sum == 0)
        ind_section_say(page, section, false, "No login failed.");
    else
        ind_section_say(page, section, sum >= FEW, "%s login%s failed, most from %.*s.",
                        ind_report_grouped(sum, number), ind_report_plural(sum), SHOWN_NAME,
                        pairs->list[0].values[0]);
}

static void add_ports(struct ind_report_page *page, const struct ind_report_pairs *pairs)
{
    char number[IND_AMOUNT_WIDTH];
    struct ind_report_section *section =
        begin_topic(page, "ports", "Denied connections", (const char *const[]){"target_port", "protocol"},
                    (const char *const[]){"port", "protocol"}, pairs, 0);
    const uint64_t sum = sum_of(pairs);
    if (sum == 0)
        ind_section_say(page, section, false, "No connection was denied.");
    else
        ind_section_say(page, section, false, "%s connection%s denied, most to port %.*s.",
                        ind_report_grouped(sum, number), sum == 1 ? " was" : "s were", SHOWN_NAME,
                        pairs->list[0].values[0]);
}

static void add_interfaces(struct ind_report_page *page, const struct ind_report_pairs *pairs)
{
    struct ind_report_section *section =
        begin_topic(page, "interfaces", "Flapping interfaces", (const char *const[]){"device", "interface"},
                    (const char *const[]){"device", "interface"}, pairs, FLAPS);
    if (section->row_count == 0)
        ind_section_say(page, section, false, "No interface changed its state more than %d times.",
                        FLAPS - 1);
    else
        ind_section_say(page, section, true,
                        "%zu interface%s changed %s state at least %d times, %.*s on %.*s most.",
                        section->row_count, ind_report_plural(section->row_count),
                        section->row_count == 1 ? "its" : "their", FLAPS, SHOWN_NAME,
                        pairs->list[0].values[1], SHOWN_NAME, pairs->list[0].values[0]);
}

static void add_clocks(struct ind_report_page *page, const struct ind_report_pairs *pairs)
{
    static const struct ind_report_column columns[] = {
        {"device", "device", IND_REPORT_TEXT, false, false},
        {"messages", "messages with a time that is off", IND_REPORT_NUMBER, true, false}};
    struct ind_report_section *section = ind_section_new(page, "clocks", "Clocks", columns, 2);
    for (size_t i = 0; i < pairs->count; i++) {
        ind_section_text(page, section, pairs->list[i].values[0]);
        ind_section_number(page, section, pairs->list[i].count);
    }
    if (pairs->count == 0)
        ind_section_say(page, section, false, "No clock is off by five minutes or more.");
    else
        ind_section_say(page, section, true, "The clock%s of %zu device%s %s off by five minutes or more.",
                        ind_report_plural(pairs->count), pairs->count, ind_report_plural(pairs->count),
                        pairs->count == 1 ? "is" : "are");
}

void ind_section_topics(struct ind_report_page *page)
{
    static void (*const add[IND_REPORT_TOPICS])(struct ind_report_page *, const struct ind_report_pairs *) = {
        [IND_REPORT_LOGINS] = add_logins,
        [IND_REPORT_PORTS] = add_ports,
        [IND_REPORT_INTERFACES] = add_interfaces,
        [IND_REPORT_CLOCKS] = add_clocks};
    const struct ind_report_texts *texts = page->report->texts;
    for (size_t i = 0; i < IND_REPORT_TOPICS; i++) {
        if (!texts->topics[i].asked)
            continue;
        add[i](page, &texts->topics[i]);
        if (texts->topics[i].cut)
            ind_report_note(page, "Under \"%s\" there is more than can be told apart: some is left out.",
                            page->sections[page->count - 1].title);
    }
}
