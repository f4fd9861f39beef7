#include "collect/input/dispatch.h"

#include "core/message/header.h"
#include "core/message/names.h"

enum {
    SLICE = 1024,            /* records between two looks at the sockets */
    BATCH_MILLISECONDS = 50, /* a batch that fills slowly goes on after this */
    REPORT_AGAIN = 60        /* seconds */
};

bool ind_dispatch_begin(struct ind_dispatch *dispatch, struct ind_slabs *slabs)
{
    dispatch->burst = ind_burst_new(slabs);
    return dispatch->burst != NULL;
}

void ind_dispatch_end(struct ind_dispatch *dispatch)
{
    ind_batch_free(dispatch->batch);
    ind_burst_free(dispatch->burst);
    dispatch->batch = NULL;
    dispatch->burst = NULL;
}

/* ---- Batches ---- */

void ind_dispatch_pass_on(struct ind_dispatch *dispatch)
{
    if (!dispatch->batch || ind_batch_is_empty(dispatch->batch))
        return;
    ind_ring_put(dispatch->rings, dispatch->ring, dispatch->batch);
    dispatch->batch = NULL;
}

bool ind_dispatch_have_batch(struct ind_dispatch *dispatch, int milliseconds)
{
    if (!dispatch->batch) {
        dispatch->batch = ind_ring_empty(dispatch->rings, dispatch->ring, milliseconds);
        dispatch->batch_began = IND_STEADY_NEVER;
    }
    return dispatch->batch != NULL;
}

void ind_dispatch_pass_on_in_time(struct ind_dispatch *dispatch, bool quiet)
{
    const char *bytes;
    if (!dispatch->batch || ind_batch_is_empty(dispatch->batch))
        return;
    struct ind_steady now = ind_clock_read(dispatch->clock).steady;
    if (!ind_steady_is_set(dispatch->batch_began))
        dispatch->batch_began = now;
    if ((quiet && !ind_burst_first(dispatch->burst, &bytes)) ||
        ind_steady_from(dispatch->batch_began, now) > BATCH_MILLISECONDS * (IND_SECOND / 1000))
        ind_dispatch_pass_on(dispatch);
}

/* ---- Into batches ---- */

/* At most once a minute: the status has them all. */
static void report_claim(struct ind_dispatch *dispatch, struct ind_slice sender,
                         const struct ind_device *claimed)
{
    char text[IND_ADDRESS_WIDTH];
    struct ind_buffer address = ind_buffer_on(text, sizeof text);
    if (ind_steady_reported_lately(&dispatch->claim_reported, ind_clock_read(dispatch->clock).steady,
                                   REPORT_AGAIN * IND_SECOND))
        return;
    ind_address_write(&address, &claimed->network.address);
    bool known = claimed->network.address.bits > 0;
    ind_report(dispatch->reporter, IND_OWN_NAME_CLAIMED,
               IND_WITH({"sender", sender}, {"device", ind_slice_of(claimed->name)}),
               "%.*s calls itself %s, which is configured%s%.*s: its messages are filed as its own, unless "
               "it is a relay: add it to devices: with \"relay: yes\"",
               IND_ARG(sender), claimed->name, known ? " at " : " without an address",
               known ? (int)address.length : 0, text);
}

static struct ind_slice name_of(struct ind_dispatch *dispatch, uint16_t listener)
{
    if (dispatch->named != listener + 1u) {
        dispatch->named = listener + 1u;
        dispatch->name = ind_slice_of(dispatch->names[listener]);
    }
    return dispatch->name;
}

static struct ind_origin origin_of(struct ind_dispatch *dispatch, const struct ind_record *record,
                                   const char *certificate)
{
    return (struct ind_origin){.transport = (enum ind_transport)record->transport,
                               .number = record->listener,
                               .cut = record->cut,
                               .waits = record->waits,
                               .refused = record->refused,
                               .listener = name_of(dispatch, record->listener),
                               .certificate = {certificate, record->certificate},
                               .sender = ind_intake_sender(dispatch->intake, &record->sender),
                               .received = record->received,
                               .now = record->received,
                               .moment = record->moment};
}

