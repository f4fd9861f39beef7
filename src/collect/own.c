#define _GNU_SOURCE
#include "collect/own.h"

#include "core/message/names.h"
#include <unistd.h>

void ind_own_write(struct ind_buffer *buffer, unsigned severity, ind_time time, struct ind_slice text)
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

void ind_own_write_news(struct ind_buffer *buffer, ind_time time, const struct ind_recall_news *news)
{
    char text[IND_RECALL_TEXT + 2 * IND_RECALL_NAME + 200];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_recall_write(news, &out);
    ind_own_write(buffer, news->kind == IND_EDIT_LIMIT ? IND_SEVERITY_WARNING : IND_SEVERITY_NOTICE, time,
                  ind_buffer_view(&out));
}
