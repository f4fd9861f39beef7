/* collect/input/dispatch.h: what a receiver does with a message once its bytes are there: into a batch at
 * once, or into the burst buffer, or nowhere; and out of the burst buffer again, in slices.
 *
 * Knows no sockets. Belongs to one receiver's thread. At most one message is under way in the intake: it is
 * then the first in the burst buffer. */
#ifndef IND_COLLECT_INPUT_DISPATCH_H
#define IND_COLLECT_INPUT_DISPATCH_H

#include "collect/intake/intake.h"
#include "collect/queue/burst.h"
#include "collect/queue/ring.h"
#include "collect/queue/tap.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/reporter.h"

struct ind_dispatch {
    /* Set before the thread is started; borrowed. */
    struct ind_rings *rings;
    unsigned ring;
    struct ind_tap *tap;
    struct ind_reporter *reporter;
    const struct ind_clock *clock;
    const char *const *names; /* of listeners, by their number */

    struct ind_intake *intake; /* of the present rules */
    struct ind_burst *burst;
    struct ind_batch *batch; /* being filled; NULL: none */
    struct ind_steady batch_began;
    struct ind_slice name; /* of the last listener: most messages come by the same as the one before */
    unsigned named;        /* its number, + 1; 0: none yet. A number never stands for another */
    bool tapped;           /* somebody follows */
    bool ending;           /* nobody is held back any more */
    struct ind_intake_counts counts;
    uint64_t received, lost; /* all of them */
    struct ind_steady claim_reported;
};

/* False where memory is out. */
bool ind_dispatch_begin(struct ind_dispatch *dispatch, struct ind_slabs *slabs);
void ind_dispatch_end(struct ind_dispatch *dispatch);

/* The sender of a message that comes soon, and of one that comes after it (NULL: none): what is known of them
 * is asked for from memory. Changes nothing. */
void ind_dispatch_expect(const struct ind_dispatch *dispatch, const struct ind_address *soon,
                         const struct ind_address *later);

/* Without the burst buffer: where nothing waits there, and the writer has room. False: it is to be kept.
 * Where some of it is in a batch already, that is kept, too. `certificate`: as many bytes as the record says.
 */
bool ind_dispatch_at_once(struct ind_dispatch *dispatch, const struct ind_record *record,
                          const char *certificate, const char *bytes);

/* Whether a sender that can wait is to be held back: what it has sent goes to a file system that is behind.
 */
bool ind_dispatch_holds(const struct ind_dispatch *dispatch, const struct ind_address *sender);

/* Into the burst buffer. False where there is no room. */
bool ind_dispatch_keep(struct ind_dispatch *dispatch, const struct ind_record *record,
                       const char *certificate, struct ind_slice message);
/* Nowhere: it is received, and lost. */
void ind_dispatch_lose(struct ind_dispatch *dispatch, uint16_t listener, size_t length);

/* Out of the burst buffer into batches, a bounded number. */
void ind_dispatch_slice(struct ind_dispatch *dispatch);
/* Whether anything waits in the burst buffer, or is under way. */
bool ind_dispatch_waiting(const struct ind_dispatch *dispatch);

/* Gets an empty batch where there is none; waits so long at most. */
bool ind_dispatch_have_batch(struct ind_dispatch *dispatch, int milliseconds);
void ind_dispatch_pass_on(struct ind_dispatch *dispatch);
/* Passes the batch on when the sockets have nothing more (`quiet`), or when it has filled slowly for some
 * time. */
void ind_dispatch_pass_on_in_time(struct ind_dispatch *dispatch, bool quiet);

/* Other rules from now on: passes on what there is, then the marker. Nothing that is counted already may be
 * under way. */
void ind_dispatch_adopt(struct ind_dispatch *dispatch, struct ind_intake *intake, struct ind_marker *marker);
bool ind_dispatch_may_adopt(const struct ind_dispatch *dispatch);

/* Passes on what there is, fills in what was counted here, and puts the marker behind it. */
void ind_dispatch_snapshot(struct ind_dispatch *dispatch, uint32_t accounts, struct ind_marker *marker);

#endif
