/* collect/intake/trap_engines.h: the engines of SNMP version 3: what is known of those of senders, and our
 * own, to which informs are addressed (RFC 3414 section 2.2).
 *
 * All receivers share one: a sender may come by several addresses. What is known of another engine is
 * forgotten with the process; a number of them is remembered, the one that was heard longest ago goes first.
 */
#ifndef IND_COLLECT_INTAKE_TRAP_ENGINES_H
#define IND_COLLECT_INTAKE_TRAP_ENGINES_H

#include "core/trap/usm.h"

struct ind_trap_engines;

enum { IND_TRAP_ENGINES = 4096 };

/* Our own engine: its id, how often it has started, and since when it runs. */
struct ind_own_engine {
    char id[IND_USM_ENGINE];
    size_t id_length;
    uint32_t boots;
    struct ind_steady began;
};

/* New. NULL where memory is out. */
struct ind_trap_engines *ind_trap_engines_new(void);
/* Which our own is: before anything is asked. */
void ind_trap_engines_begin(struct ind_trap_engines *engines, const struct ind_own_engine *own);
void ind_trap_engines_free(struct ind_trap_engines *engines);

const struct ind_own_engine *ind_trap_engines_own(const struct ind_trap_engines *engines);

/* ind_usm_window for the engine of an authentic message. Any thread. */
enum ind_trap_fault ind_trap_engines_ask(struct ind_trap_engines *engines, const struct ind_usm *usm,
                                         struct ind_steady now);
/* Whether such an inform (by a hash of its sender and contents) was here within a minute; it is known from
 * now on. Any thread. */
bool ind_trap_engines_seen(struct ind_trap_engines *engines, uint64_t inform, struct ind_steady now);

#endif
