/* cli/demo_ship.h: the demo's second act: a ship's collector passes on to the head office, loses its link,
 * and catches up. */
#ifndef IND_CLI_DEMO_SHIP_H
#define IND_CLI_DEMO_SHIP_H

#include "cli/demo_run.h"

/* In the folder of `demo`, whose own collector has ended. False, told, where something fails. */
bool ind_demo_play_ship(const struct ind_demo *demo);

#endif
