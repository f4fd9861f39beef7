/* Anything may stand in STATE/alerts.sqlite: bytes that are no database, or rows of odd kinds and numbers. It
 * is read or set aside; alerts go on with what they make of it, and what they then save is what is read back.
 */
#include "store/alert/alert_file.h"
#include "store/alert/alert_json.h"
#include "temporary.h"

#include <sqlite3.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

static const struct ind_clocks clocks = {NOW, {INT64_C(1000000) * IND_SECOND}};

struct input {
    const uint8_t *at;
    size_t left;
};

static uint8_t next_byte(struct input *input)
{
    if (input->left == 0)
        return 0;
    input->left--;
    return *input->at++;
}

static int64_t next_number(struct input *input)
{
    uint64_t number = 0;
    const unsigned width = next_byte(input) % 9;
    for (unsigned i = 0; i < width; i++)
        number = number << 8 | next_byte(input);
    return (int64_t)number;
}

/* ---- Rows ---- */

static void bind_text(sqlite3_stmt *row, int column, struct input *input)
{
    static const char *const words[] = {
        "a",        "b",   "c",   "d",    "e",    "open",          "acknowledged",
        "over",     "app", "[1]", "null", "[{}]", "[\"x\",\"y\"]", "ge0",
        "(others)", ""};
    const uint8_t which = next_byte(input);
    size_t length = which % 64;
    if (which < 128) {
        sqlite3_bind_text(row, column, words[which % 16], -1, SQLITE_STATIC);
        return;
    }
    length = length < input->left ? length : input->left;
    sqlite3_bind_text(row, column, (const char *)input->at, (int)length, SQLITE_TRANSIENT);
    input->at += length;
    input->left -= length;
}

/* Thirty parts, most of them small. */
static void bind_parts(sqlite3_stmt *row, int column, struct input *input)
{
    char text[IND_ALERT_PARTS * 24];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    for (int i = 0; i < IND_ALERT_PARTS; i++) {
        char number[24];
        snprintf(number, sizeof number, "%c%lld", i ? ',' : '[', (long long)next_number(input));
        ind_buffer_text(&out, number);
    }
    ind_buffer_text(&out, "]");
    sqlite3_bind_text(row, column, text, (int)out.length, SQLITE_TRANSIENT);
}

static void insert(sqlite3 *db, const char *table, int columns, struct input *input)
{
    char sql[120];
    sqlite3_stmt *row;
    snprintf(sql, sizeof sql, "INSERT OR IGNORE INTO %s VALUES(%.*s?)", table, 2 * (columns - 1),
             "?,?,?,?,?,?,?,?,?,?,?,?,?,?,");
    if (sqlite3_prepare_v2(db, sql, -1, &row, NULL) != SQLITE_OK)
        abort();
    for (int i = 1; i <= columns; i++) {
        const uint8_t kind = next_byte(input) % 8;
        if (kind == 0)
            sqlite3_bind_null(row, i);
        else if (kind == 1)
            sqlite3_bind_double(row, i, (double)next_number(input));
        else if (kind == 2)
            sqlite3_bind_zeroblob(row, i, next_byte(input));
        else if (kind == 3)
            bind_parts(row, i, input);
        else if (kind < 6)
            sqlite3_bind_int64(row, i, kind == 4 ? next_number(input) : NOW - next_number(input) % (1 << 30));
        else
            bind_text(row, i, input);
    }
    (void)sqlite3_step(row);
    sqlite3_finalize(row);
}

static void fill(const char *path, struct input *input)
{
    static const struct {
        const char *name;
        int columns;
    } tables[] = {{"alerts", 13}, {"watched", 3}, {"mutes", 5}, {"notices", 6}, {"counted", 10}};
    sqlite3 *db;
    if (sqlite3_open_v2(path, &db, SQLITE_OPEN_READWRITE, NULL) != SQLITE_OK)
        abort();
    for (int i = 0; i < 20 && input->left > 0; i++) {
        const unsigned table = next_byte(input) % 5;
        insert(db, tables[table].name, tables[table].columns, input);
    }
    sqlite3_close(db);
}

/* ---- What alerts make of it ---- */

struct trial {
    struct ind_alerts *alerts;
    struct ind_alert_file *file;
    uint64_t visited, listed, counted, recounted;
    bool failed;
};

static void happened(void *context, enum ind_alert_event event, const struct ind_alert *alert,
                     struct ind_clocks now)
{
    (void)context, (void)now;
    if (!ind_alert_event_name(event) || !alert->key)
        abort();
}

static void take_alert(void *context, const struct ind_saved_alert *saved)
{
    struct trial *trial = context;
    json_t *object = json_object();
    ind_alert_add_to_json(object, saved->name, &saved->alert);
    json_decref(object);
    (void)ind_alerts_restore(trial->alerts, ind_slice_of(saved->name), &saved->alert, clocks);
}

static void take_watched(void *context, const struct ind_saved_alert *saved)
{
    struct trial *trial = context;
    ind_alerts_watch(trial->alerts, ind_slice_of(saved->name), ind_slice_of(saved->alert.key),
                     saved->alert.last, clocks);
}

static void take_counted(void *context, const struct ind_saved_alert *saved, const char *by,
                         const struct ind_alert_counted *counted)
{
    struct trial *trial = context;
    (void)ind_alerts_restore_counted(trial->alerts, ind_slice_of(saved->name), by, &saved->alert, counted,
                                     clocks);
}

static void take_notice(void *context, const char *way, const struct ind_notice *notice)
{
    (void)context;
    if (!way || !ind_alert_event_name(notice->event))
        abort();
}

static void take_mute(void *context, const char *name, const char *key, ind_time until, const char *who)
{
    (void)context, (void)key, (void)until;
    if (!name || !who)
        abort();
}

