/* What arrives at a running collector just now: from whom, where, in which form. */
#include "cli/doctor.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/table.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_ROWS = 1000, LONGEST_LINE = 4 << 20 };

struct heard {
    char *line; /* of which the end has not come */
    size_t length;
    json_t *rows; /* by sender, listener and form: an object with these, and how many */
    uint64_t messages, skipped;
};

static void count(struct heard *heard, const json_t *message)
{
    char key[600];
    const char *sender = ind_answer_text(message, "sender"), *listener = ind_answer_text(message, "listener"),
               *form = ind_answer_text(message, "format");
    if (strcmp(listener, "internal") == 0)
        return;
    heard->messages++;
    snprintf(key, sizeof key, "%.100s\t%.300s\t%.20s", sender, listener, form);
    json_t *row = json_object_get(heard->rows, key);
    if (!row && json_object_size(heard->rows) < MOST_ROWS) {
        row = json_pack("{s:s,s:s,s:s,s:s,s:i}", "sender", *sender ? sender : "this machine", "device",
                        ind_answer_text(message, "device"), "listener", listener, "form",
                        *form ? form : "bare", "messages", 0);
        if (row && json_object_set_new(heard->rows, key, row) != 0)
            row = NULL;
    }
    if (row)
        json_object_set_new(row, "messages",
                            json_integer((json_int_t)ind_answer_number(row, "messages") + 1));
}

/* The first byte tells what a line is (docs/formats.md). */
static void take_line(struct heard *heard)
{
    json_error_t error;
    if (heard->length == 0)
        return;
    heard->line[heard->length] = '\0';
    if (heard->line[0] == '!')
        heard->skipped += strtoull(heard->line + 1, NULL, 10);
    json_t *message = heard->line[0] == '=' ? json_loads(heard->line + 1, 0, &error) : NULL;
    if (message)
        count(heard, message);
    json_decref(message);
}

static bool hear(void *context, const char *bytes, size_t length)
{
    struct heard *heard = context;
    for (size_t i = 0; i < length; i++) {
        if (bytes[i] == '\n') {
            take_line(heard);
            heard->length = 0;
        } else if (heard->length < LONGEST_LINE) {
            heard->line[heard->length++] = bytes[i];
        }
    }
    return true;
}

static void print_heard(const struct heard *heard, long seconds, bool json)
{
    static const struct ind_column columns[] = {
        {"sender", false}, {"device", false}, {"listener", false}, {"form", false}, {"messages", true}};
    struct ind_table *table = ind_table_new(columns, 5);
    const char *key;
    json_t *row;
    char number[32];
    json_object_foreach(heard->rows, key, row)
    {
        ind_table_text(table, ind_answer_text(row, "sender"));
        ind_table_text(table, ind_answer_text(row, "device"));
        ind_table_text(table, ind_answer_text(row, "listener"));
        ind_table_text(table, ind_answer_text(row, "form"));
        ind_table_number(table, ind_answer_number(row, "messages"));
    }
    if (json || json_object_size(heard->rows) > 0)
        ind_table_print(table, json, stdout);
    ind_table_free(table);
    if (json)
        return;
    printf("%s%s messages in %ld s", json_object_size(heard->rows) ? "\n" : "",
           ind_grouped(heard->messages, number), seconds);
    if (heard->skipped)
        printf("; %s more came too fast to be looked at", ind_grouped(heard->skipped, number));
    printf("\n");
}

int ind_doctor_listen(const struct ind_config *config, long milliseconds, bool json)
{
    struct heard heard = {.line = malloc(LONGEST_LINE + 1), .rows = json_object()};
    enum ind_control_client_result asked = IND_CONTROL_CLIENT_REFUSED;
    if (heard.line && heard.rows)
        asked = ind_ask_for(config, "/follow?layout=json", milliseconds, hear, &heard);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(config);
    else if (asked == IND_CONTROL_CLIENT_ANSWERED)
        print_heard(&heard, (milliseconds + 999) / 1000, json);
    else
        ind_complain("the collector does not say what arrives");
    const bool some = heard.messages > 0;
    json_decref(heard.rows);
    free(heard.line);
    return asked != IND_CONTROL_CLIENT_ANSWERED ? IND_EXIT_FAILED : some ? IND_EXIT_DONE : IND_EXIT_NO;
}
