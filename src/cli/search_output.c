/* What is found goes into a new file beside the one that was named, which takes its name once it is whole:
 * nothing that the search is about to read is lost, and nobody finds a half. */
#include "cli/search_output.h"

#include "collect/runtime/clock.h"
#include "store/disk/reader.h"
#include "store/read/lookup.h"
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

/* A screenful that is not full after that is shown without a pager. */
#define WAIT_FOR_MORE IND_SECOND

/* Whether the file would stand below a folder of the collector's: there it may be one that is written to. */
static bool would_lie_in(const char *folder, const char *path)
{
    char parent[4096];
    const char *slash = strrchr(path, '/');
    snprintf(parent, sizeof parent, "%.*s",
             slash == path ? 1
             : slash       ? (int)(slash - path)
                           : 1,
             slash ? path : ".");
    return ind_lies_in(folder, path) || ind_lies_in(folder, parent) || ind_is_same_folder(folder, parent);
}

static bool may_write(const struct ind_search_options *given, const struct ind_config *config)
{
    const char *path = given->to;
    struct stat facts;
    bool there = stat(path, &facts) == 0;
    if (would_lie_in(config->store, path) || would_lie_in(config->state, path))
        ind_complain("--to: %s lies in the %s folder, which belongs to the collector; name another place",
                     path, would_lie_in(config->store, path) ? "store" : "state");
    else if (there && !S_ISREG(facts.st_mode))
        ind_complain("--to: %s is no file; name one, or let the shell write there (> %s)", path, path);
    else if (there && !given->force)
        ind_complain("--to: %s is there already; name another, or give --force", path);
    else
        return true;
    return false;
}

/* Whoever interrupts a search finds no half of its file. */
static const char *unfinished;

static void leave_nothing(int number)
{
    (void)unlink(unfinished);
    (void)signal(number, SIG_DFL);
    (void)raise(number);
}

static const int endings[] = {SIGINT, SIGTERM, SIGHUP};

static void watch_for_signals(const char *path)
{
    unfinished = path;
    for (size_t i = 0; i < sizeof endings / sizeof *endings; i++)
        (void)signal(endings[i], path ? leave_nothing : SIG_DFL);
}

/* A file of this name that is this program's own: whoever ends the program finds it watched. */
static int create_watched(const char *path)
{
    sigset_t held, before;
    sigemptyset(&held);
    for (size_t i = 0; i < sizeof endings / sizeof *endings; i++)
        sigaddset(&held, endings[i]);
    (void)sigprocmask(SIG_BLOCK, &held, &before);
    const int file = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    const int error = errno;
    if (file >= 0)
        watch_for_signals(path);
    (void)sigprocmask(SIG_SETMASK, &before, NULL);
    errno = error;
    return file;
}

bool ind_search_output_begin(struct ind_search_output *output, const struct ind_search_options *given,
                             const struct ind_config *config, int *code)
{
    output->packer = NULL;
    output->filled = 0;
    output->failed = output->broken = false;
    *code = IND_EXIT_CALL;
    const char *pager = getenv("PAGER");
    output->holds = !given->to && pager && *pager && ind_goes_to_terminal(stdout);
    output->began = ind_steady_now();
    if (!given->to)
        return true;
    if (!may_write(given, config))
        return false;
    *code = IND_EXIT_FAILED;
    snprintf(output->temporary, sizeof output->temporary, "%s.%ld.part", given->to, (long)getpid());
    const int file = create_watched(output->temporary);
    if (file >= 0)
        output->packer = ind_packer_new(file, ind_compression_of(given->to));
    if (output->packer)
        return true;
    ind_complain("cannot write %s: %s", output->temporary, strerror(errno));
    if (file >= 0) {
        (void)unlink(output->temporary);
        watch_for_signals(NULL);
    }
    return false;
}

static bool note_error(struct ind_search_output *output, int error)
{
    output->failed = true;
    output->error = error;
    output->broken = error == EPIPE && !output->packer;
    return false;
}

/* ---- Pages ---- */

