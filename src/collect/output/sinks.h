/* collect/output/sinks.h: where lines go that go into no file: standard output, programs, and terminals.
 *
 * Each has a bounded queue of its own. The writer's thread adds to it and writes on without ever waiting: a
 * program that reads nothing, dies, or cannot be started holds nobody up. A program is started when the first
 * line for it comes, and again, after growing pauses, when it has ended. Routes that name the same program
 * with the same arguments share it. Terminals get so many lines a minute, and then how many more there were;
 * with messages from files, nothing: nobody is to be alarmed by what is long past. All of it belongs to the
 * writer's thread. */
#ifndef IND_COLLECT_OUTPUT_SINKS_H
#define IND_COLLECT_OUTPUT_SINKS_H

#include "collect/account/ledger_snapshot.h"
#include "collect/output/spawner.h"
#include "collect/runtime/reporter.h"
#include "config/config.h"
#include "core/time/steady.h"

struct ind_sinks;
struct ind_sink;

struct ind_sinks_settings {
    struct ind_spawner *spawner; /* borrowed; NULL: no program can be started */
    bool hold; /* messages from files: where a queue is full they wait, as long as something is still taken */
    struct ind_reporter *reporter; /* borrowed */
    /* The end of a line of an owner: taken, or lost. */
    void (*settle)(void *context, uint32_t owner, bool taken);
    void *context;
};

/* New; NULL where memory is out. */
struct ind_sinks *ind_sinks_new(const struct ind_sinks_settings *settings);
/* What still waits is not settled any more: see ind_sinks_give_up. Accepts NULL. */
void ind_sinks_free(struct ind_sinks *sinks);

/* The routes by whose numbers lines come from now on. Those that no route names any more get what is queued,
 * for some seconds. False where memory is out: then lines for some routes are lost. */
bool ind_sinks_adopt(struct ind_sinks *sinks, const struct ind_config *config);

/* Whether the route's lines are for a sink. */
bool ind_sinks_have(const struct ind_sinks *sinks, uint32_t route);

/* Adds a line with its end; where there is no room it is lost, and settled so. False: the queue is full, and
 * it is to be tried again after ind_sinks_wait. */
bool ind_sinks_add(struct ind_sinks *sinks, uint32_t route, struct ind_slice line, uint32_t owner,
                   struct ind_steady now);

/* A line that will never come. */
void ind_sinks_lose(struct ind_sinks *sinks, uint32_t route, uint32_t owner);

/* Starts, writes on, hears of ends. `now`: of a clock that only goes forward. Returns how many lines wait. */
size_t ind_sinks_run(struct ind_sinks *sinks, struct ind_steady now);

/* The same after waiting until something more can be written, so long at most. */
size_t ind_sinks_wait(struct ind_sinks *sinks, int milliseconds);

/* Whether somebody may still take what waits for standard output, however long it takes. */
bool ind_sinks_worth_waiting(const struct ind_sinks *sinks);

/* From now on nothing is waited for that takes nothing for some seconds. */
void ind_sinks_hurry(struct ind_sinks *sinks);

/* Everything that waits is lost. */
void ind_sinks_give_up(struct ind_sinks *sinks);

/* The owner of every line that waits. */
void ind_sinks_waiting(const struct ind_sinks *sinks,
                       void (*visit)(void *context, uint32_t owner, uint32_t lines), void *context);

/* How many there are; fills *counts (new, to be freed; NULL where memory is out or there are none). */
size_t ind_sinks_count(const struct ind_sinks *sinks, struct ind_sink_count **counts);

#endif
