/* cli/emit.h: what the parts of the command emit share. */
#ifndef IND_CLI_EMIT_H
#define IND_CLI_EMIT_H

#include "cli/cli.h"
#include "cli/emit_traps.h"
#include "core/time/steady.h"
#include "net/outlet.h"

/* "udp:127.0.0.1:514" and so on. */
struct ind_emit_target {
    const char *text;
    enum ind_transport_kind kind;
    char host[256], port[16]; /* of a local socket: its path, and nothing */
    struct ind_tls *tls;      /* of TLS; borrowed */
    bool traps;               /* over UDP: what is sent there is made a trap of SNMP */
};

struct ind_emitter {
    uint64_t sent, bytes, cut, most; /* most: end after so many; 0: no end */
    double rate;                     /* messages a second at most; 0: as fast as can be */
    struct ind_steady began;
    struct ind_emit_traps *traps; /* for the targets that take them; borrowed */
};

/* Told where it is none. */
bool ind_emit_read_target(const char *text, struct ind_emit_target *target);

/* Waits for its turn, sends, and counts. False, reported, where nothing more can be sent. */
bool ind_emit_send(struct ind_emitter *emitter, const struct ind_emit_target *target,
                   struct ind_outlet *outlet, struct ind_slice message);

bool ind_emit_done(const struct ind_emitter *emitter);

/* Sleeps until a moment of ind_steady_now. */
void ind_emit_wait_until(struct ind_steady until);

/* Plays a fleet file. */
int ind_emit_fleet(struct ind_emitter *emitter, const char *path, const struct ind_emit_target *targets,
                   size_t count);

#endif
