/* cli/demo_run.h: the program's own commands, shown as one would type them, and carried out. */
#ifndef IND_CLI_DEMO_RUN_H
#define IND_CLI_DEMO_RUN_H

#include <stdbool.h>
#include <sys/types.h>

enum { IND_DEMO_PATIENCE = 15000 }; /* milliseconds */

/* A folder in which all is done, and a collector that runs there. */
struct ind_demo {
    char program[4096], data[4096], folder[2048];
    pid_t collector;
    int reports, summary; /* what the collector tells, and what it prints at its end */
    unsigned udp, tcp;    /* ports */
};

void ind_demo_heading(const char *text);
/* Shows the call, then runs it; of what it prints the first `most` lines (0: all). Returns its exit code. */
int ind_demo_show(const struct ind_demo *demo, const char *const *arguments, int most);
/* The first lines of what comes through a pipe, and the rest unseen. */
void ind_demo_show_lines(int from, int most);

/* Starts a collector with a configuration (NULL: indagator.yaml), which listens over TCP last; waits until it
 * does. False, told, where it does not. */
bool ind_demo_collect(struct ind_demo *demo, const char *config);
/* Ends it: its exit code, negated, is in demo->collector. */
void ind_demo_end(struct ind_demo *demo);

#endif