/* Rows that a text takes on the terminal, at least. */
static size_t rows_of(const char *text, size_t length)
{
    size_t rows = 0;
    for (const char *at = text, *end = text + length;
         length && (at = memchr(at, '\n', (size_t)(end - at))) != NULL; at++)
        rows++;
    const size_t wide = length / (2 * ind_terminal_width()); /* half of it may be colours */
    return rows > wide ? rows : wide;
}

/* What has waited goes to the terminal, or to the pager where that does not take it. */
static bool release(struct ind_search_output *output)
{
    const char *held = output->held.at;
    const size_t length = output->held.length;
    output->holds = false;
    output->held.length = 0;
    if (rows_of(held, length) + 1 >= ind_terminal_rows())
        ind_page_begin();
    errno = 0;
    return length == 0 || (fwrite(held, 1, length, stdout) == length && fflush(stdout) == 0);
}

static bool put(struct ind_search_output *output, const char *bytes, size_t length)
{
    errno = 0;
    if (output->holds && ind_grown_add(&output->held, bytes, length)) {
        if (rows_of(output->held.at, output->held.length) + 1 < ind_terminal_rows() || release(output))
            return true;
        return note_error(output, errno);
    }
    if (output->holds && !release(output)) /* there is no memory to wait in */
        return note_error(output, errno);
    const bool good = output->packer ? ind_packer_write(output->packer, bytes, length)
                                     : fwrite(bytes, 1, length, stdout) == length && fflush(stdout) == 0;
    return good || note_error(output, errno);
}

static bool flush(struct ind_search_output *output)
{
    const size_t filled = output->filled;
    output->filled = 0;
    return filled == 0 || put(output, output->buffer, filled);
}

/* Lines are gathered: a call for each costs more than all else. */
bool ind_search_output_write(struct ind_search_output *output, struct ind_slice bytes)
{
    if (output->failed || (bytes.length > sizeof output->buffer - output->filled && !flush(output)))
        return false;
    if (bytes.length > sizeof output->buffer)
        return put(output, bytes.at, bytes.length);
    if (bytes.length)
        memcpy(output->buffer + output->filled, bytes.at, bytes.length);
    output->filled += bytes.length;
    return true;
}

bool ind_search_output_pause(struct ind_search_output *output)
{
    if (output->packer || output->failed)
        return !output->failed;
    if (!flush(output))
        return false;
    if (output->holds && output->held.length &&
        ind_steady_from(output->began, ind_steady_now()) > WAIT_FOR_MORE && !release(output))
        return note_error(output, errno);
    struct pollfd out = {.fd = STDOUT_FILENO, .events = 0};
    return poll(&out, 1, 0) <= 0 || !(out.revents & POLLERR) || note_error(output, EPIPE);
}

/* Without --force a file that has come meanwhile stays. */
static bool take_name(const struct ind_search_output *output, const struct ind_search_options *given,
                      bool whole)
{
    const bool good = whole && (given->force ? rename(output->temporary, given->to) == 0
                                             : link(output->temporary, given->to) == 0);
    const int error = errno;
    if (!good || !given->force)
        (void)unlink(output->temporary);
    errno = error;
    return good;
}

bool ind_search_output_end(struct ind_search_output *output, const struct ind_search_options *given,
                           bool whole)
{
    if (!output->failed)
        (void)flush(output);
    if (output->holds && !output->failed && !release(output))
        (void)note_error(output, errno);
    free(output->held.at);
    output->held = (struct ind_grown){NULL, 0, 0};
    ind_page_end();
    if (output->packer) {
        const bool ended = ind_packer_end(output->packer);
        if (!ended && !output->failed)
            (void)note_error(output, errno);
        if (!take_name(output, given, whole && !output->failed) && whole && !output->failed)
            (void)note_error(output, errno);
        watch_for_signals(NULL);
    }
    if (output->failed && !output->broken)
        ind_complain("cannot write %s: %s", given->to ? given->to : "the results", strerror(output->error));
    return !output->failed || output->broken;
}
