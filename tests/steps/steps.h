/* The counter of steps_test.c. */
#ifndef IND_STEPS_H
#define IND_STEPS_H

#include <stdint.h>

extern uint64_t ind_steps;

#endif
