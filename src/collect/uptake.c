/* collect/uptake.c: messages into the burst buffer, out of it, and into batches. */
#include "collect/receiver.h"
#include "collect/tap.h"
#include "core/message/names.h"

enum {
    SLICE = 1024,           /* records between two looks at the sockets */
    BATCH_MILLISECONDS = 50 /* a batch that fills slowly goes on after this */
};

/* ---- Into batches ---- */

void ind_pass_on(struct ind_receiver *receiver)
{
    if (!receiver->batch || ind_batch_is_empty(receiver->batch))
        return;
    ind_ring_put(receiver->collector->rings, receiver->number, receiver->batch);
    receiver->batch = NULL;
}

bool ind_have_batch(struct ind_receiver *receiver)
{
    if (!receiver->batch) {
        receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 0);
        receiver->batch_began = IND_STEADY_NEVER;
    }
    return receiver->batch != NULL;
}

/* At most once a minute: the status has them all. */
static void tell_claim(struct ind_receiver *receiver, struct ind_slice sender,
                       const struct ind_device *claimed)
{
    char text[IND_ADDRESS_WIDTH];
    struct ind_buffer address = ind_buffer_on(text, sizeof text);
    if (ind_steady_told_lately(&receiver->told_claim, ind_steady_now(), IND_TELL_AGAIN * IND_SECOND))
        return;
    ind_address_write(&address, &claimed->network.address);
    bool known = claimed->network.address.bits > 0;
    ind_collect_tell(
        receiver->collector, IND_SEVERITY_WARNING,
        "%.*s calls itself %s, which is configured%s%.*s: its messages are filed as its own, unless "
        "it is a relay: add it to devices: with \"relay: yes\"",
        IND_ARG(sender), claimed->name, known ? " at " : " without an address",
        known ? (int)address.length : 0, text);
}

/* False where the batch has no room for all of it. */
static bool take_record(struct ind_receiver *receiver, const struct ind_record *record, const char *bytes)
{
    const struct ind_sender *sender = ind_intake_sender(receiver->intake, &record->sender);
    struct ind_origin origin = {.transport = (enum ind_transport)record->transport,
                                .number = record->listener,
                                .cut = record->cut,
                                .listener = ind_slice_of(receiver->collector->names[record->listener]),
                                .sender = sender,
                                .received = record->received,
                                .now = record->received,
                                .moment = record->moment};
    struct ind_slice text = {bytes, record->length};
    if (receiver->tapped && !receiver->tallied)
        ind_tap_offer(receiver->collector->tap, record, bytes);
    if (!sender->allowed)
        return ind_intake_refuse(receiver->intake, text, &origin, receiver->batch);
    bool taken = ind_intake_message(receiver->intake, IND_LINES_RAW, text, &origin, receiver->batch,
                                    &receiver->tallied);
    if (taken && ind_intake_claimed(receiver->intake))
        tell_claim(receiver, sender->text, ind_intake_claimed(receiver->intake));
    return taken;
}

/* Without the burst buffer: where nothing waits there, and the writer has room. False where it must wait
 * after all; some of its lines may have gone on then, which `tallied` tells. */
bool ind_take_at_once(struct ind_receiver *receiver, const struct ind_record *record, const char *bytes)
{
    if (!ind_burst_idle(receiver->burst) || !ind_have_batch(receiver))
        return false;
    while (!take_record(receiver, record, bytes)) {
        ind_pass_on(receiver);
        if (!ind_have_batch(receiver))
            return false;
    }
    receiver->tallied = false;
    receiver->counts.received[record->listener]++;
    receiver->counts.bytes[record->listener] += record->length;
    return true;
}

/* ---- Into the burst buffer ---- */

bool ind_keep_record(struct ind_receiver *receiver, const struct ind_record *record, struct ind_slice first,
                     struct ind_slice rest)
{
    char *at = ind_burst_add(receiver->burst, record);
    if (!at)
        return false;
    if (first.length)
        memcpy(at, first.at, first.length);
    if (rest.length)
        memcpy(at + first.length, rest.at, rest.length);
    receiver->counts.received[record->listener]++;
    receiver->counts.bytes[record->listener] += record->length;
    receiver->counts.waiting[record->listener]++;
    return true;
}

void ind_lose_record(struct ind_receiver *receiver, uint16_t listener, size_t length)
{
    receiver->counts.received[listener]++;
    receiver->counts.bytes[listener] += length;
    receiver->counts.lost_buffer[listener]++;
}

/* ---- Out of the burst buffer ---- */

void ind_take_slice(struct ind_receiver *receiver)
{
    const struct ind_record *record;
    const char *bytes;
    unsigned taken = 0;
    while (taken < SLICE && (record = ind_burst_first(receiver->burst, &bytes)) && ind_have_batch(receiver)) {
        if (!take_record(receiver, record, bytes)) {
            ind_pass_on(receiver);
            continue;
        }
        receiver->tallied = false;
        receiver->counts.waiting[record->listener]--;
        ind_burst_drop(receiver->burst);
        taken++;
    }
}

/* A batch goes on when the sockets have nothing more, or when it has filled slowly for some time. */
void ind_pass_on_in_time(struct ind_receiver *receiver)
{
    const char *bytes;
    if (!receiver->batch || ind_batch_is_empty(receiver->batch))
        return;
    struct ind_steady now = ind_steady_now();
    if (!ind_steady_is_set(receiver->batch_began))
        receiver->batch_began = now;
    if ((!receiver->any && !ind_burst_first(receiver->burst, &bytes)) ||
        ind_steady_from(receiver->batch_began, now) > BATCH_MILLISECONDS * (IND_SECOND / 1000))
        ind_pass_on(receiver);
}
