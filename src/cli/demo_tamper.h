/* cli/demo_tamper.h: what somebody does to an archive in the demo, for the chain to tell. */
#ifndef IND_CLI_DEMO_TAMPER_H
#define IND_CLI_DEMO_TAMPER_H

#include <stdbool.h>
#include <stddef.h>

/* Unpacks the first archive below `folder` of the demo's store, makes an address in it another, and puts it
 * back as text; *name is its path in the store. False, reported, where it cannot. */
bool ind_demo_tamper(const char *store, const char *folder, char *name, size_t room);

#endif