/* As long as there are batches. False: the rest of it is pending. */
static bool resume(struct ind_dispatch *dispatch)
{
    enum ind_submitted submitted = IND_SUBMIT_FULL;
    while (submitted == IND_SUBMIT_FULL && ind_dispatch_have_batch(dispatch, 0)) {
        submitted = ind_intake_resume(dispatch->intake, dispatch->batch);
        if (submitted == IND_SUBMIT_FULL)
            ind_dispatch_pass_on(dispatch);
    }
    return submitted == IND_SUBMIT_DONE;
}

/* Severe messages are few, and those who follow often want only those: the others are not copied. */
static bool is_followed(const struct ind_dispatch *dispatch, const struct ind_record *record,
                        enum ind_line_form form, struct ind_slice bytes)
{
    return dispatch->tapped && !record->refused &&
           (form != IND_LINES_RAW || ind_tap_wants(dispatch->tap, ind_header_pri(bytes.at, bytes.length)));
}

/* There is a batch. */
static bool submit(struct ind_dispatch *dispatch, const struct ind_record *record, const char *certificate,
                   const char *bytes)
{
    const struct ind_origin origin = origin_of(dispatch, record, certificate);
    const struct ind_slice message = {bytes, record->length};
    const enum ind_line_form form = record->transport == IND_TRANSPORT_NATS ? IND_LINES_JSON : IND_LINES_RAW;
    if (is_followed(dispatch, record, form, message))
        ind_tap_offer(dispatch->tap, record, certificate, bytes);
    enum ind_submitted submitted =
        ind_intake_submit(dispatch->intake, form, message, &origin, dispatch->batch);
    const struct ind_device *claimed = ind_intake_claimed(dispatch->intake);
    if (claimed)
        report_claim(dispatch, origin.sender->text, claimed);
    if (submitted == IND_SUBMIT_DONE)
        return true;
    ind_dispatch_pass_on(dispatch);
    return resume(dispatch);
}

static void count(struct ind_dispatch *dispatch, const struct ind_record *record)
{
    dispatch->received++;
    dispatch->counts.received[record->listener]++;
    dispatch->counts.bytes[record->listener] += record->length;
}

/* The burst buffer is idle, so that it has room: the message that did not fit waits there, and is the first.
 */
static void keep_pending(struct ind_dispatch *dispatch, const struct ind_record *record,
                         const char *certificate, const char *bytes)
{
    const char *kept;
    (void)ind_dispatch_keep(dispatch, record, certificate, (struct ind_slice){bytes, record->length});
    const struct ind_record *first = ind_burst_first(dispatch->burst, &kept);
    const struct ind_origin origin = origin_of(dispatch, first, kept - first->certificate);
    ind_intake_rebase(dispatch->intake, (struct ind_slice){kept, first->length}, &origin);
}

void ind_dispatch_expect(const struct ind_dispatch *dispatch, const struct ind_address *soon,
                         const struct ind_address *later)
{
    if (dispatch->batch)
        ind_intake_expect(dispatch->intake, soon, later);
}

bool ind_dispatch_at_once(struct ind_dispatch *dispatch, const struct ind_record *record,
                          const char *certificate, const char *bytes)
{
    if (!ind_burst_idle(dispatch->burst) || !ind_dispatch_have_batch(dispatch, 0))
        return false;
    if (submit(dispatch, record, certificate, bytes))
        count(dispatch, record);
    else
        keep_pending(dispatch, record, certificate, bytes);
    return true;
}

bool ind_dispatch_holds(const struct ind_dispatch *dispatch, const struct ind_address *sender)
{
    return !dispatch->ending && ind_intake_holds(dispatch->intake, sender);
}

