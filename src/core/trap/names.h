/* core/trap/names.h: what object identifiers are called, and how bad it is when one arrives.
 *
 * The standard traps and what they carry are known (standard.c); a house adds its own. An identifier is
 * looked up by its longest beginning that has a name. Made once, then only read, by any thread. */
#ifndef IND_CORE_TRAP_NAMES_H
#define IND_CORE_TRAP_NAMES_H

#include "core/base/slice.h"

#include <stdint.h>

struct ind_trap_name {
    struct ind_slice oid; /* as encoded (core/trap/ber.h) */
    struct ind_slice name;
    struct ind_slice values;   /* "1=up;2=down": what whole numbers mean; or empty */
    int8_t facility, severity; /* of traps that begin so; -1: nothing is said */
    bool group; /* others are below it: what follows it is part of a name, not the instance of an object */
};

struct ind_trap_names;

/* New; copies the `count` names of the house, which go before the standard ones. Of two with one identifier
 * the last counts. NULL where memory is out. */
struct ind_trap_names *ind_trap_names_new(const struct ind_trap_name *own, size_t count);
void ind_trap_names_free(struct ind_trap_names *names);

/* The one with the longest beginning of `oid`; what follows that in *rest. NULL where none is. */
const struct ind_trap_name *ind_trap_names_find(const struct ind_trap_names *names, struct ind_slice oid,
                                                struct ind_slice *rest);
/* The one of that name, or NULL. */
const struct ind_trap_name *ind_trap_names_named(const struct ind_trap_names *names, struct ind_slice name);

/* What a whole number is called in `values`; empty where it has no name there. */
struct ind_slice ind_trap_value_name(struct ind_slice values, int64_t number);
/* The number of a name in `values`. */
bool ind_trap_value_number(struct ind_slice values, struct ind_slice name, int64_t *number);
/* Whether `values` are so written: "NUMBER=WORD", with ";" between, each word of what a bare value may have.
 */
bool ind_trap_values_are_good(struct ind_slice values);

/* Whether it can stand as the key of key=value: letters, digits, "-", "_" and ".", a letter first. */
bool ind_trap_name_is_good(struct ind_slice name);

/* ---- standard.c: for names.c only ---- */

struct ind_standard_name {
    const char *oid, *name, *values;
    int8_t facility, severity;
    bool group;
};
extern const struct ind_standard_name ind_standard_names[];
extern const size_t ind_standard_name_count;

#endif
