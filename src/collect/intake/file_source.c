#include "collect/intake/file_source.h"

#include "collect/runtime/clock.h"
#include "collect/runtime/internal_message.h"
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

static void submit(struct ind_file_source *source, enum ind_line_form form, struct ind_slice line,
                   const struct ind_origin *origin)
{
    enum ind_submitted submitted = ind_intake_submit(source->intake, form, line, origin, source->batch);
    while (submitted == IND_SUBMIT_FULL) {
        source->batch = source->pass_on(source->context, source->batch);
        submitted = ind_intake_resume(source->intake, source->batch);
    }
}

/* Filing them can make no more of them: internal messages are always let through. */
static void submit_reports(struct ind_file_source *source, ind_time now)
{
    static const struct ind_address this_machine = {.bits = 0};
    char text[IND_INTERNAL_MESSAGE];
    for (size_t i = 0; i < source->report_count; i++) {
        struct ind_buffer message = ind_buffer_on(text, sizeof text);
        const struct ind_origin origin = {.transport = IND_TRANSPORT_INTERNAL,
                                          .number = IND_NAME_INTERNAL,
                                          .listener = IND_SLICE("internal"),
                                          .sender = ind_intake_sender(source->intake, &this_machine),
                                          .received = now,
                                          .now = now};
        ind_internal_message_of_edit(&message, now, &source->reports[i]);
        submit(source, IND_LINES_RAW, ind_buffer_view(&message), &origin);
        source->internal++;
    }
    source->report_count = 0;
}

void ind_file_source_report(void *context, const struct ind_edit_report *report)
{
    struct ind_file_source *source = context;
    if (source->report_count == source->report_room) {
        size_t room = source->report_room ? source->report_room * 2 : 64;
        struct ind_edit_report *grown = realloc(source->reports, room * sizeof *grown);
        if (!grown)
            return; /* what was dropped is in the ledger all the same */
        source->reports = grown;
        source->report_room = room;
    }
    source->reports[source->report_count++] = *report;
}

static void look_for_reports(struct ind_file_source *source)
{
    ind_time now = ind_intake_time(source->intake);
    if (source->looked == 0)
        source->looked = now;
    if (now - source->looked >= LOOK_SECONDS * IND_SECOND) {
        source->looked = now;
        (void)ind_edit_states_report(source->states, ind_edit_state_moment(now), false, MOST_AT_ONCE);
    }
    if (source->report_count > 0)
        submit_reports(source, now);
}

void ind_file_source_line(struct ind_file_source *source, struct ind_slice line)
{
    submit(source, source->form, line, &source->origin);
    if (source->states)
        look_for_reports(source);
}

void ind_file_source_lines(struct ind_file_source *source, struct ind_slice lines)
{
    if (!source->batch)
        source->batch = source->pass_on(source->context, NULL);
    struct ind_slice line;
    while (ind_slice_line(&lines, &line))
        ind_file_source_line(source, line);
}

void ind_file_source_end(struct ind_file_source *source)
{
    if (!source->states)
        return;
    (void)ind_edit_states_report(source->states, ind_edit_state_moment(ind_intake_time(source->intake)), true,
                                 MOST_AT_ONCE);
    if (source->report_count == 0)
        return;
    if (!source->batch)
        source->batch = source->pass_on(source->context, NULL);
    submit_reports(source, ind_intake_time(source->intake));
}

void ind_file_source_free(struct ind_file_source *source)
{
    free(source->reports);
    source->reports = NULL;
    source->report_count = source->report_room = 0;
}
