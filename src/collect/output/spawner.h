/* collect/output/spawner.h: a small process of ours that starts programs.
 *
 * It is forked before there are threads, sockets or files, gives up all rights at once, and does nothing but
 * start programs and see them end: a collector with threads could not fork safely. No shell is involved.
 * Programs have their standard input from the collector; what they print goes to its standard error.
 *
 * To be used by one thread. Nothing here waits but ind_spawner_free. */
#ifndef IND_COLLECT_OUTPUT_SPAWNER_H
#define IND_COLLECT_OUTPUT_SPAWNER_H

#include "collect/runtime/identity.h"
#include "config/config.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

struct ind_spawner;

/* All of a program and its arguments together. */
enum { IND_SPAWNER_ARGUMENTS = IND_PROGRAM_BYTES };

/* Forks it, as that identity and without any further right. NULL where that cannot be done. */
struct ind_spawner *ind_spawner_new(const struct ind_identity *identity);

/* Sees all programs end: those that do not within some seconds of the end of their input are reported to, and
 * then made to. Accepts NULL. */
void ind_spawner_free(struct ind_spawner *spawner);

/* Asks for a program to be started; what comes of it is reported under `id`. False where it could not be
 * asked.
 */
bool ind_spawner_start(struct ind_spawner *spawner, uint32_t id, char *const *program);

/* The program's input has ended: it is to end too, as above. */
void ind_spawner_stop(struct ind_spawner *spawner, uint32_t id);

enum ind_spawner_event_kind {
    IND_SPAWNER_STARTED, /* `fd`: writes to its standard input; the caller's. `value`: its process id */
    IND_SPAWNER_FAILED,  /* `value`: errno */
    IND_SPAWNER_ENDED    /* `value`: as from waitpid */
};

struct ind_spawner_event {
    enum ind_spawner_event_kind kind;
    uint32_t id;
    int value, fd;
};

/* The next event; false where there is none. */
bool ind_spawner_next(struct ind_spawner *spawner, struct ind_spawner_event *event);

#endif
