/* The intake threads of `collect --from`: every line of the files is a message.
 *
 * Each takes the messages of its block apart, and its last batch for it says so: the writer then goes on to
 * the next one's ring. So all messages are filed in the order in which they stand in the files. */
#include "collect/daemon/collector_private.h"

#include "collect/intake/file_reader.h"
#include "collect/intake/file_source.h"
#include "core/message/names.h"
#include <stdlib.h>

struct file_intake {
    struct ind_collector *collector;
    unsigned number;
    struct ind_file_source source;
};

struct file_intakes {
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

static void end_block(struct file_intake *intake)
{
    if (!intake->source.batch)
        return;
    intake->source.batch->last_of_block = true;
    ind_ring_put(intake->collector->rings, intake->number, intake->source.batch);
    intake->source.batch = NULL;
}

static void submit_block(void *context, unsigned thread, uint64_t block, enum ind_line_form form,
                         struct ind_slice lines)
{
    const struct file_intakes *all = context;
    struct file_intake *intake = &all->intakes[thread];
    (void)block;
    intake->source.form = form;
    ind_file_source_lines(&intake->source, lines);
    end_block(intake);
}

static void end(void *context, unsigned thread)
{
    const struct file_intakes *all = context;
    struct file_intake *intake = &all->intakes[thread];
    ind_file_source_end(&intake->source);
    end_block(intake);
    ind_ring_end(all->collector->rings, thread);
}

static bool goes_on(void *context, uint64_t bytes)
{
    struct ind_collector *collector = ((const struct file_intakes *)context)->collector;
    if (collector->settings->progress)
        collector->settings->progress(collector->settings->context, bytes);
    return !ind_is_stopping(&collector->lifecycle) && !ind_has_given_up(&collector->lifecycle);
}

static void unread(void *context, const char *path, bool all, const char *reason)
{
    struct ind_collector *collector = ((const struct file_intakes *)context)->collector;
    ind_report(&collector->reporter, IND_OWN_READ_FAILED, IND_WITH({"file", ind_slice_of(path)}),
               "cannot read %s%s: %s", all ? "" : "all of ", path, reason);
    collector->unread_files++;
}

static void begin(struct file_intakes *all)
{
    struct ind_collector *collector = all->collector;
    for (unsigned i = 0; i < collector->intakes; i++) {
        struct file_intake *intake = &all->intakes[i];
        struct ind_intake *of_rules = collector->rules->receivers[i].intake;
        intake->collector = collector;
        intake->number = i;
        intake->source =
            (struct ind_file_source){.intake = of_rules,
                                     .origin = ind_file_source_origin(of_rules, collector->settings->sender,
                                                                      collector->settings->received),
                                     .pass_on = next_batch,
                                     .context = intake,
                                     .states = collector->states};
    }
    /* Where edits remember there is but one of them (ind_file_source_threads). */
    collector->file_source = &all->intakes[0].source;
}

static void report_end(struct ind_collector *collector, enum ind_file_reading_end ended)
{
    bool stopped = ind_is_stopping(&collector->lifecycle);
    if (ended == IND_FILE_READING_DONE && !stopped && !ind_has_given_up(&collector->lifecycle))
        return;
    ind_report(&collector->reporter, IND_OWN_READ_FAILED, NULL, "%s",
               ended == IND_FILE_READING_NO_THREAD   ? "cannot start a thread: nothing was read"
               : ended == IND_FILE_READING_NO_MEMORY ? "out of memory: the rest of the files was not read"
               : stopped ? "told to end before all was read: what was read is filed"
                         : "the disk takes nothing: the rest of the files was not read");
    collector->unread_files++;
}

void *ind_read_files(void *argument)
{
    struct ind_collector *collector = argument;
    struct file_intakes all = {collector, calloc(collector->intakes, sizeof *all.intakes)};
    const struct ind_file_reading call = {.files = collector->settings->files,
                                          .file_count = collector->settings->file_count,
                                          .form = collector->settings->form,
                                          .threads = collector->intakes,
                                          .lines = submit_block,
                                          .end = end,
                                          .goes_on = goes_on,
                                          .unread = unread,
                                          .context = &all};
    if (!all.intakes) {
        for (unsigned i = 0; i < collector->intakes; i++)
            ind_ring_end(collector->rings, i);
        report_end(collector, IND_FILE_READING_NO_MEMORY);
        return NULL;
    }
    begin(&all);
    report_end(collector, ind_files_read(&call));
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_file_source_free(&all.intakes[i].source);
    free(all.intakes);
    return NULL;
}
