#include "collect/runtime/reporter.h"

#include "collect/runtime/clock.h"
#include "collect/runtime/internal_message.h"
#include "core/message/names.h"
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>

void ind_reporter_begin(struct ind_reporter *reporter, void (*report)(void *context, const char *text),
                        void *context)
{
    *reporter = (struct ind_reporter){.report = report, .context = context};
    ind_mutex_begin(&reporter->mutex);
}

void ind_reporter_end(struct ind_reporter *reporter)
{
    char *messages[IND_INTERNAL_MESSAGES];
    size_t lost = 0;
    for (size_t count = ind_reporter_drain(reporter, messages, &lost); count > 0;)
        free(messages[--count]);
    ind_mutex_end(&reporter->mutex);
}

static void file(struct ind_reporter *reporter, struct ind_slice message)
{
    char *copy = malloc(message.length + 1);
    if (copy) {
        memcpy(copy, message.at, message.length);
        copy[message.length] = '\0';
    }
    ind_mutex_lock(&reporter->mutex);
    bool room = copy && reporter->count < IND_INTERNAL_MESSAGES;
    if (room)
        reporter->messages[reporter->count++] = copy;
    else
        reporter->lost++;
    ind_mutex_unlock(&reporter->mutex);
    if (!room)
        free(copy);
    ind_waker_wake(reporter->filer);
}

/* To the administrator where it is to be `told`, and among the messages. */
static void say(struct ind_reporter *reporter, bool told, enum ind_own own, const struct ind_own_data *data,
                const char *format, va_list arguments)
{
    char text[1600], message[IND_INTERNAL_MESSAGE];
    struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
    vsnprintf(text, sizeof text, format, arguments);
    if (told)
        reporter->report(reporter->context, text);
    if (!reporter->filer || ind_own_severity(own) > IND_SEVERITY_NOTICE)
        return;
    ind_internal_message_write(&buffer, own, ind_now(), data, ind_slice_of(text));
    file(reporter, ind_buffer_view(&buffer));
}

void ind_report(struct ind_reporter *reporter, enum ind_own own, const struct ind_own_data *data,
                const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    say(reporter, true, own, data, format, arguments);
    va_end(arguments);
}

void ind_file_own(struct ind_reporter *reporter, enum ind_own own, const struct ind_own_data *data,
                  const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    say(reporter, false, own, data, format, arguments);
    va_end(arguments);
}

void ind_report_edit(struct ind_reporter *reporter, const struct ind_edit_report *report)
{
    char message[IND_INTERNAL_MESSAGE];
    struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
    if (!reporter->filer)
        return;
    ind_internal_message_of_edit(&buffer, ind_now(), report);
    file(reporter, ind_buffer_view(&buffer));
}

size_t ind_reporter_drain(struct ind_reporter *reporter, char *messages[IND_INTERNAL_MESSAGES], size_t *lost)
{
    ind_mutex_lock(&reporter->mutex);
    size_t count = reporter->count;
    memcpy(messages, reporter->messages, count * sizeof *messages);
    *lost += reporter->lost;
    reporter->count = reporter->lost = 0;
    ind_mutex_unlock(&reporter->mutex);
    return count;
}
