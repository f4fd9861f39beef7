/* net/inherited.h: sockets that the service manager has opened for us, by their names.
 *
 * The protocol is documented with the service manager: LISTEN_PID says whom they are for, LISTEN_FDS how many
 * there are, from descriptor 3 on, and LISTEN_FDNAMES their names, with colons between. Several may bear one
 * name. */
#ifndef IND_NET_INHERITED_H
#define IND_NET_INHERITED_H

#include <stdbool.h>
#include <stddef.h>

struct ind_inherited;

/* Takes them over, so that programs that are started get neither them nor their names. To be called once,
 * before there are threads. NULL where there are none. */
struct ind_inherited *ind_inherited_take(void);
/* Closes them. Accepts NULL. */
void ind_inherited_free(struct ind_inherited *inherited);

/* How many there are (0 for NULL), and each with its name. The sockets stay theirs. */
size_t ind_inherited_count(const struct ind_inherited *inherited);
int ind_inherited_at(const struct ind_inherited *inherited, size_t number, const char **name);

/* What kind of socket it is. */
enum ind_socket_kind {
    IND_SOCKET_DATAGRAMS, /* UDP */
    IND_SOCKET_CONNECTIONS,
    IND_SOCKET_LOCAL_DATAGRAMS,
    IND_SOCKET_LOCAL_CONNECTIONS,
    IND_SOCKET_OTHER /* a connection, a pipe, something else: nothing that can be listened on */
};
enum ind_socket_kind ind_socket_kind(int socket);

#endif
