#include "net/service_manager.h"

#include <stdarg.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "net/socket.h"

struct ind_service_manager {
    int socket;
    struct sockaddr_un name;
    socklen_t length;
    int64_t watchdog;
};

static bool set_name(struct ind_service_manager *manager, const char *path)
{
    size_t length = strlen(path);
    if ((path[0] != '/' && path[0] != '@') || length < 2 || length >= sizeof manager->name.sun_path)
        return false;
    manager->name.sun_family = AF_UNIX;
    memcpy(manager->name.sun_path, path, length);
    if (path[0] == '@')
        manager->name.sun_path[0] = '\0';
    manager->length = (socklen_t)(offsetof(struct sockaddr_un, sun_path) + length);
    return true;
}

static int64_t read_watchdog(void)
{
    const char *span = getenv("WATCHDOG_USEC"), *process = getenv("WATCHDOG_PID");
    long long microseconds = span ? strtoll(span, NULL, 10) : 0;
    if (process && strtoll(process, NULL, 10) != (long long)getpid())
        return 0;
    return microseconds > 0 && microseconds < INT64_MAX / 1000 ? microseconds * 1000 : 0;
}

static struct ind_service_manager *find(const char *path)
{
    struct ind_service_manager *manager = path ? calloc(1, sizeof *manager) : NULL;
    if (!manager)
        return NULL;
    manager->socket = set_name(manager, path) ? socket(AF_UNIX, SOCK_DGRAM, 0) : -1;
    if (manager->socket < 0) {
        free(manager);
        return NULL;
    }
    ind_socket_set_flags(manager->socket);
    manager->watchdog = read_watchdog();
    return manager;
}

struct ind_service_manager *ind_service_manager_find(void)
{
    struct ind_service_manager *manager = find(getenv("NOTIFY_SOCKET"));
    (void)unsetenv("NOTIFY_SOCKET");
    (void)unsetenv("WATCHDOG_USEC");
    (void)unsetenv("WATCHDOG_PID");
    return manager;
}

void ind_service_manager_free(struct ind_service_manager *manager)
{
    if (!manager)
        return;
    close(manager->socket);
    free(manager);
}

void ind_service_manager_tell(const struct ind_service_manager *manager, const char *format, ...)
{
    char text[1024];
    va_list arguments;
    if (!manager)
        return;
    va_start(arguments, format);
    int length = vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    if (length <= 0)
        return;
    (void)sendto(manager->socket, text, (size_t)length < sizeof text ? (size_t)length : sizeof text - 1,
                 MSG_NOSIGNAL, (const struct sockaddr *)&manager->name, manager->length);
}

int64_t ind_service_manager_watchdog(const struct ind_service_manager *manager)
{
    return manager ? manager->watchdog : 0;
}
