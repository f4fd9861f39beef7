/* collect/control/control_socket.h: where a running collector can be asked: in its state folder. */
#ifndef IND_COLLECT_CONTROL_CONTROL_SOCKET_H
#define IND_COLLECT_CONTROL_CONTROL_SOCKET_H

/* HTTP over a local stream socket (docs/formats.md). */
#define IND_CONTROL_SOCKET "control.sock"

#endif
