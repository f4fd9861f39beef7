#include "collect/feed.h"

#include "collect/clock.h"
#include "collect/inside.h"
#include "collect/own.h"
#include <stdlib.h>
#include <unistd.h>

enum { LOOK_SECONDS = 15, MOST_THREADS = 4, MOST_AT_ONCE = 1 << 20 };

struct ind_origin ind_file_source_origin(struct ind_intake *intake, struct ind_slice sender,
                                         ind_time received)
{
    return (struct ind_origin){.transport = IND_TRANSPORT_FILE,
                               .number = IND_NAME_FILES,
                               .sender = ind_intake_sender_named(intake, sender),
                               .received = received,
                               .now = ind_now()};
}

unsigned ind_file_source_threads(const struct ind_config *config)
{
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    if (config->edits.remember)
        return 1;
    if (config->threads)
        return (unsigned)(config->threads < IND_MOST_INTAKES ? config->threads : IND_MOST_INTAKES);
    return (unsigned)(processors < 1 ? 1 : processors < MOST_THREADS ? processors : MOST_THREADS);
}

static void take(struct ind_file_source *feed, enum ind_line_form form, struct ind_slice line,
                 const struct ind_origin *origin)
{
    bool tallied = false;
    while (!ind_intake_message(feed->intake, form, line, origin, feed->batch, &tallied))
        feed->batch = feed->pass_on(feed->context, feed->batch);
}

/* Filing them can make no more of them: messages of our own are always let through. */
static void tell_news(struct ind_file_source *feed, ind_time now)
{
    static const struct ind_address this_machine = {.bits = 0};
    char text[IND_INTERNAL_MESSAGE];
    for (size_t i = 0; i < feed->news_count; i++) {
        struct ind_buffer message = ind_buffer_on(text, sizeof text);
        const struct ind_sender *before = feed->origin.sender;
        const struct ind_sender sender = *ind_intake_sender(feed->intake, &this_machine);
        const struct ind_origin origin = {.transport = IND_TRANSPORT_INTERNAL,
                                          .number = IND_NAME_INTERNAL,
                                          .listener = IND_SLICE("internal"),
                                          .sender = &sender,
                                          .received = now,
                                          .now = now};
        ind_internal_message_of_edit(&message, now, &feed->news[i]);
        take(feed, IND_LINES_RAW, ind_buffer_view(&message), &origin);
        feed->origin.sender = before;
        feed->own++;
    }
    feed->news_count = 0;
}

void ind_file_source_report(void *context, const struct ind_edit_report *news)
{
    struct ind_file_source *feed = context;
    if (feed->news_count == feed->news_room) {
        size_t room = feed->news_room ? feed->news_room * 2 : 64;
        struct ind_edit_report *grown = realloc(feed->news, room * sizeof *grown);
        if (!grown)
            return; /* what was dropped is in the ledger all the same */
        feed->news = grown;
        feed->news_room = room;
    }
    feed->news[feed->news_count++] = *news;
}

static void look_for_news(struct ind_file_source *feed)
{
    ind_time now = ind_intake_time(feed->intake);
    if (feed->looked == 0)
        feed->looked = now;
    if (now - feed->looked >= LOOK_SECONDS * IND_SECOND) {
        feed->looked = now;
        (void)ind_edit_states_report(feed->recalls, ind_edit_state_moment(now), false, MOST_AT_ONCE);
    }
    if (feed->news_count > 0)
        tell_news(feed, now);
}

void ind_file_source_line(struct ind_file_source *feed, struct ind_slice line)
{
    take(feed, feed->form, line, &feed->origin);
    if (feed->recalls)
        look_for_news(feed);
}

void ind_file_source_lines(struct ind_file_source *feed, struct ind_slice lines)
{
    if (!feed->batch)
        feed->batch = feed->pass_on(feed->context, NULL);
    struct ind_slice line;
    while (ind_slice_line(&lines, &line))
        ind_file_source_line(feed, line);
}

void ind_file_source_end(struct ind_file_source *feed)
{
    if (!feed->recalls)
        return;
    (void)ind_edit_states_report(feed->recalls, ind_edit_state_moment(ind_intake_time(feed->intake)), true,
                                 MOST_AT_ONCE);
    if (feed->news_count == 0)
        return;
    if (!feed->batch)
        feed->batch = feed->pass_on(feed->context, NULL);
    tell_news(feed, ind_intake_time(feed->intake));
}

void ind_file_source_free(struct ind_file_source *feed)
{
    free(feed->news);
    feed->news = NULL;
    feed->news_count = feed->news_room = 0;
}
