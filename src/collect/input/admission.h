/* collect/input/admission.h: how many stream connections may be open at once, and how much they may hold
 * together.
 *
 * Shared by the door and all receivers. No address may have all of them, so that one host cannot keep all
 * others out. */
#ifndef IND_COLLECT_INPUT_ADMISSION_H
#define IND_COLLECT_INPUT_ADMISSION_H

#include "config/config.h"

#include <stdatomic.h>

struct ind_admission;

/* Nobody may come in until there are limits. NULL where memory is out. */
struct ind_admission *ind_admission_new(void);
void ind_admission_free(struct ind_admission *admission);
/* The limits of a configuration, but no more than `most` connections. Any thread. */
void ind_admission_set_limits(struct ind_admission *admission, const struct ind_limits *limits, size_t most);
/* Any thread. False where no more may come in, or none from this address. */
bool ind_admission_enter(struct ind_admission *admission, const struct ind_address *address);
void ind_admission_leave(struct ind_admission *admission, const struct ind_address *address);
/* Bytes that all connections hold of messages that are not whole, or not taken yet; and a change of what one
 * of them holds. Any thread. */
size_t ind_admission_held(struct ind_admission *admission);
void ind_admission_count_held(struct ind_admission *admission, size_t before, size_t after);

#endif
