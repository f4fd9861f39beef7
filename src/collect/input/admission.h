/* collect/input/admission.h: how many stream connections may be open at once, and how much they may hold
 * together.
 *
 * Shared by all receivers. No address may have more than half of all connections, so that one host cannot
 * keep all others out. */
#ifndef IND_COLLECT_INPUT_ADMISSION_H
#define IND_COLLECT_INPUT_ADMISSION_H

#include "core/base/address.h"

#include <stdatomic.h>

struct ind_admission;

struct ind_admission *ind_admission_new(size_t most);
void ind_admission_free(struct ind_admission *admission);
/* Any thread. False where no more may come in, or none from this address. */
bool ind_admission_enter(struct ind_admission *admission, const struct ind_address *address);
void ind_admission_leave(struct ind_admission *admission, const struct ind_address *address);
/* Bytes that all connections hold of messages that are not whole, or not taken yet; and a change of what one
 * of them holds. Any thread. */
size_t ind_admission_held(struct ind_admission *admission);
void ind_admission_count_held(struct ind_admission *admission, size_t before, size_t after);

#endif
