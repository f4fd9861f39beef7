#include "core/message/own.h"

#include "core/base/escape.h"

static const struct {
    const char *id;
    uint8_t severity;
} rows[IND_OWN_KINDS] = {
    [IND_OWN_STARTED] = {"started", IND_SEVERITY_NOTICE},
    [IND_OWN_LISTENING] = {"listening", IND_SEVERITY_INFO},
    [IND_OWN_STOPPED] = {"stopped", IND_SEVERITY_NOTICE},
    [IND_OWN_START_FAILED] = {"start-failed", IND_SEVERITY_ERROR},
    [IND_OWN_RUNS_AS_ROOT] = {"runs-as-root", IND_SEVERITY_WARNING},
    [IND_OWN_RELOADED] = {"reloaded", IND_SEVERITY_NOTICE},
    [IND_OWN_RELOAD_REFUSED] = {"reload-refused", IND_SEVERITY_ERROR},
    [IND_OWN_CONFIGURATION_DOUBTFUL] = {"configuration-doubtful", IND_SEVERITY_WARNING},
    [IND_OWN_LOST] = {"lost", IND_SEVERITY_ERROR},
    [IND_OWN_KERNEL_DROPPED] = {"kernel-dropped", IND_SEVERITY_WARNING},
    [IND_OWN_DISK_TAKES_NOTHING] = {"disk-takes-nothing", IND_SEVERITY_ERROR},
    [IND_OWN_DISK_TAKES_AGAIN] = {"disk-takes-again", IND_SEVERITY_NOTICE},
    [IND_OWN_DISK_SILENT] = {"disk-silent", IND_SEVERITY_ERROR},
    [IND_OWN_DISK_ANSWERS] = {"disk-answers", IND_SEVERITY_NOTICE},
    [IND_OWN_FILE_LOST] = {"file-lost", IND_SEVERITY_ERROR},
    [IND_OWN_FILE_REMOVED] = {"file-removed", IND_SEVERITY_WARNING},
    [IND_OWN_FILE_REPAIRED] = {"file-repaired", IND_SEVERITY_WARNING},
    [IND_OWN_TOO_MANY_FILES] = {"too-many-files", IND_SEVERITY_WARNING},
    [IND_OWN_ROTATION_FAILED] = {"rotation-failed", IND_SEVERITY_WARNING},
    [IND_OWN_ARCHIVE_FAILED] = {"archive-failed", IND_SEVERITY_WARNING},
    [IND_OWN_ARCHIVE_CHANGED] = {"archive-changed", IND_SEVERITY_ERROR},
    [IND_OWN_ARCHIVE_WITHOUT_POLICY] = {"archive-without-policy", IND_SEVERITY_WARNING},
    [IND_OWN_COPY_FAILED] = {"copy-failed", IND_SEVERITY_WARNING},
    [IND_OWN_COPY_WORKS] = {"copy-works", IND_SEVERITY_NOTICE},
    [IND_OWN_REPORT_FAILED] = {"report-failed", IND_SEVERITY_WARNING},
    [IND_OWN_REPORT_WORKS] = {"report-works", IND_SEVERITY_NOTICE},
    [IND_OWN_DAYS_FAILED] = {"days-failed", IND_SEVERITY_WARNING},
    [IND_OWN_CATALOG_FAILED] = {"catalog-failed", IND_SEVERITY_WARNING},
    [IND_OWN_CATALOG_WORKS] = {"catalog-works", IND_SEVERITY_NOTICE},
    [IND_OWN_RESERVE_REACHED] = {"reserve-reached", IND_SEVERITY_WARNING},
    [IND_OWN_CLOCK_DOUBTED] = {"clock-doubted", IND_SEVERITY_WARNING},
    [IND_OWN_CERTIFICATE_ENDS] = {"certificate-ends", IND_SEVERITY_WARNING},
    [IND_OWN_TLS_FAILED] = {"tls-failed", IND_SEVERITY_WARNING},
    [IND_OWN_CONNECTION_REFUSED] = {"connection-refused", IND_SEVERITY_WARNING},
    [IND_OWN_CONNECTION_ENDED] = {"connection-ended", IND_SEVERITY_WARNING},
    [IND_OWN_NO_DESCRIPTOR] = {"no-descriptor", IND_SEVERITY_WARNING},
    [IND_OWN_SOCKET_UNUSED] = {"socket-unused", IND_SEVERITY_WARNING},
    [IND_OWN_NAME_CLAIMED] = {"name-claimed", IND_SEVERITY_WARNING},
    [IND_OWN_TRAP_REFUSED] = {"trap-refused", IND_SEVERITY_WARNING},
    [IND_OWN_LISTENER_PAUSED] = {"listener-paused", IND_SEVERITY_NOTICE},
    [IND_OWN_LISTENER_RESUMED] = {"listener-resumed", IND_SEVERITY_NOTICE},
    [IND_OWN_DEVICE_SILENT] = {"device-silent", IND_SEVERITY_WARNING},
    [IND_OWN_DEVICE_HEARD] = {"device-heard", IND_SEVERITY_NOTICE},
    [IND_OWN_DEVICE_UNKNOWN] = {"device-unknown", IND_SEVERITY_NOTICE},
    [IND_OWN_PROGRAM_FAILED] = {"program-failed", IND_SEVERITY_WARNING},
    [IND_OWN_RELAY_FAILED] = {"relay-failed", IND_SEVERITY_WARNING},
    [IND_OWN_RELAY_WORKS] = {"relay-works", IND_SEVERITY_NOTICE},
    [IND_OWN_RELAY_WAITED] = {"relay-waited", IND_SEVERITY_NOTICE},
    [IND_OWN_RELAY_GAVE_UP] = {"relay-gave-up", IND_SEVERITY_ERROR},
    [IND_OWN_RELAY_QUEUE] = {"relay-queue", IND_SEVERITY_ERROR},
    [IND_OWN_RELAY_LOOP] = {"relay-loop", IND_SEVERITY_ERROR},
    [IND_OWN_TAKING_FAILED] = {"taking-failed", IND_SEVERITY_WARNING},
    [IND_OWN_TAKING_WORKS] = {"taking-works", IND_SEVERITY_NOTICE},
    [IND_OWN_ALERT_OPENED] = {"alert-opened", IND_SEVERITY_WARNING},
    [IND_OWN_ALERT_REMINDER] = {"alert-reminder", IND_SEVERITY_WARNING},
    [IND_OWN_ALERT_OVER] = {"alert-over", IND_SEVERITY_NOTICE},
    [IND_OWN_ALERTS_FAILED] = {"alerts-failed", IND_SEVERITY_ERROR},
    [IND_OWN_ALERTS_WORK] = {"alerts-work", IND_SEVERITY_NOTICE},
    [IND_OWN_ALERTS_MISSED] = {"alerts-missed", IND_SEVERITY_WARNING},
    [IND_OWN_CONTROL_FAILED] = {"control-failed", IND_SEVERITY_WARNING},
    [IND_OWN_READ_FAILED] = {"read-failed", IND_SEVERITY_ERROR},
    [IND_OWN_OUT_OF_MEMORY] = {"out-of-memory", IND_SEVERITY_CRITICAL},
    [IND_OWN_FAULT] = {"fault", IND_SEVERITY_ERROR},
    [IND_OWN_REPEATED] = {"repeated", IND_SEVERITY_NOTICE},
    [IND_OWN_LIMITED] = {"limited", IND_SEVERITY_WARNING},
};

