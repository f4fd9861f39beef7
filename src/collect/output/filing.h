/* collect/output/filing.h: the lines of a batch into the store and the sinks, and what becomes of them into
 * the book.
 *
 * Of the writer's thread. A batch may be filed in several goes: it knows how far it is. */
#ifndef IND_COLLECT_OUTPUT_FILING_H
#define IND_COLLECT_OUTPUT_FILING_H

#include "collect/account/book.h"
#include "collect/output/destination.h"
#include "collect/output/sinks.h"
#include "collect/queue/batch.h"
#include "collect/relay/relays.h"

/* Where lines go. All borrowed. */
struct ind_filing {
    struct ind_book *book; /* NULL: of a lane's writer, whose lines are in the book already */
    struct ind_destination destination;
    struct ind_sinks *sinks;   /* NULL with the book */
    struct ind_relays *relays; /* likewise */
    /* For a lane's writer: the end of lines that do not come to the store. */
    void (*settle)(void *context, uint32_t owner, uint32_t lines, bool written);
    void *context;
};

enum ind_filed {
    IND_FILED,            /* all of it: the batch may be cleared */
    IND_FILED_STORE_FULL, /* call again later, it goes on where it stopped */
    IND_FILED_SINK_FULL   /* the same after ind_sinks_wait: a sink, or a relay */
};

/* Files what is left of a batch of the given intake. */
enum ind_filed ind_file_batch(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake,
                              struct ind_clocks now);

/* Gives up what of the batch is not filed yet: it is lost, and counted so. */
void ind_file_lose(const struct ind_filing *filing, struct ind_batch *batch, unsigned intake);

#endif
