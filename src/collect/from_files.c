/* collect/from_files.c: the intake threads of `collect --from`: every line of the files is a message.
 *
 * Each takes the messages of its piece apart, and its last batch for it says so: the writer then goes on to
 * the next one's ring. So all messages are filed in the order in which they stand in the files. */
#include "collect/feed.h"
#include "collect/inside.h"
#include "collect/reading.h"
#include "core/message/names.h"

#include <stdlib.h>

struct file_intake {
    struct ind_collector *collector;
    unsigned number;
    struct ind_file_source feed;
};

struct taking {
    struct ind_collector *collector;
    struct file_intake *intakes;
};

static struct ind_batch *next_batch(void *context, struct ind_batch *full)
{
    const struct file_intake *intake = context;
    struct ind_rings *rings = intake->collector->rings;
    struct ind_batch *batch;
    if (full)
        ind_ring_put(rings, intake->number, full);
    while (!(batch = ind_ring_empty(rings, intake->number, 500)))
        ; /* the writer takes them, or gives up and takes them as lost */
    return batch;
}

static void end_turn(struct file_intake *intake)
{
    if (!intake->feed.batch)
        return;
    intake->feed.batch->last_of_turn = true;
    ind_ring_put(intake->collector->rings, intake->number, intake->feed.batch);
    intake->feed.batch = NULL;
}

static void take(void *context, unsigned thread, uint64_t turn, enum ind_line_form form,
                 struct ind_slice lines)
{
    const struct taking *taking = context;
    struct file_intake *intake = &taking->intakes[thread];
    (void)turn;
    intake->feed.form = form;
    ind_file_source_lines(&intake->feed, lines);
    end_turn(intake);
}

static void end(void *context, unsigned thread)
{
    const struct taking *taking = context;
    struct file_intake *intake = &taking->intakes[thread];
    ind_file_source_end(&intake->feed);
    end_turn(intake);
    ind_ring_end(taking->collector->rings, thread);
}

static bool goes_on(void *context, uint64_t bytes)
{
    struct ind_collector *collector = ((const struct taking *)context)->collector;
    if (collector->settings->progress)
        collector->settings->progress(collector->settings->context, bytes);
    return !atomic_load(&collector->stop) && !atomic_load(&collector->give_up);
}

static void unread(void *context, const char *path, bool all, const char *reason)
{
    struct ind_collector *collector = ((const struct taking *)context)->collector;
    ind_collect_tell(collector, IND_SEVERITY_ERROR, "cannot read %s%s: %s", all ? "" : "all of ", path,
                     reason);
    collector->unread_files++;
}

static void begin(struct taking *taking)
{
    struct ind_collector *collector = taking->collector;
    for (unsigned i = 0; i < collector->intakes; i++) {
        struct file_intake *intake = &taking->intakes[i];
        struct ind_intake *of_rules = collector->rules->intakes[i];
        intake->collector = collector;
        intake->number = i;
        intake->feed =
            (struct ind_file_source){.intake = of_rules,
                                     .origin = ind_file_source_origin(of_rules, collector->settings->sender,
                                                                      collector->settings->received),
                                     .pass_on = next_batch,
                                     .context = intake,
                                     .recalls = collector->recalls};
    }
    /* Where edits remember there is but one of them (ind_file_source_threads). */
    collector->news_feed = &taking->intakes[0].feed;
}

static void tell_end(struct ind_collector *collector, enum ind_file_reading_end ended)
{
    bool stopped = atomic_load(&collector->stop);
    if (ended == IND_FILE_READING_DONE && !stopped && !atomic_load(&collector->give_up))
        return;
    ind_collect_tell(collector, IND_SEVERITY_ERROR, "%s",
                     ended == IND_FILE_READING_NO_THREAD ? "cannot start a thread: nothing was read"
                     : ended == IND_FILE_READING_NO_MEMORY
                         ? "out of memory: the rest of the files was not read"
                     : stopped ? "told to end before all was read: what was read is filed"
                               : "the disk takes nothing: the rest of the files was not read");
    collector->unread_files++;
}

void *ind_read_files(void *argument)
{
    struct ind_collector *collector = argument;
    struct taking taking = {collector, calloc(collector->intakes, sizeof *taking.intakes)};
    const struct ind_file_reading reading = {.files = collector->settings->files,
                                             .file_count = collector->settings->file_count,
                                             .form = collector->settings->form,
                                             .threads = collector->intakes,
                                             .take = take,
                                             .end = end,
                                             .goes_on = goes_on,
                                             .unread = unread,
                                             .context = &taking};
    if (!taking.intakes) {
        for (unsigned i = 0; i < collector->intakes; i++)
            ind_ring_end(collector->rings, i);
        tell_end(collector, IND_FILE_READING_NO_MEMORY);
        return NULL;
    }
    begin(&taking);
    tell_end(collector, ind_files_read(&reading));
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_file_source_free(&taking.intakes[i].feed);
    free(taking.intakes);
    return NULL;
}