struct ind_slice ind_own_id(enum ind_own own)
{
    return ind_slice_of(rows[own].id);
}

unsigned ind_own_severity(enum ind_own own)
{
    return rows[own].severity;
}

/* Section 6.3.3: quote, backslash and bracket have a backslash before them. What has no place in UTF-8 text
 * was escaped before. */
static void write_value(struct ind_buffer *buffer, struct ind_slice value)
{
    char room[1200];
    struct ind_buffer clean = ind_buffer_on(room, sizeof room);
    const size_t most = sizeof room / 4;
    ind_escape_shown(&clean, (struct ind_slice){value.at, value.length < most ? value.length : most});
    for (size_t i = 0; i < clean.length; i++) {
        if (room[i] == '"' || room[i] == '\\' || room[i] == ']')
            ind_buffer_byte(buffer, '\\');
        ind_buffer_byte(buffer, room[i]);
    }
}

static void write_data(struct ind_buffer *buffer, const struct ind_own_data *data)
{
    ind_buffer_text(buffer, "[indagator@32473");
    for (; data->name; data++) {
        ind_buffer_byte(buffer, ' ');
        ind_buffer_text(buffer, data->name);
        ind_buffer_text(buffer, "=\"");
        write_value(buffer, data->value);
        ind_buffer_byte(buffer, '"');
    }
    ind_buffer_byte(buffer, ']');
}

void ind_own_write(struct ind_buffer *buffer, enum ind_own own, ind_time time, struct ind_slice host,
                   unsigned long long process, const struct ind_own_data *data, struct ind_slice text)
{
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, IND_FACILITY_SYSLOG * 8u + rows[own].severity);
    ind_buffer_text(buffer, ">1 ");
    ind_time_write(buffer, time);
    ind_buffer_byte(buffer, ' ');
    ind_buffer_slice(buffer, host);
    ind_buffer_text(buffer, " indagator ");
    ind_buffer_number(buffer, process);
    ind_buffer_byte(buffer, ' ');
    ind_buffer_text(buffer, rows[own].id);
    ind_buffer_byte(buffer, ' ');
    if (data && data->name)
        write_data(buffer, data);
    else
        ind_buffer_byte(buffer, '-');
    ind_buffer_byte(buffer, ' ');
    ind_buffer_slice(buffer, text);
}
