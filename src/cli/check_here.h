/* cli/check_here.h: whether what a configuration asks for can be had on this machine. */
#ifndef IND_CLI_CHECK_HERE_H
#define IND_CLI_CHECK_HERE_H

#include "config/config.h"

/* Adds warnings for what a collector would find here: nothing to listen on, folders that this user may not
 * write, policies that may take more than the file system has; with `ports`, addresses that cannot be
 * listened on. Opens and closes sockets, changes nothing. The configuration has no mistakes. */
void ind_check_here(struct ind_loaded *loaded, bool ports);

/* A socket that listens where a listener with an address and port is to; to be closed. -1 with errno set. */
int ind_listen_here(const struct ind_listen_item *item);

#endif