static void save(void *context, const struct ind_alert *alert)
{
    struct trial *trial = context;
    trial->failed |= !ind_alert_file_save(trial->file, alert);
    trial->visited++;
}

static void save_counted(void *context, const struct ind_alert *alert,
                         const struct ind_alert_counted *counted)
{
    struct trial *trial = context;
    trial->failed |= !ind_alert_file_count(trial->file, alert, counted, NOW);
    for (int i = 0; i < IND_ALERT_PARTS; i++)
        trial->counted += counted->parts[i];
}

static void count_listed(void *context, const struct ind_saved_alert *saved)
{
    (void)saved;
    ((struct trial *)context)->listed++;
}

static void count_again(void *context, const struct ind_saved_alert *saved, const char *by,
                        const struct ind_alert_counted *counted)
{
    (void)saved, (void)by;
    for (int i = 0; i < IND_ALERT_PARTS; i++)
        ((struct trial *)context)->recounted += counted->parts[i];
}

static void hear_some(struct trial *trial, struct input *input)
{
    static const char *const names[] = {"a", "b", "c", "d", "e"};
    for (int i = 0; i < 20; i++) {
        const char key[2] = {(char)('a' + next_byte(input) % 3)};
        const struct ind_alert_cause cause = {.alert = ind_slice_of(names[next_byte(input) % 5]),
                                              .key = ind_slice_of(key),
                                              .count = 1,
                                              .time = NOW,
                                              .last = NOW,
                                              .line = IND_SLICE("it is down")};
        ind_alerts_hear(trial->alerts, &cause, clocks);
        ind_alerts_tick(trial->alerts, clocks);
    }
}

/* So that what is read back is what was saved. False where the file is too odd for that. */
static bool empty(const char *path)
{
    sqlite3 *db;
    if (sqlite3_open_v2(path, &db, SQLITE_OPEN_READWRITE, NULL) != SQLITE_OK)
        abort();
    const bool good =
        sqlite3_exec(db, "DELETE FROM alerts; DELETE FROM counted", NULL, NULL, NULL) == SQLITE_OK;
    sqlite3_close(db);
    return good;
}

static void go_on(struct ind_alert_file *file, const char *path, struct input *input)
{
    const struct ind_alert_rule rules[] = {
        {.name = "a", .kind = IND_ALERT_EACH},
        {.name = "b", .kind = IND_ALERT_MORE, .number = 5, .span = 300 * IND_SECOND, .by_text = "app"},
        {.name = "c", .kind = IND_ALERT_NOTHING, .span = 300 * IND_SECOND, .over = IND_OVER_HEARD},
        {.name = "d",
         .kind = IND_ALERT_FEWER,
         .number = 5,
         .span = 1,
         .over = IND_OVER_QUIET,
         .quiet = IND_SECOND},
        {.name = "e", .kind = IND_ALERT_MORE, .number = UINT64_MAX, .span = 30, .join = IND_SECOND}};
    const struct ind_alerts_settings settings = {
        .memory = 1 << 20, .next_number = ind_alert_file_next(file), .happened = happened};
    struct trial trial = {.alerts = ind_alerts_new(&settings), .file = file};
    if (!trial.alerts || !ind_alerts_adopt(trial.alerts, rules, 5, clocks))
        abort();
    (void)ind_alert_file_mutes(file, NOW, take_mute, &trial);
    (void)ind_alert_file_list(file, false, NULL, NULL, UINT64_MAX, take_alert, &trial);
    (void)ind_alert_file_watched(file, take_watched, &trial);
    (void)ind_alert_file_counted(file, NOW, take_counted, &trial);
    (void)ind_alert_file_notices(file, take_notice, &trial);
    hear_some(&trial, input);
    if (empty(path) && ind_alert_file_begin(file)) {
        ind_alerts_visit(trial.alerts, false, save, &trial);
        while (ind_alerts_visit_counted(trial.alerts, 2, save_counted, &trial, clocks) > 0)
            ;
        if (!ind_alert_file_end(file, !trial.failed) ||
            !ind_alert_file_list(file, false, NULL, NULL, UINT64_MAX, count_listed, &trial) ||
            !ind_alert_file_counted(file, 0, count_again, &trial) || trial.listed != trial.visited ||
            trial.counted != trial.recounted)
            abort();
    }
    ind_alerts_free(trial.alerts);
}

static struct ind_alert_file *open_file(const char *state)
{
    struct ind_alert_file *file;
    char reason[300];
    enum ind_alert_file_status status = ind_alert_file_open(state, false, &file, reason, sizeof reason);
    if (status == IND_ALERT_FILE_DAMAGED || status == IND_ALERT_FILE_FAILED) {
        if (!ind_alert_file_set_aside(state))
            abort();
        status = ind_alert_file_open(state, false, &file, reason, sizeof reason);
    }
    if (status != IND_ALERT_FILE_GOOD)
        abort();
    return file;
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    const char *state = ind_fuzz_folder("alerts");
    struct input input = {bytes, size};
    char path[100];
    snprintf(path, sizeof path, "%s/" IND_ALERT_FILE_NAME, state);
    (void)unlink(path);
    if (size > 0 && bytes[0] % 4 == 0) {
        FILE *file = fopen(path, "wb");
        if (!file || fwrite(bytes + 1, 1, size - 1, file) != size - 1 || fclose(file) != 0)
            abort();
    } else {
        (void)next_byte(&input);
        ind_alert_file_close(open_file(state));
        fill(path, &input);
    }
    struct ind_alert_file *file = open_file(state);
    go_on(file, path, &input);
    ind_alert_file_close(file);
    return 0;
}
