#include "collect/input/datagrams.h"

enum {
    ROUNDS = 128,      /* calls for datagrams in a row on one socket: it is to be emptied */
    WORST_RECORDS = 15 /* of 64 KiB in a slab */
};

int ind_datagrams_room(const struct ind_datagrams *datagrams)
{
    size_t most = ind_slabs_left(datagrams->slabs) * WORST_RECORDS;
    return most < IND_UDP_BATCH ? (int)most : IND_UDP_BATCH;
}

/* Where the socket is empty now there is time for them. */
static void pass_on(struct ind_datagrams *datagrams, const struct ind_listener *listener,
                    const struct ind_datagram *list, int count, bool at_once)
{
    const struct ind_clocks now = ind_clock_read(datagrams->dispatch->clock);
    for (int i = 0; i < count; i++) {
        const struct ind_datagram *datagram = &list[i];
        bool cut = datagram->length > datagrams->limit;
        size_t length = cut ? datagrams->limit : datagram->length;
        struct ind_record record = {.length = (uint32_t)length,
                                    .listener = listener->number,
                                    .cut = datagram->cut || cut,
                                    .transport = (uint8_t)listener->transport,
                                    .received =
                                        datagram->received != IND_TIME_NONE ? datagram->received : now.wall,
                                    .moment = now.steady,
                                    .sender = datagram->sender};
        struct ind_slice bytes = {datagram->bytes, length};
        if (at_once && ind_dispatch_at_once(datagrams->dispatch, &record, NULL, datagram->bytes))
            continue;
        if (!ind_dispatch_keep(datagrams->dispatch, &record, NULL, bytes, IND_NOTHING))
            ind_dispatch_lose(datagrams->dispatch, record.listener, record.length);
    }
    datagrams->any |= count > 0;
}

enum ind_datagrams_read ind_datagrams_read(struct ind_datagrams *datagrams,
                                           const struct ind_listener *listener, int socket)
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
        pass_on(datagrams, listener, list, count, count < most);
        if (count < most)
            break;
    }
    return IND_DATAGRAMS_READ;
}
