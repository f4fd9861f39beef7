#include "cli/check_here.h"

#include "cli/cli.h"
#include "collect/control/control_socket.h"
#include "net/socket.h"
#include "net/udp.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#define WARN(loaded, ...) ind_diagnostic_add(&(loaded)->diagnostics, true, NULL, 0, 0, __VA_ARGS__)

/* ---- Folders ---- */

/* The path, or the nearest folder above it that is there. */
static void nearest(const char *path, char there[4096])
{
    struct stat facts;
    snprintf(there, 4096, "%s", path);
    while (stat(there, &facts) != 0 && errno == ENOENT) {
        char *slash = strrchr(there, '/');
        if (!slash) {
            snprintf(there, 4096, ".");
            return;
        }
        slash[slash == there] = '\0';
    }
}

static void check_folder(struct ind_loaded *loaded, const char *what, const char *path)
{
    char there[4096];
    struct stat facts;
    nearest(path, there);
    if (stat(there, &facts) == 0 && !S_ISDIR(facts.st_mode))
        WARN(loaded, "%s: %s is no folder", what, there);
    else if (faccessat(AT_FDCWD, there, R_OK | W_OK | X_OK, AT_EACCESS) != 0)
        WARN(loaded, "%s: this user may not write to %s (%s); the one that runs the collector has to", what,
             there, strerror(errno));
}

static void check_space(struct ind_loaded *loaded)
{
    const struct ind_config *config = loaded->config;
    char there[4096], asked[32], has[32];
    struct statvfs facts;
    uint64_t all = 0;
    for (size_t i = 0; i < config->policy_count; i++)
        all += config->policies[i].keep.space;
    nearest(config->store, there);
    if (statvfs(there, &facts) != 0)
        return;
    uint64_t size = (uint64_t)facts.f_blocks * facts.f_frsize;
    if (size && all > size)
        WARN(loaded, "archives: the policies may take %s together, but the file system of %s has %s",
             ind_size_text(all, asked), config->store, ind_size_text(size, has));
}

/* ---- Ports ---- */

int ind_listen_here(const struct ind_listen_item *item)
{
    return ind_listens_on_udp(item) ? ind_udp_listen(item->address, item->port, false)
                                    : ind_tcp_listen(item->address, item->port, false);
}

static void check_port(struct ind_loaded *loaded, const struct ind_listen_item *item)
{
    int socket = ind_listen_here(item);
    if (socket >= 0)
        close(socket);
    else
        WARN(loaded, "%s: %s%s", item->text, strerror(errno),
             errno == EADDRINUSE ? "; another program listens there"
             : errno == EACCES   ? "; ports below 1024 need a right that this user has not"
                                 : "");
}

/* A socket's folder must be there; a collector makes none. */
static void check_local(struct ind_loaded *loaded, const struct ind_listen_item *item)
{
    char folder[4096];
    snprintf(folder, sizeof folder, "%s", item->address);
    char *slash = strrchr(folder, '/');
    if (slash)
        slash[slash == folder] = '\0';
    if (faccessat(AT_FDCWD, slash ? folder : ".", W_OK | X_OK, AT_EACCESS) != 0)
        WARN(loaded, "%s: %s", item->text, strerror(errno));
}

/* What listens at the control socket of this configuration holds its ports. */
static bool is_running(const struct ind_config *config)
{
    char path[4096];
    const char *reason;
    snprintf(path, sizeof path, "%s/" IND_CONTROL_SOCKET, config->state);
    int socket = ind_connect(IND_SEND_UNIX, path, NULL, NULL, &reason);
    if (socket >= 0)
        close(socket);
    return socket >= 0;
}

/* Nothing but white space and comments. */
static bool is_empty(const struct ind_source *source)
{
    struct ind_slice rest = {source->bytes, source->length}, line;
    while (ind_slice_line(&rest, &line)) {
        size_t at = 0;
        while (at < line.length && (line.at[at] == ' ' || line.at[at] == '\t' || line.at[at] == '\r'))
            at++;
        if (at < line.length && line.at[at] != '#')
            return false;
    }
    return true;
}

void ind_check_here(struct ind_loaded *loaded, bool ports)
{
    const struct ind_config *config = loaded->config;
    if (loaded->sources && !loaded->sources->next && is_empty(loaded->sources))
        WARN(loaded, "%s is empty: what holds without a file acts", loaded->sources->path);
    if (config->listener_count == 0)
        WARN(loaded,
             "nothing is listened on: collect would receive no message; add listen:, or give it files with "
             "--from");
    check_folder(loaded, "store", config->store);
    check_folder(loaded, "state", config->state);
    check_space(loaded);
    if (!ports)
        return;
    if (is_running(config)) {
        WARN(loaded,
             "the collector of this configuration is running, and holds its ports: they were not tried");
        return;
    }
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_item *item = &config->listeners[i];
        if (item->kind == IND_LISTEN_UNIX)
            check_local(loaded, item);
        else if (item->kind != IND_LISTEN_INHERITED && !item->nats)
            check_port(loaded, item);
    }
}
