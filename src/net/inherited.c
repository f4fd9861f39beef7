#include "net/inherited.h"

#include "net/socket.h"
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/un.h>
#include <unistd.h>

enum { FIRST = 3, MOST = 256 };

struct ind_inherited {
    size_t count;
    char *names; /* each terminated */
    struct {
        int socket;
        const char *name;
    } list[];
};

/* A whole number and nothing else; -1 where it is none. */
static long number_of(const char *text)
{
    char *end;
    long number = text && *text ? strtol(text, &end, 10) : -1;
    return number >= 0 && !*end ? number : -1;
}

static struct ind_inherited *take(size_t count, const char *names)
{
    struct ind_inherited *inherited = calloc(1, sizeof *inherited + count * sizeof *inherited->list);
    char *rest = inherited ? strdup(names ? names : "") : NULL;
    if (!rest) {
        free(inherited);
        return NULL;
    }
    inherited->names = rest;
    inherited->count = count;
    for (size_t i = 0; i < count; i++) {
        char *colon = rest ? strchr(rest, ':') : NULL;
        inherited->list[i].socket = FIRST + (int)i;
        inherited->list[i].name = rest ? rest : "";
        ind_socket_set_flags(inherited->list[i].socket);
        if (colon)
            *colon = '\0';
        rest = colon ? colon + 1 : NULL;
    }
    return inherited;
}

struct ind_inherited *ind_inherited_take(void)
{
    struct ind_inherited *inherited = NULL;
    long process = number_of(getenv("LISTEN_PID")), count = number_of(getenv("LISTEN_FDS"));
    if (process == (long)getpid() && count > 0 && count <= MOST)
        inherited = take((size_t)count, getenv("LISTEN_FDNAMES"));
    (void)unsetenv("LISTEN_PID");
    (void)unsetenv("LISTEN_FDS");
    (void)unsetenv("LISTEN_FDNAMES");
    return inherited;
}

void ind_inherited_free(struct ind_inherited *inherited)
{
    if (!inherited)
        return;
    for (size_t i = 0; i < inherited->count; i++)
        close(inherited->list[i].socket);
    free(inherited->names);
    free(inherited);
}

size_t ind_inherited_count(const struct ind_inherited *inherited)
{
    return inherited ? inherited->count : 0;
}

int ind_inherited_at(const struct ind_inherited *inherited, size_t number, const char **name)
{
    *name = inherited->list[number].name;
    return inherited->list[number].socket;
}

enum ind_socket_kind ind_socket_kind(int socket)
{
    struct sockaddr_storage name = {0};
    socklen_t length = sizeof name;
    int type = 0, listens = 0;
    socklen_t size = sizeof type;
    if (getsockname(socket, (struct sockaddr *)&name, &length) != 0 ||
        getsockopt(socket, SOL_SOCKET, SO_TYPE, &type, &size) != 0)
        return IND_SOCKET_OTHER;
    size = sizeof listens;
    if (type == SOCK_STREAM &&
        (getsockopt(socket, SOL_SOCKET, SO_ACCEPTCONN, &listens, &size) != 0 || !listens))
        return IND_SOCKET_OTHER;
    bool local = name.ss_family == AF_UNIX, ip = name.ss_family == AF_INET || name.ss_family == AF_INET6;
    if ((!local && !ip) || (type != SOCK_STREAM && type != SOCK_DGRAM))
        return IND_SOCKET_OTHER;
    return type == SOCK_DGRAM ? (local ? IND_SOCKET_LOCAL_DATAGRAMS : IND_SOCKET_DATAGRAMS)
                              : (local ? IND_SOCKET_LOCAL_CONNECTIONS : IND_SOCKET_CONNECTIONS);
}
