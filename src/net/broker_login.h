/* net/broker_login.h: what we show to a message system, from a file that only its owner may read. */
#ifndef IND_NET_BROKER_LOGIN_H
#define IND_NET_BROKER_LOGIN_H

#include "core/base/slice.h"

struct ind_broker_login {
    char user[256], password[256], token[512];
    char nkey[128], seed[1024]; /* nkey: the public key; seed: the path of the file with the private one */
};

/* Lines such as "user: indagator"; empty ones and those that begin with # say nothing. False with the number
 * of the line that is none (from 1 on), or 0: what is there does not go together. */
bool ind_broker_login_parse(struct ind_slice text, struct ind_broker_login *login, unsigned *line);

/* Reads the file; a relative seed is relative to it. False with the reason. */
bool ind_broker_login_read(const char *path, struct ind_broker_login *login, char *reason, size_t room);

#endif
