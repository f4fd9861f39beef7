/* The demo's calls of the program, and its collectors. */
#include "cli/demo_run.h"
#include "cli/cli.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

void ind_demo_heading(const char *text)
{
    bool colour = ind_colour();
    printf("\n%s%s%s\n", colour ? IND_BOLD : "", text, colour ? IND_PLAIN : "");
}

/* Starts the program with arguments in the demo's folder; its output goes where `out` and `errors` say,
 * unless they are -1. */
static pid_t start(const struct ind_demo *demo, const char *const *arguments, int out, int errors)
{
    fflush(stdout);
    pid_t child = fork();
    if (child != 0)
        return child;
    if (out >= 0)
        dup2(out, STDOUT_FILENO);
    if (errors >= 0)
        dup2(errors, STDERR_FILENO);
    if (chdir(demo->folder) == 0)
        execv(demo->program, (char *const *)(uintptr_t)arguments);
    _exit(127);
}

static int wait_for(pid_t child)
{
    int status = 0;
    while (waitpid(child, &status, 0) < 0 && errno == EINTR)
        ;
    return WIFEXITED(status) ? WEXITSTATUS(status) : IND_EXIT_FAILED;
}

static void show_call(const char *const *arguments)
{
    printf("\n$ indagator");
    for (size_t i = 1; arguments[i]; i++) {
        bool quote = strpbrk(arguments[i], " {}\"*<") != NULL;
        printf(" %s%s%s", quote ? "'" : "", arguments[i], quote ? "'" : "");
    }
}

/* The first lines of what comes through a pipe, and the rest unseen. */
void ind_demo_show_lines(int from, int most)
{
    FILE *stream = fdopen(from, "r");
    char *line = NULL;
    size_t room = 0;
    while (stream && getline(&line, &room, stream) > 0)
        if (most-- > 0)
            fputs(line, stdout);
    free(line);
    if (stream)
        fclose(stream);
}

/* Shows the call as one would type it, then runs it; of what it prints the first `most` lines (0: all). */
int ind_demo_show(const struct ind_demo *demo, const char *const *arguments, int most)
{
    int ends[2];
    show_call(arguments);
    if (most)
        printf(" | head -n %d", most);
    printf("\n");
    if (most == 0)
        return wait_for(start(demo, arguments, -1, -1));
    if (pipe(ends) != 0)
        return IND_EXIT_FAILED;
    (void)fcntl(ends[0], F_SETFD, FD_CLOEXEC);
    pid_t child = start(demo, arguments, ends[1], -1);
    close(ends[1]);
    ind_demo_show_lines(ends[0], most);
    return wait_for(child);
}

static unsigned reported_port(const char *reported, const char *what)
{
    const char *said = strstr(reported, what);
    return said && strchr(said, '\n') ? (unsigned)strtoul(said + strlen(what), NULL, 10) : 0;
}

/* Reads what the collector tells until it says where it listens. */
static bool wait_for_ports(struct ind_demo *demo)
{
    char text[4096];
    size_t length = 0;
    struct pollfd ready = {demo->reports, POLLIN, 0};
    while (length < sizeof text - 1 && poll(&ready, 1, IND_DEMO_PATIENCE) == 1) {
        ssize_t got = read(demo->reports, text + length, sizeof text - 1 - length);
        if (got <= 0)
            break;
        length += (size_t)got;
        text[length] = '\0';
        demo->udp = reported_port(text, "listening on udp 127.0.0.1:");
        demo->tcp = reported_port(text, "listening on tcp 127.0.0.1:");
        if (demo->tcp)
            return true; /* it is told last */
    }
    ind_complain("the collector did not start: %.*s", (int)length, text);
    return false;
}

bool ind_demo_collect(struct ind_demo *demo, const char *config)
{
    int reports[2], summary[2];
    const char *const arguments[] = {"indagator", "collect", config ? "-c" : NULL, config, NULL};
    if (pipe(reports) != 0 || pipe(summary) != 0)
        return false;
    (void)fcntl(reports[0], F_SETFD, FD_CLOEXEC);
    (void)fcntl(summary[0], F_SETFD, FD_CLOEXEC);
    printf("\n$ indagator collect%s%s &\n", config ? " -c " : "", config ? config : "");
    demo->collector = start(demo, arguments, summary[1], reports[1]);
    close(reports[1]);
    close(summary[1]);
    demo->reports = reports[0];
    demo->summary = summary[0];
    return demo->collector > 0 && wait_for_ports(demo);
}

void ind_demo_end(struct ind_demo *demo)
{
    if (demo->collector > 0) {
        fflush(stdout);
        kill(demo->collector, SIGTERM);
        demo->collector = -wait_for(demo->collector);
    }
}
