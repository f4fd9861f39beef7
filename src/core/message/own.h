/* core/message/own.h: the messages that the collector sends itself: what they are about, and how they are
 * written (RFC 5424 section 6). The ids are stable: rules and alerts go by them (docs/own-messages.md). */
#ifndef IND_CORE_MESSAGE_OWN_H
#define IND_CORE_MESSAGE_OWN_H

#include "core/message/names.h"
#include "core/time/civil.h"

/* A row in core/message/own.c and in docs/own-messages.md for each. */
enum ind_own {
    IND_OWN_STARTED,
    IND_OWN_LISTENING,
    IND_OWN_STOPPED,
    IND_OWN_START_FAILED,
    IND_OWN_RUNS_AS_ROOT,
    IND_OWN_RELOADED,
    IND_OWN_RELOAD_REFUSED,
    IND_OWN_CONFIGURATION_DOUBTFUL,
    IND_OWN_LOST,
    IND_OWN_KERNEL_DROPPED,
    IND_OWN_DISK_TAKES_NOTHING,
    IND_OWN_DISK_TAKES_AGAIN,
    IND_OWN_DISK_SILENT,
    IND_OWN_DISK_ANSWERS,
    IND_OWN_FILE_LOST,
    IND_OWN_FILE_REMOVED,
    IND_OWN_FILE_REPAIRED,
    IND_OWN_TOO_MANY_FILES,
    IND_OWN_ROTATION_FAILED,
    IND_OWN_ARCHIVE_FAILED,
    IND_OWN_ARCHIVE_CHANGED,
    IND_OWN_ARCHIVE_WITHOUT_POLICY,
    IND_OWN_COPY_FAILED,
    IND_OWN_COPY_WORKS,
    IND_OWN_REPORT_FAILED,
    IND_OWN_REPORT_WORKS,
    IND_OWN_DAYS_FAILED,
    IND_OWN_CATALOG_FAILED,
    IND_OWN_CATALOG_WORKS,
    IND_OWN_RESERVE_REACHED,
    IND_OWN_CLOCK_DOUBTED,
    IND_OWN_CERTIFICATE_ENDS,
    IND_OWN_TLS_FAILED,
    IND_OWN_CONNECTION_REFUSED,
    IND_OWN_CONNECTION_ENDED,
    IND_OWN_NO_DESCRIPTOR,
    IND_OWN_SOCKET_UNUSED,
    IND_OWN_NAME_CLAIMED,
    IND_OWN_TRAP_REFUSED,
    IND_OWN_LISTENER_PAUSED,
    IND_OWN_LISTENER_RESUMED,
    IND_OWN_DEVICE_SILENT,
    IND_OWN_DEVICE_HEARD,
    IND_OWN_DEVICE_UNKNOWN,
    IND_OWN_PROGRAM_FAILED,
    IND_OWN_RELAY_FAILED,
    IND_OWN_RELAY_WORKS,
    IND_OWN_RELAY_WAITED,
    IND_OWN_RELAY_GAVE_UP,
    IND_OWN_RELAY_QUEUE,
    IND_OWN_RELAY_LOOP,
    IND_OWN_TAKING_FAILED,
    IND_OWN_TAKING_WORKS,
    IND_OWN_ALERT_OPENED,
    IND_OWN_ALERT_REMINDER,
    IND_OWN_ALERT_OVER,
    IND_OWN_ALERTS_FAILED,
    IND_OWN_ALERTS_WORK,
    IND_OWN_ALERTS_MISSED,
    IND_OWN_CONTROL_FAILED,
    IND_OWN_READ_FAILED,
    IND_OWN_OUT_OF_MEMORY,
    IND_OWN_FAULT,
    IND_OWN_REPEATED,
    IND_OWN_LIMITED,
    IND_OWN_KINDS
};

/* Its MSGID, and its severity. */
struct ind_slice ind_own_id(enum ind_own own);
unsigned ind_own_severity(enum ind_own own);

/* A parameter of its structured data; a list ends with one whose name is NULL. The name is an SD-NAME
 * (section 6.3.3); the value may be anything: it is written as section 6.3.3 has it, bytes that are no UTF-8
 * as \xNN. */
struct ind_own_data {
    const char *name;
    struct ind_slice value;
};
#define IND_WITH(...) ((const struct ind_own_data[]){__VA_ARGS__, {NULL, {NULL, 0}}})

/* One whole message: "<43>1 TIME HOST indagator PROCESS ID [indagator@32473 …] text". `data`: NULL where
 * there is none. */
void ind_own_write(struct ind_buffer *buffer, enum ind_own own, ind_time time, struct ind_slice host,
                   unsigned long long process, const struct ind_own_data *data, struct ind_slice text);

#endif
