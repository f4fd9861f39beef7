/* tests/support/support.h: what the tests share. Include it first: it brings cmocka with what that needs. */
#ifndef IND_TESTS_SUPPORT_H
#define IND_TESTS_SUPPORT_H

#include <setjmp.h>
#include <stdarg.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include <cmocka.h>

#include "core/base/slice.h"
#include <stdio.h>
#include <stdlib.h>
#include <sys/types.h>

/* A slice equals a text. */
#define assert_slice(slice, text) ind_assert_slice((slice), (text), __FILE__, __LINE__)
void ind_assert_slice(struct ind_slice slice, const char *text, const char *file, int line);

/* A new folder, removed with all that is in it by ind_folder_remove. The text is to be freed. */
char *ind_folder_new(void);
void ind_folder_remove(char *folder);

/* A path below a folder: from a small set of buffers, good for a few calls. */
const char *ind_path(const char *folder, const char *name);

void ind_write_file(const char *path, const char *text);
/* A whole file, terminated, to be freed; NULL where there is none. */
char *ind_read_file(const char *path, size_t *length);

/* Whether a file is there and holds a text. */
bool ind_file_holds(const char *path, const char *text);

/* The program under test. */
struct ind_ran {
    int status; /* exit code; -1 where it ended otherwise */
    char *out, *err;
};

/* Runs the built program in `folder` with the arguments (the last one NULL) and waits for it. */
struct ind_ran ind_run(const char *folder, ...);
/* Any other command line, by /bin/sh. */
struct ind_ran ind_shell(const char *folder, const char *format, ...) __attribute__((format(printf, 2, 3)));
void ind_ran_free(struct ind_ran *ran);

/* A line of a configuration: what the collector says of itself when it starts, reloads and ends is not filed,
 * so that a test can count what is its own. */
#define IND_QUIET                                                                                            \
    "edits: [{name: quiet, when: 'msgid in (\"started\", \"stopped\", \"reloaded\", "                        \
    "\"configuration-doubtful\", \"device-unknown\")', drop: yes}]\n"

/* A collector in the background. */
struct ind_running {
    pid_t process;
    unsigned port; /* of the first udp listener, where there is one */
    bool listening;
    char *out, *err; /* files that hold what it prints */
};

/* Starts `collect -c indagator.yaml` in `folder`, and waits until it listens. */
struct ind_running ind_collect_start(const char *folder);
/* The same by /bin/sh, after the commands of `before` ("export X=1; "). */
struct ind_running ind_collect_start_after(const char *folder, const char *before);
/* The same, with a hard limit of descriptors. */
struct ind_running ind_collect_start_limited(const char *folder, unsigned descriptors);
/* The port after a text such as "tcp 127.0.0.1:" in what it has told; waits for it. */
unsigned ind_reported_port(struct ind_running *running, const char *text);
/* Ends it with a signal and waits; returns its exit code, -1 where it ended otherwise. */
int ind_collect_stop(struct ind_running *running, int signal);

/* Asks `done` every few milliseconds until it says yes; fails the test after half a minute. */
void ind_wait_until(bool (*done)(void *context), void *context, const char *what);

/* Waits until no UDP socket of that port has anything left to be read: a sender that asks now and then has
 * nothing dropped by the kernel. Where the system does not tell, it returns at once. */
void ind_wait_until_read(unsigned port);

/* How many lines all live files and archives below folder/log hold, decompressed by the ordinary tools. */
size_t ind_count_lines(const char *folder);

#endif
