#define _GNU_SOURCE
#include "collect/runtime/internal_message.h"

#include "core/message/names.h"
#include <unistd.h>

void ind_this_machine(char *host, size_t room)
{
    host[room - 1] = '\0';
    if (gethostname(host, room - 1) != 0 || !host[0])
        memcpy(host, "localhost", sizeof "localhost");
}

void ind_internal_message_write(struct ind_buffer *buffer, unsigned severity, ind_time time,
                                struct ind_slice text)
{
    char host[256] = "-";
    (void)gethostname(host, sizeof host - 1);
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, IND_FACILITY_SYSLOG * 8u + severity);
    ind_buffer_text(buffer, ">1 ");
    ind_time_write(buffer, time);
    ind_buffer_byte(buffer, ' ');
    ind_buffer_text(buffer, host);
    ind_buffer_text(buffer, " indagator ");
    ind_buffer_number(buffer, (unsigned long long)getpid());
    ind_buffer_text(buffer, " - - ");
    ind_buffer_slice(buffer, text);
}

void ind_internal_message_of_edit(struct ind_buffer *buffer, ind_time time,
                                  const struct ind_edit_report *news)
{
    char text[IND_EDIT_REPORT_TEXT + 2 * IND_EDIT_REPORT_NAME + 200];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_edit_report_write(news, &out);
    ind_internal_message_write(buffer,
                               news->kind == IND_EDIT_LIMIT ? IND_SEVERITY_WARNING : IND_SEVERITY_NOTICE,
                               time, ind_buffer_view(&out));
}
