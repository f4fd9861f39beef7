#include "net/socket_table.h"

#include "net/socket.h"
#include <unistd.h>

static int system_receive(void *context, int socket, bool local, struct ind_datagram *datagrams, int most)
{
    int count = ind_udp_receive(socket, local, context, most);
    for (int i = 0; i < count; i++)
        datagrams[i] = ind_udp_datagram(context, i);
    return count;
}

static void system_answer(void *context, int socket, int i, const void *bytes, size_t length)
{
    ind_udp_answer(socket, context, i, bytes, length);
}

static uint64_t system_dropped(void *context, int socket)
{
    (void)context;
    return ind_udp_dropped(socket);
}

static int system_accept(void *context, int socket, struct ind_address *sender)
{
    (void)context;
    return ind_tcp_accept(socket, sender);
}

static ssize_t system_read(void *context, int socket, void *bytes, size_t room)
{
    (void)context;
    return read(socket, bytes, room);
}

bool ind_socket_table_begin_system(struct ind_socket_table *table)
{
    *table = (struct ind_socket_table){ind_udp_batch_new(), system_receive, system_answer,
                                       system_dropped,      system_accept,  system_read};
    return table->context != NULL;
}

void ind_socket_table_end_system(struct ind_socket_table *table)
{
    ind_udp_batch_free(table->context);
    table->context = NULL;
}
