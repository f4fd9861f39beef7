/* net/service_manager.h: what a service manager is told of us, and how often it wants to hear that we live.
 *
 * The protocol is documented with the service manager: NOTIFY_SOCKET names a local datagram socket ("@": of
 * the abstract kind), a datagram holds lines NAME=VALUE; WATCHDOG_USEC and WATCHDOG_PID say within which time
 * it wants WATCHDOG=1 again. */
#ifndef IND_NET_SERVICE_MANAGER_H
#define IND_NET_SERVICE_MANAGER_H

#include <stdbool.h>
#include <stdint.h>

struct ind_service_manager;

/* Takes it from the environment, so that programs that are started do not speak for us. To be called once,
 * before there are threads. NULL where there is none. */
struct ind_service_manager *ind_service_manager_find(void);
void ind_service_manager_free(struct ind_service_manager *manager); /* accepts NULL */

/* Sends one datagram; never waits, and nobody minds where it is lost. Any thread; NULL: nobody listens. */
void ind_service_manager_tell(const struct ind_service_manager *manager, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

/* Nanoseconds within which it wants to hear from us; 0: it does not. */
int64_t ind_service_manager_watchdog(const struct ind_service_manager *manager);

#endif
