/* tests/support/standing_in.h: the stand-in for a mail server or an HTTP address (standin.py), beside live.h.
 */
#ifndef IND_TESTS_STANDING_IN_H
#define IND_TESTS_STANDING_IN_H

#include "support/live.h"

#include <sys/wait.h>

static pid_t standin;
static unsigned standin_port;

static inline void end_standin(void)
{
    if (standin > 0) {
        (void)kill(standin, SIGKILL);
        (void)waitpid(standin, NULL, 0);
    }
    standin = 0;
}

static inline int leave(void **state)
{
    end_standin();
    return tear_down(state);
}

static inline bool has_port(void *context)
{
    char *text = ind_read_file(ind_path(folder, "port"), NULL);
    (void)context;
    standin_port = text ? (unsigned)strtoul(text, NULL, 10) : 0;
    free(text);
    return standin_port > 0;
}

/* "smtp" or "http", whose first connection meets a fault; "": none. */
static inline void begin_standin(const char *kind, const char *fault)
{
    end_standin();
    (void)unlink(ind_path(folder, "port"));
    standin = fork();
    if (standin == 0) {
        execlp("python3", "python3", IND_TESTS_FOLDER "/support/standin.py", kind, folder,
               fault[0] ? fault : NULL, (char *)NULL);
        _exit(127);
    }
    ind_wait_until(has_port, NULL, "the server listens");
}

#endif