/* ---- Into the burst buffer ---- */

bool ind_dispatch_keep(struct ind_dispatch *dispatch, const struct ind_record *record,
                       const char *certificate, struct ind_slice message)
{
    char *at = ind_burst_add(dispatch->burst, record);
    if (!at)
        return false;
    if (record->certificate)
        memcpy(at, certificate, record->certificate);
    if (message.length)
        memcpy(at + record->certificate, message.at, message.length);
    count(dispatch, record);
    dispatch->counts.waiting[record->listener]++;
    return true;
}

void ind_dispatch_lose(struct ind_dispatch *dispatch, uint16_t listener, size_t length)
{
    dispatch->received++;
    dispatch->counts.received[listener]++;
    dispatch->counts.bytes[listener] += length;
    dispatch->counts.lost_buffer[listener]++;
    dispatch->lost++;
}

/* ---- Out of the burst buffer ---- */

/* Looks ahead, to the second record from here on and the fifth, where others than this one's sender come. */
static void look_ahead(const struct ind_dispatch *dispatch, const struct ind_record *record)
{
    enum { MORE = 3 };
    const struct ind_record *next = ind_burst_behind(dispatch->burst, record);
    if (!next || memcmp(&next->sender, &record->sender, sizeof next->sender) == 0)
        return;
    const struct ind_record *soon = ind_burst_behind(dispatch->burst, next), *later = soon;
    for (int i = 0; i < MORE && later; i++)
        later = ind_burst_behind(dispatch->burst, later);
    ind_intake_expect(dispatch->intake, soon ? &soon->sender : NULL, later ? &later->sender : NULL);
}

void ind_dispatch_slice(struct ind_dispatch *dispatch)
{
    const struct ind_record *record;
    const char *bytes;
    for (unsigned taken = 0; taken < SLICE; taken++) {
        record = ind_burst_first(dispatch->burst, &bytes);
        if (!record || !ind_dispatch_have_batch(dispatch, 0))
            return;
        look_ahead(dispatch, record);
        bool done = ind_intake_pending(dispatch->intake)
                        ? resume(dispatch)
                        : submit(dispatch, record, bytes - record->certificate, bytes);
        if (!done)
            return;
        dispatch->counts.waiting[record->listener]--;
        ind_burst_drop(dispatch->burst);
    }
}

bool ind_dispatch_waiting(const struct ind_dispatch *dispatch)
{
    const char *bytes;
    return ind_burst_first(dispatch->burst, &bytes) != NULL;
}

/* ---- Markers ---- */

bool ind_dispatch_may_adopt(const struct ind_dispatch *dispatch)
{
    return !ind_intake_counted(dispatch->intake);
}

void ind_dispatch_adopt(struct ind_dispatch *dispatch, struct ind_intake *intake, struct ind_marker *marker)
{
    ind_dispatch_pass_on(dispatch);
    if (dispatch->batch) /* empty, but it may know groups of the old rules */
        ind_batch_clear(dispatch->batch);
    ind_intake_withdraw(dispatch->intake); /* it is the first in the burst buffer, for the new rules */
    /* Nothing of the new rules before the marker. */
    ind_ring_put_marker(dispatch->rings, dispatch->ring, marker);
    dispatch->intake = intake;
}

void ind_dispatch_snapshot(struct ind_dispatch *dispatch, uint32_t accounts, struct ind_marker *marker)
{
    const char *bytes;
    ind_dispatch_pass_on(dispatch);
    marker->snapshot->counts = dispatch->counts;
    /* The message at the head is in the account already where some of its lines have gone on. */
    if (ind_intake_counted(dispatch->intake))
        marker->snapshot->counts.waiting[ind_burst_first(dispatch->burst, &bytes)->listener]--;
    marker->snapshot->account_count = accounts;
    ind_ring_put_marker(dispatch->rings, dispatch->ring, marker);
}
