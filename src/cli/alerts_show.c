#include "cli/alerts.h"
#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "core/alert/letter.h"
#include "store/alert/alert_file.h"
#include "store/alert/alert_json.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

enum { MOST = 100000 };

/* Nothing is there as long as there never was a collector with alerts. */
static enum ind_alert_file_status open_file(const struct ind_config *config, struct ind_alert_file **file)
{
    char reason[4600];
    const enum ind_alert_file_status status =
        ind_alert_file_open(config->state, true, file, reason, sizeof reason);
    if (status != IND_ALERT_FILE_GOOD && status != IND_ALERT_FILE_NONE)
        ind_complain("%s", reason);
    return status;
}

static const char *state_name(const struct ind_alert *alert)
{
    return alert->state == IND_ALERT_IS_OPEN        ? "open"
           : alert->state == IND_ALERT_ACKNOWLEDGED ? "acknowledged"
                                                    : "over";
}

struct showing {
    const struct ind_config *config;
    bool json;
    ind_time from, to;
    struct ind_table *table;
    size_t count;
    struct ind_alert_file *file;
};

/* For people on the collector's clock, for programs in UTC. */
static void write_time(const struct showing *showing, ind_time time, char text[40])
{
    struct ind_buffer out = ind_buffer_on(text, 39);
    if (time == IND_TIME_NONE)
        ind_buffer_text(&out, showing->json ? "" : "-");
    else if (showing->json)
        ind_time_write(&out, time);
    else
        ind_alert_time_write(time, showing->config->zone, &out);
    text[out.length] = '\0';
}

static void add_time(const struct showing *showing, ind_time time)
{
    char text[40];
    write_time(showing, time, text);
    ind_table_text(showing->table, text);
}

static void add_text(struct ind_table *table, const char *text)
{
    char room[512];
    ind_table_text(table, ind_escaped(ind_slice_of(text), room, sizeof room));
}

/* ---- list ---- */

static const struct ind_column open_columns[] = {{"number", true}, {"since", false},     {"alert", false},
                                                 {"key", false},   {"state", false},     {"messages", true},
                                                 {"last", false},  {"seen to by", false}};
enum { OPEN_COLUMNS = sizeof open_columns / sizeof *open_columns };

static void add_open(void *context, const struct ind_saved_alert *saved)
{
    struct showing *showing = context;
    const struct ind_alert *alert = &saved->alert;
    showing->count++;
    ind_table_number(showing->table, alert->number);
    add_time(showing, alert->opened);
    add_text(showing->table, saved->name);
    add_text(showing->table, alert->key[0] || showing->json ? alert->key : "-");
    ind_table_text(showing->table, state_name(alert));
    ind_table_number(showing->table, alert->count);
    add_time(showing, alert->last);
    add_text(showing->table, alert->who[0] || showing->json ? alert->who : "-");
}

static void show_mute(void *context, const char *name, const char *key, ind_time until, const char *who)
{
    struct showing *showing = context;
    char text[40], room[3][256];
    write_time(showing, until, text);
    printf("muted until %s by %s: %s%s%s\n", text, ind_escaped(ind_slice_of(who), room[0], 256),
           ind_escaped(ind_slice_of(name), room[1], 256), key ? ", " : "",
           key ? ind_escaped(ind_slice_of(key), room[2], 256) : "");
}

static int end_list(struct showing *showing, enum ind_alert_file_status status, bool good,
                    const char *nothing)
{
    if (status == IND_ALERT_FILE_GOOD && !good)
        ind_complain("%s", ind_alert_file_reason(showing->file));
    if (good && showing->count)
        ind_table_print(showing->table, showing->json, stdout);
    else if ((good || status == IND_ALERT_FILE_NONE) && !showing->json)
        printf("%s\n", nothing);
    ind_table_free(showing->table);
    return status == IND_ALERT_FILE_NONE ? IND_EXIT_NO
           : !good                       ? IND_EXIT_FAILED
           : showing->count              ? IND_EXIT_DONE
                                         : IND_EXIT_NO;
}

int ind_alerts_list(const struct ind_config *config, const struct ind_alerts_call *given)
{
    struct showing showing = {.config = config, .json = given->json};
    const enum ind_alert_file_status status = open_file(config, &showing.file);
    showing.table = ind_table_new(open_columns, OPEN_COLUMNS);
    const bool good =
        status == IND_ALERT_FILE_GOOD &&
        ind_alert_file_list(showing.file, false, given->name, given->key, MOST, add_open, &showing);
    const int exit = end_list(&showing, status, good, "no alert is open");
    if (good && !given->json)
        (void)ind_alert_file_mutes(showing.file, ind_now(), show_mute, &showing);
    ind_alert_file_close(showing.file);
    return exit;
}

/* ---- history ---- */

static const struct ind_column over_columns[] = {{"number", true},      {"opened", false}, {"over", false},
                                                 {"alert", false},      {"key", false},    {"messages", true},
                                                 {"seen to by", false}, {"note", false}};
enum { OVER_COLUMNS = sizeof over_columns / sizeof *over_columns };

