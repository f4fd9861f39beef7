/* simulate/fleet_file.h: a file that tells what a made-up fleet says (docs/formats.md). */
#ifndef IND_SIMULATE_FLEET_FILE_H
#define IND_SIMULATE_FLEET_FILE_H

#include "config/source.h"
#include "simulate/fleet.h"

struct ind_fleet_file;

/* Reads it. New in *file, also where it has mistakes, which *diagnostics then tells; false then. */
bool ind_fleet_read(const char *path, struct ind_fleet_file **file, struct ind_diagnostics *diagnostics);
/* Accepts NULL. Diagnostics must have been reported before. */
void ind_fleet_free(struct ind_fleet_file *file);

struct ind_fleet *ind_fleet_of(struct ind_fleet_file *file);

#endif
