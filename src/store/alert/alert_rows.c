/* The tables `alerts`, `watched` and `counted`. */
#include "store/alert/alert_file_private.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>

/* Numbers that anything has come to so far; others are not looked at. */
#define OURS "number BETWEEN 1 AND 1000000000000000"

static const char *const state_names[] = {"over", "open", "acknowledged"};

static char *lines_of(const struct ind_alert *alert)
{
    json_t *list = json_array();
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (alert->lines[i])
            json_array_append_new(list, json_string(alert->lines[i]));
    char *text = json_dumps(list, JSON_COMPACT);
    json_decref(list);
    return text;
}

bool ind_alert_file_save(struct ind_alert_file *file, const struct ind_alert *alert)
{
    char *lines = lines_of(alert);
    const bool over = alert->ended != IND_TIME_NONE;
    const bool good = ind_alert_file_do(
        file,
        "INSERT INTO alerts VALUES(?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)"
        " ON CONFLICT(number) DO UPDATE SET state = ?4, first = ?6, last = ?7, over = ?8, messages = ?9,"
        " acknowledged = ?10, who = ?11, note = ?12, lines = ?13",
        "itttnnnnintt"
        "t",
        (int64_t)alert->number, alert->rule->name, alert->key,
        state_names[over ? IND_ALERT_WATCHED : alert->state], alert->opened, alert->first, alert->last,
        alert->ended, (int64_t)alert->count, alert->acknowledged, alert->who[0] ? alert->who : NULL,
        alert->note, lines ? lines : "[]");
    free(lines);
    return good && ind_alert_file_do(file, "DELETE FROM counted WHERE name = ?1 AND key = ?2", "tt",
                                     alert->rule->name, alert->key);
}

bool ind_alert_file_count(struct ind_alert_file *file, const struct ind_alert *alert,
                          const struct ind_alert_counted *counted, ind_time until)
{
    json_t *list = json_array();
    for (size_t i = 0; i < IND_ALERT_PARTS; i++)
        json_array_append_new(list, json_integer(counted->parts[i]));
    char *parts = json_dumps(list, JSON_COMPACT), *lines = lines_of(alert);
    const bool good = parts && lines &&
                      ind_alert_file_do(file,
                                        "INSERT OR REPLACE INTO counted VALUES(?1, ?2, ?3, ?4, ?5, ?6, ?7,"
                                        " ?8, ?9, ?10)",
                                        "tttinniitt", alert->rule->name, alert->key,
                                        alert->rule->by_text ? alert->rule->by_text : "", until, alert->first,
                                        alert->last, counted->part, counted->newest, parts, lines);
    json_decref(list);
    free(parts);
    free(lines);
    return good;
}

bool ind_alert_file_prune_counted(struct ind_alert_file *file, ind_time now)
{
    return ind_alert_file_do(file, "DELETE FROM counted WHERE until < ?1", "i", now);
}

bool ind_alert_file_watch(struct ind_alert_file *file, const struct ind_alert *alert)
{
    return ind_alert_file_do(file,
                             "INSERT INTO watched VALUES(?1, ?2, ?3) ON CONFLICT(name, key) DO UPDATE SET"
                             " last = ?3",
                             "ttn", alert->rule->name, alert->key, alert->last);
}

bool ind_alert_file_forget_watched(struct ind_alert_file *file)
{
    return ind_alert_file_do(file, "DELETE FROM watched", "");
}

bool ind_alert_file_prune(struct ind_alert_file *file, ind_time before, uint64_t most)
{
    return ind_alert_file_do(file, "DELETE FROM alerts WHERE state = 'over' AND over < ?1", "n", before) &&
           ind_alert_file_do(
               file,
               "DELETE FROM alerts WHERE state = 'over' AND number <= (SELECT number FROM alerts"
               " WHERE state = 'over' ORDER BY number DESC LIMIT 1 OFFSET ?1)",
               "i", (int64_t)most);
}

/* ---- Reading ---- */

static void read_lines(const char *text, struct ind_alert *alert, json_t **kept)
{
    size_t count = 0, i;
    json_t *line;
    *kept = json_loads(text, 0, NULL);
    json_array_foreach(*kept, i, line)
    {
        if (count < IND_ALERT_LINES && json_is_string(line))
            alert->lines[count++] = (char *)(uintptr_t)json_string_value(line);
    }
}

static void visit_row(sqlite3_stmt *row, ind_visit_saved *visit, void *context)
{
    json_t *lines = NULL;
    const char *state = ind_alert_file_text(row, 3), *note = ind_alert_file_text(row, 11);
    struct ind_saved_alert saved = {.name = ind_alert_file_text(row, 1),
                                    .alert = {.key = ind_alert_file_text(row, 2),
                                              .number = (uint64_t)sqlite3_column_int64(row, 0),
                                              .opened = ind_alert_file_time(row, 4),
                                              .first = ind_alert_file_time(row, 5),
                                              .last = ind_alert_file_time(row, 6),
                                              .ended = ind_alert_file_time(row, 7),
                                              .count = (uint64_t)sqlite3_column_int64(row, 8),
                                              .acknowledged = ind_alert_file_time(row, 9),
                                              .note = *note ? (char *)(uintptr_t)note : NULL}};
    saved.alert.state = IND_ALERT_IS_OPEN; /* what nobody can read is not seen to */
    for (int i = 0; i < 3; i++)
        if (strcmp(state, state_names[i]) == 0)
            saved.alert.state = (enum ind_alert_state)i;
    snprintf(saved.alert.who, sizeof saved.alert.who, "%s", ind_alert_file_text(row, 10));
    read_lines(ind_alert_file_text(row, 12), &saved.alert, &lines);
    visit(context, &saved);
    json_decref(lines);
}

