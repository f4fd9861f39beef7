#include "cli/doctor_heard.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/table.h"

#include <stdio.h>

enum { MOST_ROWS = 1000 };

void ind_heard_add(struct ind_heard *heard, const char *sender, const char *device, const char *listener,
                   const char *form)
{
    char key[600];
    heard->messages++;
    snprintf(key, sizeof key, "%.100s\t%.300s\t%.20s", sender, listener, form);
    json_t *row = json_object_get(heard->rows, key);
    if (!row && json_object_size(heard->rows) < MOST_ROWS) {
        row = json_pack("{s:s,s:s,s:s,s:s,s:i}", "sender", *sender ? sender : "this machine", "device",
                        device, "listener", listener, "form", *form ? form : "bare", "messages", 0);
        if (row && json_object_set_new(heard->rows, key, row) != 0)
            row = NULL;
    }
    if (row)
        json_object_set_new(row, "messages",
                            json_integer((json_int_t)ind_answer_number(row, "messages") + 1));
}

void ind_heard_print(const struct ind_heard *heard, long seconds, bool json)
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