static void add_over(void *context, const struct ind_saved_alert *saved)
{
    struct showing *showing = context;
    const struct ind_alert *alert = &saved->alert;
    if (alert->ended < showing->from || alert->ended >= showing->to)
        return;
    showing->count++;
    ind_table_number(showing->table, alert->number);
    add_time(showing, alert->opened);
    add_time(showing, alert->ended);
    add_text(showing->table, saved->name);
    add_text(showing->table, alert->key[0] || showing->json ? alert->key : "-");
    ind_table_number(showing->table, alert->count);
    add_text(showing->table, alert->who[0] || showing->json ? alert->who : "-");
    add_text(showing->table, alert->note ? alert->note : showing->json ? "" : "-");
}

int ind_alerts_history(const struct ind_config *config, const struct ind_alerts_call *given)
{
    struct showing showing = {.config = config, .json = given->json, .to = INT64_MAX};
    if (!ind_moment_option("since", given->since ? given->since : "30d", config->zone, false,
                           &showing.from) ||
        (given->until && !ind_moment_option("until", given->until, config->zone, true, &showing.to)))
        return IND_EXIT_CALL;
    const enum ind_alert_file_status status = open_file(config, &showing.file);
    showing.table = ind_table_new(over_columns, OVER_COLUMNS);
    const bool good =
        status == IND_ALERT_FILE_GOOD &&
        ind_alert_file_list(showing.file, true, given->name, given->key, MOST, add_over, &showing);
    const int exit = end_list(&showing, status, good, "no alert was over in that time");
    ind_alert_file_close(showing.file);
    return exit;
}

/* ---- show ---- */

static void print_json(const struct ind_saved_alert *saved)
{
    json_t *object = json_object();
    ind_alert_add_to_json(object, saved->name, &saved->alert);
    json_object_set_new(object, "state", json_string(state_name(&saved->alert)));
    json_dumpf(object, stdout, JSON_COMPACT);
    putchar('\n');
    json_decref(object);
}

static void print_row(const char *name, const char *text)
{
    char room[1024];
    printf("%-13s %s\n", name, ind_escaped(ind_slice_of(text), room, sizeof room));
}

static void print_time(const struct showing *showing, const char *name, ind_time time)
{
    char text[40];
    if (time == IND_TIME_NONE)
        return;
    write_time(showing, time, text);
    print_row(name, text);
}

static void print_text(const struct showing *showing, const struct ind_saved_alert *saved)
{
    const struct ind_alert *alert = &saved->alert;
    const struct ind_alert_rule *rule = ind_config_alert(showing->config, saved->name);
    char text[2000];
    struct ind_buffer reason = ind_buffer_on(text, sizeof text - 1);
    snprintf(text, sizeof text, "%llu", (unsigned long long)alert->number);
    print_row("number", text);
    print_row("alert", saved->name);
    print_row("key", alert->key[0] ? alert->key : "-");
    print_row("state", state_name(alert));
    if (rule) {
        ind_alert_describe(rule, &reason);
        text[reason.length] = '\0';
        print_row("rule", text);
        print_row("when", rule->when_text ? rule->when_text : "every message");
    }
    print_time(showing, "opened", alert->opened);
    snprintf(text, sizeof text, "%llu", (unsigned long long)alert->count);
    print_row("messages", text);
    print_time(showing, "first", alert->first);
    print_time(showing, "last", alert->last);
    print_time(showing, "acknowledged", alert->acknowledged);
    if (alert->who[0])
        print_row("seen to by", alert->who);
    if (alert->note)
        print_row("note", alert->note);
    print_time(showing, "over", alert->ended);
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (alert->lines[i])
            printf("%s  %s\n", i ? "" : "\n", ind_escaped(ind_slice_of(alert->lines[i]), text, sizeof text));
}

static void print(void *context, const struct ind_saved_alert *saved)
{
    struct showing *showing = context;
    if (showing->count++)
        return;
    if (showing->json)
        print_json(saved);
    else
        print_text(showing, saved);
}

int ind_alerts_show(const struct ind_config *config, const struct ind_alerts_call *given)
{
    struct showing showing = {.config = config, .json = given->json};
    char *end;
    const unsigned long long number = strtoull(given->name, &end, 10);
    const bool by_number = given->name[0] && *end == '\0' && !given->key && number;
    const enum ind_alert_file_status status = open_file(config, &showing.file);
    bool good = status == IND_ALERT_FILE_GOOD;
    if (good && by_number)
        good = ind_alert_file_one(showing.file, number, print, &showing);
    for (int over = 0; good && !showing.count && over < 2; over++)
        good = ind_alert_file_list(showing.file, over, given->name, given->key, 1, print, &showing);
    if (status == IND_ALERT_FILE_GOOD && !good)
        ind_complain("%s", ind_alert_file_reason(showing.file));
    else if ((good || status == IND_ALERT_FILE_NONE) && !showing.count)
        ind_complain("no alert of that %s is known", by_number    ? "number"
                                                     : given->key ? "name and key"
                                                                  : "name");
    ind_alert_file_close(showing.file);
    return showing.count                           ? IND_EXIT_DONE
           : good || status == IND_ALERT_FILE_NONE ? IND_EXIT_NO
                                                   : IND_EXIT_FAILED;
}
