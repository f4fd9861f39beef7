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

void ind_internal_message_write(struct ind_buffer *buffer, enum ind_own own, ind_time time,
                                const struct ind_own_data *data, struct ind_slice text)
{
    char host[256] = "-";
    (void)gethostname(host, sizeof host - 1);
    ind_own_write(buffer, own, time, ind_slice_of(host), (unsigned long long)getpid(), data, text);
}

void ind_internal_message_of_edit(struct ind_buffer *buffer, ind_time time,
                                  const struct ind_edit_report *news)
{
    char text[IND_EDIT_REPORT_TEXT + 2 * IND_EDIT_REPORT_NAME + 200];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_edit_report_write(news, &out);
    ind_internal_message_write(
        buffer, news->kind == IND_EDIT_LIMIT ? IND_OWN_LIMITED : IND_OWN_REPEATED, time,
        IND_WITH({"edit", ind_slice_of(news->edit)}, {"device", ind_slice_of(news->device)}),
        ind_buffer_view(&out));
}
