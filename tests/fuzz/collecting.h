/* A collector within this process, for fuzzers of what it is asked while it runs: started once, and ended
 * with the process. It must answer every question within seconds, and its books must add up. */
#ifndef IND_FUZZ_COLLECTING_H
#define IND_FUZZ_COLLECTING_H

#include "collect/control/control_socket.h"
#include "collect/daemon/collector.h"
#include "config/config.h"
#include "net/socket.h"
#include "temporary.h"

#include <errno.h>
#include <jansson.h>
#include <pthread.h>
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <sys/un.h>
#include <time.h>

enum { IND_FUZZ_PATIENCE = 20 }; /* seconds, of a machine that does other things as well */

static struct {
    pthread_t thread;
    char config_path[100], control_path[100], local_path[100];
    struct ind_loaded loaded;
    enum ind_collect_status status;
    struct ind_collect_result result;
} ind_fuzz;

static inline void ind_fuzz_write(const char *path, const char *text)
{
    FILE *file = fopen(path, "w");
    if (!file || fputs(text, file) < 0 || fclose(file) != 0)
        abort();
}

static inline void ind_fuzz_report(void *context, const char *text)
{
    (void)context;
    if (getenv("IND_TELL"))
        fprintf(stderr, "%s\n", text);
}

static inline void *ind_fuzz_collect(void *context)
{
    const struct ind_collect_settings settings = {.config = ind_fuzz.loaded.config,
                                                  .config_path = ind_fuzz.config_path,
                                                  .report = ind_fuzz_report,
                                                  .received = IND_TIME_NONE};
    (void)context;
    ind_fuzz.status = ind_collect(&settings, &ind_fuzz.result);
    return NULL;
}

/* The end is part of the trial: nothing is left, and what was received is what has ended. */
static inline void ind_fuzz_end(void)
{
    kill(getpid(), SIGTERM);
    pthread_join(ind_fuzz.thread, NULL);
    /* In part: what a program that was named did not take is lost. */
    if ((ind_fuzz.status != IND_COLLECT_DONE && ind_fuzz.status != IND_COLLECT_PART) ||
        !ind_fuzz.result.adds_up)
        abort();
    ind_collect_result_free(&ind_fuzz.result);
    ind_loaded_free(&ind_fuzz.loaded);
}

static inline int ind_fuzz_connect(const char *path, int type)
{
    struct sockaddr_un address = {.sun_family = AF_UNIX};
    const struct timeval patience = {.tv_sec = IND_FUZZ_PATIENCE};
    int fd = socket(AF_UNIX, type, 0);
    snprintf(address.sun_path, sizeof address.sun_path, "%s", path);
    if (fd < 0 || setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience) != 0 ||
        setsockopt(fd, SOL_SOCKET, SO_SNDTIMEO, &patience, sizeof patience) != 0)
        abort();
    if (connect(fd, (struct sockaddr *)&address, sizeof address) == 0)
        return fd;
    close(fd);
    return -1;
}

/* Reads to the end, what has room of it as a text. A hang is a finding. */
static inline void ind_fuzz_read_all(int fd, char *text, size_t room)
{
    char rest[4096];
    size_t length = 0;
    for (ssize_t got = 1; got != 0;) {
        bool fits = length + 1 < room;
        got = fits ? recv(fd, text + length, room - 1 - length, 0) : recv(fd, rest, sizeof rest, 0);
        if (got < 0 && errno == ECONNRESET)
            break;
        if (got < 0 && errno != EINTR)
            abort();
        length += fits && got > 0 ? (size_t)got : 0;
    }
    text[length] = '\0';
    close(fd);
}

/* Asks as a client of the control socket does. Returns HTTP's code; `text` holds the answer's body. */
static inline int ind_fuzz_ask(const char *request, char *text, size_t room)
{
    char line[200];
    int length = snprintf(line, sizeof line, "%s HTTP/1.0\r\n\r\n", request);
    int fd = ind_fuzz_connect(ind_fuzz.control_path, SOCK_STREAM);
    if (fd < 0 || send(fd, line, (size_t)length, MSG_NOSIGNAL) != length)
        abort();
    ind_fuzz_read_all(fd, text, room);
    int code = strncmp(text, "HTTP/1.", 7) == 0 ? atoi(text + 9) : 0;
    const char *body = strstr(text, "\r\n\r\n");
    if (code == 0 || !body)
        abort();
    memmove(text, body + 4, strlen(body + 4) + 1);
    return code;
}

/* The status; its books add up at any moment. To be released. */
static inline json_t *ind_fuzz_status(void)
{
    static char text[1 << 20];
    json_t *status = ind_fuzz_ask("GET /status", text, sizeof text) == 200 ? json_loads(text, 0, NULL) : NULL;
    if (!json_is_true(json_object_get(json_object_get(status, "ledger"), "adds_up")))
        abort();
    return status;
}

static inline void ind_fuzz_rest(void)
{
    const struct timespec while_it_works = {.tv_nsec = 2000000};
    nanosleep(&while_it_works, NULL);
}

/* Starts the collector with `config`, behind which its folders and a listener "local" are added. */
static inline void ind_fuzz_begin(const char *kind, const char *(*config)(void))
{
    if (ind_fuzz.config_path[0])
        return;
    const char *folder = ind_fuzz_folder(kind);
    signal(SIGPIPE, SIG_IGN);
    snprintf(ind_fuzz.config_path, sizeof ind_fuzz.config_path, "%s/indagator.yaml", folder);
    snprintf(ind_fuzz.control_path, sizeof ind_fuzz.control_path, "%s/state/" IND_CONTROL_SOCKET, folder);
    snprintf(ind_fuzz.local_path, sizeof ind_fuzz.local_path, "%s/local", folder);
    ind_fuzz_write(ind_fuzz.config_path, config());
    ind_config_load(ind_fuzz.config_path, &ind_fuzz.loaded);
    if (!ind_fuzz.loaded.config || pthread_create(&ind_fuzz.thread, NULL, ind_fuzz_collect, NULL) != 0)
        abort();
    atexit(ind_fuzz_end);
    for (int tries = IND_FUZZ_PATIENCE * 500, fd = -1; fd < 0; ind_fuzz_rest()) {
        fd = ind_fuzz_connect(ind_fuzz.control_path, SOCK_STREAM);
        if (fd >= 0)
            close(fd);
        else if (tries-- == 0)
            abort();
    }
}

#endif
