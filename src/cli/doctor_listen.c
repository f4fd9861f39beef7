/* What arrives at a running collector just now: from whom, where, in which form. */
#include "cli/doctor.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/doctor_heard.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { LONGEST_LINE = 4 << 20 };

struct listening {
    char *line; /* of which the end has not come */
    size_t length;
    struct ind_heard heard;
};

static void count(struct listening *listening, const json_t *message)
{
    const char *listener = ind_answer_text(message, "listener");
    if (strcmp(listener, "internal") != 0)
        ind_heard_add(&listening->heard, ind_answer_text(message, "sender"),
                      ind_answer_text(message, "device"), listener, ind_answer_text(message, "format"));
}

/* The first byte tells what a line is (docs/formats.md). */
static void take_line(struct listening *listening)
{
    json_error_t error;
    if (listening->length == 0)
        return;
    listening->line[listening->length] = '\0';
    if (listening->line[0] == '!')
        listening->heard.skipped += strtoull(listening->line + 1, NULL, 10);
    json_t *message = listening->line[0] == '=' ? json_loads(listening->line + 1, 0, &error) : NULL;
    if (message)
        count(listening, message);
    json_decref(message);
}

static bool hear(void *context, const char *bytes, size_t length)
{
    struct listening *listening = context;
    for (size_t i = 0; i < length; i++) {
        if (bytes[i] == '\n') {
            take_line(listening);
            listening->length = 0;
        } else if (listening->length < LONGEST_LINE) {
            listening->line[listening->length++] = bytes[i];
        }
    }
    return true;
}

int ind_doctor_listen(const struct ind_config *config, long milliseconds, bool json)
{
    struct listening listening = {.line = malloc(LONGEST_LINE + 1), .heard = {.rows = json_object()}};
    enum ind_control_client_result asked = IND_CONTROL_CLIENT_REFUSED;
    bool opened = true;
    if (listening.line && listening.heard.rows)
        asked = ind_ask_for(config, "/follow?layout=json", milliseconds, hear, &listening);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        opened = ind_doctor_listen_here(config, milliseconds, &listening.heard);
    else if (asked != IND_CONTROL_CLIENT_ANSWERED)
        ind_complain("the collector does not say what arrives");
    const bool good = asked == IND_CONTROL_CLIENT_ANSWERED || (asked == IND_CONTROL_CLIENT_NOBODY && opened);
    if (good)
        ind_heard_print(&listening.heard, (milliseconds + 999) / 1000, json);
    const bool some = listening.heard.messages > 0;
    json_decref(listening.heard.rows);
    free(listening.line);
    return !good ? IND_EXIT_FAILED : some ? IND_EXIT_DONE : IND_EXIT_NO;
}