bool ind_alert_file_list(struct ind_alert_file *file, bool over, const char *name, const char *key,
                         uint64_t most, ind_visit_saved *visit, void *context)
{
    sqlite3_stmt *rows = ind_alert_file_ask(
        file,
        over ? "SELECT * FROM alerts WHERE " OURS " AND state = 'over' AND (?1 IS NULL OR name = ?1) AND"
               " (?2 IS NULL OR key = ?2) ORDER BY over DESC, number DESC LIMIT ?3"
             : "SELECT * FROM alerts WHERE " OURS " AND state <> 'over' AND (?1 IS NULL OR name = ?1) AND"
               " (?2 IS NULL OR key = ?2) ORDER BY state DESC, opened, number LIMIT ?3",
        "tti", name, key, (int64_t)(most < INT64_MAX ? most : INT64_MAX));
    int result = SQLITE_DONE;
    while (rows && (result = sqlite3_step(rows)) == SQLITE_ROW)
        visit_row(rows, visit, context);
    return rows && ind_alert_file_asked(file, rows, result);
}

bool ind_alert_file_watched(struct ind_alert_file *file, ind_visit_saved *visit, void *context)
{
    sqlite3_stmt *rows = ind_alert_file_ask(file, "SELECT name, key, last FROM watched ORDER BY last", "");
    int result = SQLITE_DONE;
    while (rows && (result = sqlite3_step(rows)) == SQLITE_ROW) {
        const struct ind_saved_alert saved = {
            .name = ind_alert_file_text(rows, 0),
            .alert = {.key = ind_alert_file_text(rows, 1), .last = ind_alert_file_time(rows, 2)}};
        visit(context, &saved);
    }
    return rows && ind_alert_file_asked(file, rows, result);
}

/* False where it is none of ours. */
static bool read_counted(sqlite3_stmt *row, struct ind_alert_counted *counted)
{
    json_t *parts = json_loads(ind_alert_file_text(row, 8), 0, NULL), *part;
    size_t i;
    *counted = (struct ind_alert_counted){.part = sqlite3_column_int64(row, 6),
                                          .newest = sqlite3_column_int64(row, 7)};
    json_array_foreach(parts, i, part)
    {
        const json_int_t count = json_integer_value(part);
        if (i < IND_ALERT_PARTS && count > 0)
            counted->parts[i] = count < UINT32_MAX ? (uint32_t)count : UINT32_MAX;
    }
    const bool good = json_array_size(parts) == IND_ALERT_PARTS && counted->part > 0;
    json_decref(parts);
    return good;
}

bool ind_alert_file_counted(struct ind_alert_file *file, ind_time now,
                            void (*visit)(void *context, const struct ind_saved_alert *saved, const char *by,
                                          const struct ind_alert_counted *counted),
                            void *context)
{
    sqlite3_stmt *rows =
        ind_alert_file_ask(file, "SELECT * FROM counted WHERE until >= ?1 ORDER BY last", "i", now);
    int result = SQLITE_DONE;
    while (rows && (result = sqlite3_step(rows)) == SQLITE_ROW) {
        struct ind_alert_counted counted;
        json_t *lines = NULL;
        struct ind_saved_alert saved = {.name = ind_alert_file_text(rows, 0),
                                        .alert = {.key = ind_alert_file_text(rows, 1),
                                                  .first = ind_alert_file_time(rows, 4),
                                                  .last = ind_alert_file_time(rows, 5)}};
        read_lines(ind_alert_file_text(rows, 9), &saved.alert, &lines);
        if (read_counted(rows, &counted))
            visit(context, &saved, ind_alert_file_text(rows, 2), &counted);
        json_decref(lines);
    }
    return rows && ind_alert_file_asked(file, rows, result);
}

bool ind_alert_file_one(struct ind_alert_file *file, uint64_t number, ind_visit_saved *visit, void *context)
{
    sqlite3_stmt *row =
        ind_alert_file_ask(file, "SELECT * FROM alerts WHERE number = ?1", "i", (int64_t)number);
    const int result = row ? sqlite3_step(row) : SQLITE_DONE;
    if (row && result == SQLITE_ROW)
        visit_row(row, visit, context);
    return row && ind_alert_file_asked(file, row, result);
}

uint64_t ind_alert_file_next(struct ind_alert_file *file)
{
    return (uint64_t)ind_alert_file_number(file,
                                           "SELECT coalesce(max(number), 0) + 1 FROM alerts WHERE " OURS, 1);
}

int64_t ind_alert_file_acknowledge(struct ind_alert_file *file, const char *name, const char *key,
                                   const char *who, const char *note, ind_time now)
{
    /* Whether it is over with that, the collector decides, which knows its rule. */
    if (!ind_alert_file_do(file,
                           "UPDATE alerts SET state = 'acknowledged', acknowledged = ?3, who = ?4, note = ?5"
                           " WHERE state = 'open' AND name = ?1 AND (?2 IS NULL OR key = ?2)",
                           "ttntt", name, key, now, who, note && *note ? note : NULL))
        return -1;
    return sqlite3_changes(file->db);
}
