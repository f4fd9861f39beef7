#include "collect/input/datagrams.h"

#include "core/message/own.h"

enum {
    REPORT_AGAIN = 60, /* seconds */
    ROUNDS = 128,      /* calls for datagrams in a row on one socket: it is to be emptied */
    WORST_RECORDS = 15 /* of 64 KiB in a slab */
};

int ind_datagrams_room(const struct ind_datagrams *datagrams)
{
    size_t most = ind_slabs_left(datagrams->slabs) * WORST_RECORDS;
    return most < IND_UDP_BATCH ? (int)most : IND_UDP_BATCH;
}

/* One call's worth of datagrams of a socket. */
struct haul {
    struct ind_listener *listener;
    const struct ind_trap_rules *traps;
    int socket;
    struct ind_clocks now;
    bool at_once; /* the socket is empty: now there is time for them */
};

static struct ind_record record_of(const struct haul *haul, const struct ind_datagram *datagram,
                                   size_t length)
{
    return (struct ind_record){.length = (uint32_t)length,
                               .listener = haul->listener->number,
                               .cut = datagram->cut || length < datagram->length,
                               .transport = (uint8_t)haul->listener->transport,
                               .received =
                                   datagram->received != IND_TIME_NONE ? datagram->received : haul->now.wall,
                               .moment = haul->now.steady,
                               .sender = datagram->sender};
}

/* False: it is lost. */
static bool pass_message(struct ind_datagrams *datagrams, const struct haul *haul,
                         const struct ind_record *record, const char *bytes)
{
    const struct ind_slice message = {bytes, record->length};
    if (haul->at_once && ind_dispatch_at_once(datagrams->dispatch, record, NULL, bytes))
        return true;
    if (ind_dispatch_keep(datagrams->dispatch, record, NULL, message))
        return true;
    ind_dispatch_lose(datagrams->dispatch, record->listener, record->length);
    return false;
}

/* ---- Traps ---- */

static const char *remedy(enum ind_trap_fault fault)
{
    static const char *const remedies[IND_TRAP_FAULTS] = {
        [IND_TRAP_UNREADABLE] = "is it something else that is sent to this port?",
        [IND_TRAP_VERSION] = "versions 1, 2c and 3 are understood",
        [IND_TRAP_NO_TRAP] = "it asks as if this were a device: point it elsewhere",
        [IND_TRAP_COMMUNITY] = "add the community to \"communities\", or set it right on the device",
        [IND_TRAP_USER] = "add the user to \"users\"",
        [IND_TRAP_LEVEL] = "its authentication and privacy are to be those of \"users\"",
        [IND_TRAP_DIGEST] = "the password and the kind of authentication are to be the same on both sides",
        [IND_TRAP_LATE] =
            "an old message was sent again, or the device has forgotten how often it has started",
        [IND_TRAP_REPEATED] = "the network has doubled it, or somebody sends it again",
        [IND_TRAP_PRIVACY] = "the privacy password is to be the same on both sides",
        [IND_TRAP_ENGINE] = "an inform has to ask for this collector's engine first"};
    return remedies[fault] ? remedies[fault] : "";
}

static void report_refused(struct ind_datagrams *datagrams, const struct haul *haul,
                           const struct ind_address *sender, enum ind_trap_fault fault)
{
    char text[IND_ADDRESS_WIDTH];
    struct ind_buffer address = ind_buffer_on(text, sizeof text);
    atomic_fetch_add(&haul->listener->traps_refused[fault], 1);
    if (ind_steady_reported_lately(&datagrams->trap_reported[fault], haul->now.steady,
                                   REPORT_AGAIN * IND_SECOND))
        return;
    ind_address_write(&address, sender);
    ind_report(datagrams->dispatch->reporter, IND_OWN_TRAP_REFUSED,
               IND_WITH({"listener", ind_slice_of(haul->listener->text)},
                        {"sender", ind_buffer_view(&address)},
                        {"reason", ind_slice_of(ind_trap_fault_key(fault))}),
               "%s: what %.*s has sent is refused: %s; %s", haul->listener->text, (int)address.length, text,
               ind_trap_fault_text(fault), remedy(fault));
}

/* An inform is answered once its message is here to stay. */
static void pass_trap(struct ind_datagrams *datagrams, const struct haul *haul,
                      const struct ind_datagram *datagram, int number)
{
    const struct ind_sender *who = ind_intake_sender(datagrams->dispatch->intake, &datagram->sender);
    const struct ind_trap_sender sender = {datagram->sender, who->device && who->device->relay};
    struct ind_trap_result result = {.outcome = IND_TRAP_REFUSED};
    struct ind_record record = record_of(haul, datagram, datagram->length);
    const char *bytes = datagram->bytes;
    if (who->allowed) {
        ind_traps_read(datagrams->traps, haul->traps, &sender,
                       (struct ind_slice){datagram->bytes, datagram->length}, haul->now.steady, &result);
        if (result.outcome == IND_TRAP_REFUSED)
            report_refused(datagrams, haul, &datagram->sender, result.fault);
    }
    record.refused = result.outcome == IND_TRAP_REFUSED;
    if (result.outcome == IND_TRAP_MESSAGE) {
        record.cut |= result.cut || result.message.length > datagrams->limit;
        record.length =
            (uint32_t)(result.message.length < datagrams->limit ? result.message.length : datagrams->limit);
        bytes = result.message.at;
    }
    if (result.outcome != IND_TRAP_ANSWERED && !pass_message(datagrams, haul, &record, bytes))
        return;
    if (result.answer.length) {
        atomic_fetch_add(&haul->listener->traps_answered, 1);
        datagrams->sockets->answer(datagrams->sockets->context, haul->socket, number, result.answer.at,
                                   result.answer.length);
    }
}

/* ---- ---- */

static void pass_on(struct ind_datagrams *datagrams, const struct haul *haul, const struct ind_datagram *list,
                    int count)
{
    enum { SOON = 2, LATER = 5 };
    for (int i = 0; i < count; i++) {
        const struct ind_datagram *datagram = &list[i];
        if (haul->at_once)
            ind_dispatch_expect(datagrams->dispatch, i + SOON < count ? &list[i + SOON].sender : NULL,
                                i + LATER < count ? &list[i + LATER].sender : NULL);
        if (haul->traps) {
            pass_trap(datagrams, haul, datagram, i);
            continue;
        }
        const bool cut = datagram->length > datagrams->limit;
        const struct ind_record record = record_of(haul, datagram, cut ? datagrams->limit : datagram->length);
        (void)pass_message(datagrams, haul, &record, datagram->bytes);
    }
    datagrams->any |= count > 0;
}

enum ind_datagrams_read ind_datagrams_read(struct ind_datagrams *datagrams, struct ind_listener *listener,
                                           const struct ind_trap_rules *traps, int socket)
{
    const struct ind_socket_table *sockets = datagrams->sockets;
    bool local = listener->transport == IND_TRANSPORT_UNIX;
    struct ind_datagram list[IND_UDP_BATCH];
    for (int round = 0; round < ROUNDS; round++) {
        int most = ind_datagrams_room(datagrams);
        if (most == 0 && !local)
            return IND_DATAGRAMS_NO_ROOM;
        most = most ? most : IND_UDP_BATCH;
        int count = sockets->receive(sockets->context, socket, local, list, most);
        if (count <= 0)
            break;
        const struct haul haul = {listener, traps, socket, ind_clock_read(datagrams->dispatch->clock),
                                  count < most};
        pass_on(datagrams, &haul, list, count);
        if (count < most)
            break;
    }
    return IND_DATAGRAMS_READ;
}
