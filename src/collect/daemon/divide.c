/* collect/daemon/divide.c: a store on several file systems: a lane and a writer for each. */
#include "collect/daemon/collector_private.h"

#include <stdlib.h>

_Static_assert((int)IND_CLOG_PLACES == (int)IND_MOST_FILE_SYSTEMS, "each file system has a place");

enum { FEWEST_BATCHES = 16, MOST_BATCHES = 1024 };

/* A lane takes as much text as the burst buffer takes messages. */
static size_t lane_batches(const struct ind_config *config)
{
    uint64_t batches = config->burst_buffer / IND_BATCH_BYTES;
    return (size_t)(batches < FEWEST_BATCHES ? FEWEST_BATCHES
                    : batches > MOST_BATCHES ? MOST_BATCHES
                                             : batches);
}

void ind_collector_settle_aside(void *context, uint32_t owner, uint32_t lines, bool written)
{
    struct ind_collector *collector = context;
    struct ind_book *book = collector->writer.filing.book;
    ind_book_lock(book);
    ind_book_settle_aside(book, owner, lines, written);
    ind_book_unlock(book);
}

static bool make_lane(struct ind_collector *collector, unsigned number)
{
    struct ind_lane *lane = &collector->lanes.list[number];
    struct ind_writer *writer = &collector->lane_writers[number];
    lane->folder = ind_mounts_folder(&ind_store_disk(collector->store)->mounts, number);
    lane->ring = ind_rings_new(1, collector->lanes.batches, NULL, NULL);
    lane->facts = &writer->facts;
    lane->rotation = &writer->rotation;
    lane->ended = &writer->ended;
    ind_writer_begin(writer);
    writer->filing.destination.store = ind_store_part(collector->store, number);
    writer->filing.settle = ind_collector_settle_aside;
    writer->filing.context = collector;
    writer->rings = lane->ring;
    writer->intakes = 1;
    writer->lifecycle = &collector->lifecycle;
    writer->reporter = &collector->reporter;
    writer->clock = &ind_clock_system;
    writer->control = ind_control_waker(collector->control);
    collector->lanes.count++;
    return lane->ring != NULL;
}

bool ind_collector_divide(struct ind_collector *collector)
{
    unsigned parts = ind_store_part_count(collector->store);
    struct ind_lanes *lanes = &collector->lanes;
    collector->writer.filing.destination.store = collector->store;
    if (parts == 1)
        return true;
    collector->lane_writers = calloc(parts, sizeof *collector->lane_writers);
    lanes->batches = lane_batches(collector->settings->config);
    lanes->clog = &collector->clog;
    lanes->book = collector->writer.filing.book;
    lanes->reporter = &collector->reporter;
    bool good = collector->lane_writers != NULL;
    for (unsigned i = 0; good && i < parts; i++)
        good = make_lane(collector, i);
    collector->writer.filing.destination = (struct ind_destination){.lanes = lanes};
    ind_collector_divide_intakes(collector, collector->rules);
    return good;
}

void ind_collector_divide_intakes(struct ind_collector *collector, struct ind_rules *rules)
{
    for (unsigned i = 0; collector->lane_writers && i < collector->intakes; i++)
        ind_intake_divide(rules->receivers[i].intake, &ind_store_disk(collector->store)->mounts,
                          &collector->clog);
}

void ind_collector_end_lanes(struct ind_collector *collector)
{
    for (unsigned i = 0; i < collector->lanes.count; i++) {
        ind_batch_free(collector->lanes.list[i].open);
        ind_rings_free(collector->lanes.list[i].ring);
        ind_writer_end(&collector->lane_writers[i]);
    }
    free(collector->lane_writers);
}

void ind_collector_await_writers(struct ind_collector *collector)
{
    atomic_store(&collector->writer.behind, true);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        atomic_store(&collector->lane_writers[i].behind, true);
}

bool ind_collector_writers_are_behind(const struct ind_collector *collector)
{
    bool behind = atomic_load(&collector->writer.behind);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        behind |= atomic_load(&collector->lane_writers[i].behind);
    return behind;
}

/* The writer asks those of the lanes before it is done itself. */
bool ind_collector_rotation_done(struct ind_collector *collector, size_t *rotated, size_t *failed)
{
    *rotated = *failed = 0;
    if (!ind_rotation_order_is_done(&collector->writer.rotation))
        return false;
    for (unsigned i = 0; i < collector->lanes.count; i++)
        if (!ind_rotation_order_is_done(&collector->lane_writers[i].rotation))
            return false;
    ind_rotation_order_take(&collector->writer.rotation, rotated, failed);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        ind_rotation_order_take(&collector->lane_writers[i].rotation, rotated, failed);
    return true;
}
