/* The catalog of a store that lines are filed in: whatever happened to the store, it tells what a plain count
 * of all lines tells, and what one tells that is made anew; and whatever becomes of it, the store goes on. */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/catalog_private.h"
#include "store/archive/keeper.h"
#include "store/write/store.h"
#include <fcntl.h>
#include <signal.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

enum { ROUTES = 4, DEVICES = 5, HOURS = 400, STEPS = 24, LINES = 40 };

static char *folder;
static struct ind_loaded loaded;
static uint64_t seed = IND_RANDOM_START;
static int64_t seconds;
static struct ind_fs fs;
static struct ind_store *store;
static char told[4000];

/* The other way: of all that was filed. */
static uint64_t filed[HOURS][ROUTES][8], filed_bytes; /* filed: of hour 0 what is not known */

static const char *const devices[DEVICES] = {"harbour-fw", "pier1-rtr", "192.0.2.9", "mv-tern-ap7",
                                             "hq-dhcp"};

static struct ind_clocks now(void)
{
    return (struct ind_clocks){NOW + seconds * IND_SECOND, {(1 + seconds) * IND_SECOND}};
}

static void hear(void *context, enum ind_own own, const char *path, const char *text)
{
    (void)context;
    (void)path;
    if (own == IND_OWN_CATALOG_FAILED || own == IND_OWN_CATALOG_WORKS) {
        const size_t length = strlen(told);
        snprintf(told + length, sizeof told - length, "%s\n", text);
    }
}

static int no_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

static void open_store(void)
{
    fs = ind_fs_posix;
    fs.sync = no_sync; /* which is not what is tried here */
    char reason[1024] = "";
    const struct ind_store_settings settings = {
        .config = loaded.config, .fs = &fs, .now = now().wall, .report = hear};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK)
        fail_msg("%s", reason);
}

static void begin(void)
{
    folder = ind_folder_new();
    seconds = 0;
    told[0] = '\0';
    memset(filed, 0, sizeof filed);
    filed_bytes = 0;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\nroutes:\n"
                   "  - {name: plain, file: plain.log}\n"
                   "  - {name: json, file: json.log, layout: json, archive: few}\n"
                   "  - {name: sent, file: sent.log, layout: rfc5424, archive: packed}\n"
                   "  - {name: raw, file: raw.log, layout: raw, archive: few}\n"
                   "archives:\n  default: {keep: {number: 1000}, compress: zstd}\n  few: {keep: {number: 2}, "
                   "compress: gzip}\n"
                   "  packed: {keep: {number: 3}, compress: none, chain: yes}\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    open_store();
}

static void end(void)
{
    ind_store_close(store);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

static void file_line(uint32_t route)
{
    static const char *const paths[ROUTES] = {"plain.log", "json.log", "sent.log", "raw.log"};
    char line[2000];
    struct ind_line_clock clock = {0};
    struct ind_buffer buffer = ind_buffer_on(line, sizeof line);
    struct ind_message message = {.facility = (uint8_t)(16 + ind_random(&seed, 3)),
                                  .severity = (uint8_t)ind_random(&seed, 8),
                                  .time = now().wall,
                                  .received = now().wall,
                                  .sent = IND_TIME_NONE,
                                  .original = IND_SLICE("<13>a message as it came"),
                                  .text = IND_SLICE("link down")};
    message.device = message.host = ind_slice_of(devices[ind_random(&seed, DEVICES)]);
    const struct ind_slice path = ind_slice_of(paths[route]);
    const struct ind_target target = {path, path, ind_path_hash(path), route, false};
    (void)ind_line_write(loaded.config->routes[route].layout, &message, &clock, &buffer);
    struct ind_live *live = ind_store_file(store, &target, now());
    assert_int_equal(ind_store_append(store, live, ind_buffer_view(&buffer), message.time, 0, now()),
                     IND_APPENDED);
    const bool is_raw = route == 3; /* whose lines tell neither */
    const int64_t hour = is_raw ? 0 : 1 + ind_volume_hour(message.time) - ind_volume_hour(NOW);
    assert_true(hour < HOURS);
    filed[hour][route][is_raw ? 0 : message.severity]++;
    filed_bytes += buffer.length;
}

static void keep(void)
{
    assert_true(ind_store_flush(store, now()));
    (void)ind_keeper_run(ind_store_keeper(store), now(), NULL);
}

/* ---- What a catalog tells ---- */

static struct ind_catalog *open_catalog(const char *state)
{
    char reason[256];
    struct ind_catalog *catalog;
    char *log = strdup(ind_path(folder, "log"));
    if (ind_catalog_open(ind_path(folder, state), log, ind_store_disk(store)->folder, 1000, &catalog, reason,
                         sizeof reason) != IND_CATALOG_GOOD)
        fail_msg("%s", reason);
    free(log);
    return catalog;
}

static void add_rows(FILE *out, struct ind_catalog *catalog, const char *query)
{
    sqlite3_stmt *rows;
    assert_int_equal(sqlite3_prepare_v2(catalog->db, query, -1, &rows, NULL), SQLITE_OK);
    while (sqlite3_step(rows) == SQLITE_ROW) {
        for (int i = 0; i < sqlite3_column_count(rows); i++)
            fprintf(out, "%s|",
                    sqlite3_column_text(rows, i) ? (const char *)sqlite3_column_text(rows, i) : "");
        fputc('\n', out);
    }
    sqlite3_finalize(rows);
}

/* Numbers of devices and of files are not the same in each. */
static void add_volumes(FILE *out, struct ind_catalog *catalog, int64_t file)
{
    static const char *const names[] = {"-", "*"};
    enum ind_catalog_status status;
    size_t count;
    struct ind_volumes *volumes = ind_catalog_volumes(catalog, file, &status);
    assert_non_null(volumes);
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
    for (int device = -2; device < DEVICES; device++)
        for (size_t i = 0; i < count; i++) {
            char query[100];
            sqlite3_stmt *name;
            snprintf(query, sizeof query, "SELECT name FROM devices WHERE id = %u", list[i].device);
            assert_int_equal(sqlite3_prepare_v2(catalog->db, query, -1, &name, NULL), SQLITE_OK);
            const char *is = list[i].device < 2                 ? names[list[i].device]
                             : sqlite3_step(name) == SQLITE_ROW ? (const char *)sqlite3_column_text(name, 0)
                                                                : "?";
            if (strcmp(is, device < 0 ? names[device + 2] : devices[device]) == 0)
                fprintf(out, "  %lld %s %u: %llu, %llu\n", (long long)list[i].hour, is, list[i].pri,
                        (unsigned long long)list[i].messages, (unsigned long long)list[i].bytes);
            sqlite3_finalize(name);
        }
    ind_volumes_free(volumes);
}

static char *tell_all(struct ind_catalog *catalog)
{
    char *text = NULL;
    size_t length;
    sqlite3_stmt *files;
    FILE *out = open_memstream(&text, &length);
    add_rows(out, catalog, "SELECT * FROM hours ORDER BY 1, 2");
    add_rows(out, catalog,
             "SELECT archive, series, number, state, live, route, policy, layout, version, made_up, opened,"
             " rotated, first, last, messages, text, bytes, compression, level, sha256, copied, protected,"
             " removed, reason, chained, known, counted, counted_messages FROM files ORDER BY 1");
    assert_int_equal(
        sqlite3_prepare_v2(catalog->db, "SELECT id, archive FROM files ORDER BY 2", -1, &files, NULL),
        SQLITE_OK);
    while (sqlite3_step(files) == SQLITE_ROW) {
        fprintf(out, "%s\n", (const char *)sqlite3_column_text(files, 1));
        add_volumes(out, catalog, sqlite3_column_int64(files, 0));
    }
    sqlite3_finalize(files);
    fclose(out);
    return text;
}

static void expect_same(const char *text, const char *wanted, const char *when)
{
    size_t at = 0;
    while (text[at] && text[at] == wanted[at])
        at++;
    if (text[at] || wanted[at]) {
        const size_t from = at > 200 ? at - 200 : 0;
        fail_msg("%s: …%.400s\nis not\n…%.400s", when, text + from, wanted + from);
    }
}

static int64_t one_number(struct ind_catalog *catalog, const char *query)
{
    sqlite3_stmt *row;
    assert_int_equal(sqlite3_prepare_v2(catalog->db, query, -1, &row, NULL), SQLITE_OK);
    assert_int_equal(sqlite3_step(row), SQLITE_ROW);
    const int64_t number = sqlite3_column_int64(row, 0);
    sqlite3_finalize(row);
    return number;
}

/* The table of hours, so many of them together: they begin at midnight. */
static void expect_filed(struct ind_catalog *catalog, int64_t together)
{
    static const char *const names[ROUTES] = {"plain", "json", "sent", "raw"};
    static const char *const columns[] = {"emergency", "alert",  "critical", "error",
                                          "warning",   "notice", "info",     "debug"};
    const int64_t base = ind_volume_hour(NOW) / 24 * 24;
    uint64_t all = 0;
    char query[300];
    for (int64_t from = base; from < base + HOURS; from += together)
        for (int route = 0; route < ROUTES; route++)
            for (int severity = 0; severity < 8; severity++) {
                uint64_t wanted = 0;
                for (int64_t hour = from; hour < from + together; hour++) {
                    const int64_t at = 1 + hour - ind_volume_hour(NOW);
                    wanted += at > 0 && at < HOURS ? filed[at][route][severity] : 0;
                }
                all += wanted;
                if (!wanted && severity)
                    continue;
                snprintf(query, sizeof query,
                         "SELECT total(%s) FROM hours WHERE hour >= %lld AND hour < %lld AND route = '%s'",
                         columns[severity], (long long)from, (long long)(from + together), names[route]);
                const int64_t is = one_number(catalog, query);
                if (is != (int64_t)wanted)
                    fail_msg("%s: %lld, not %llu", query, (long long)is, (unsigned long long)wanted);
            }
    assert_int_equal(one_number(catalog,
                                "SELECT sum(emergency + alert + critical + error + warning + notice + info"
                                " + debug) FROM hours"),
                     all);
    assert_int_equal(one_number(catalog, "SELECT total(unknown) FROM hours"), filed[0][3][0]);
    assert_int_equal(one_number(catalog, "SELECT sum(bytes) FROM hours"), filed_bytes);
}

static void make_folder(const char *name)
{
    assert_int_equal(mkdir(ind_path(folder, name), 0750), 0);
}

/* One that is made anew beside it. */
static char *made_anew(int64_t together)
{
    struct ind_catalog_progress progress = {0};
    make_folder("other");
    struct ind_catalog *catalog = open_catalog("other");
    if (ind_catalog_rebuild(catalog, NULL, NULL, NULL, &progress) != IND_CATALOG_GOOD)
        fail_msg("%s", ind_catalog_reason(catalog));
    assert_int_equal(progress.to_count, 0);
    expect_filed(catalog, together);
    char *text = tell_all(catalog);
    ind_catalog_close(catalog);
    return text;
}

/* ---- Tests ---- */

static void do_something(void)
{
    size_t failed = 0;
    const unsigned what = ind_random(&seed, 12);
    seconds += 1 + ind_random(&seed, 5000);
    if (what < 6) {
        for (unsigned i = ind_random(&seed, LINES); i > 0; i--)
            file_line(ind_random(&seed, ROUTES));
    } else if (what < 9) {
        (void)ind_store_rotate(store, false, now(), &failed);
    } else if (what == 9) {
        assert_true(ind_store_flush(store, now()));
        ind_store_close(store);
        open_store();
    } else if (what == 10 && ind_keeper_counts(ind_store_keeper(store)).archives) {
        (void)ind_keeper_ask_protection(ind_store_keeper(store), "plain-20261123T044500Z-000001.log",
                                        ind_random(&seed, 2), "case 7");
    }
    keep();
}

/* The journal was written anew without what is gone. */
static bool is_compacted(void)
{
    char *journal = ind_read_file(ind_path(folder, "log/.indagator/journal.jsonl"), NULL);
    const bool compacted = strstr(journal, "compacted") != NULL;
    free(journal);
    return compacted;
}

/* Live files are counted after five minutes. */
static struct ind_catalog *up_to_date(void)
{
    seconds += 1000;
    keep();
    return open_catalog("state");
}

static void one_that_is_made_anew_is_equal(void **state)
{
    (void)state;
    int compared = 0;
    for (int round = 0; round < (getenv("IND_ALL") ? 100 : 5); round++) {
        begin();
        for (int i = 0; i < STEPS; i++)
            do_something();
        struct ind_catalog *catalog = up_to_date();
        const bool whole = !is_compacted();
        expect_filed(catalog, 1);
        char *text = tell_all(catalog), *other = made_anew(whole ? 1 : 24);
        if (whole)
            expect_same(other, text, "made anew");
        compared += whole && strstr(text, "|live|");
        ind_catalog_close(catalog);
        free(text);
        free(other);
        assert_string_equal(told, "");
        end();
    }
    assert_true(compared > 1);
}

/* What such a journal keeps is by day. */
static void what_is_gone_is_known_by_day(void **state)
{
    (void)state;
    begin();
    for (int i = 0; i < 16 * STEPS && (i < 4 * STEPS || !is_compacted()); i++)
        do_something();
    assert_true(is_compacted());
    struct ind_catalog *catalog = up_to_date();
    expect_filed(catalog, 1); /* which it has known since before */
    free(made_anew(24));
    ind_catalog_close(catalog);
    end();
}

/* ---- What becomes of it ---- */

static const char *catalog_path(const char *end)
{
    char name[100];
    snprintf(name, sizeof name, "state/" IND_CATALOG_NAME "%s", end);
    return ind_path(folder, name);
}

static void remove_it(void)
{
    (void)unlink(catalog_path(""));
    (void)unlink(catalog_path("-wal"));
    (void)unlink(catalog_path("-shm"));
}

static void write_it(const char *bytes, size_t length)
{
    FILE *file = fopen(catalog_path(""), "w");
    assert_int_equal(fwrite(bytes, 1, length, file), length);
    fclose(file);
}

/* Other bytes here and there, or fewer of them. */
static void damage(bool cut)
{
    size_t length;
    char *bytes = ind_read_file(catalog_path(""), &length);
    assert_true(length > 4096);
    for (unsigned i = 1 + ind_random(&seed, 40); !cut && i > 0; i--)
        bytes[ind_random(&seed, (unsigned)length)] ^= (char)(1 << ind_random(&seed, 8));
    remove_it();
    write_it(bytes, cut ? 1 + ind_random(&seed, (unsigned)length - 1) : length);
    free(bytes);
}

static void other_database(const char *marks)
{
    sqlite3 *db;
    assert_int_equal(sqlite3_open(catalog_path(""), &db), SQLITE_OK);
    assert_int_equal(sqlite3_exec(db, marks, NULL, NULL, NULL), SQLITE_OK);
    sqlite3_close(db);
}

enum fate { LOST, GARBAGE, EMPTY, CUT, CHANGED, FOREIGN, LATER, ELSEWHERE, FOLDER, LINK, FATES };

/* What is left alone, until somebody says otherwise. */
static bool bring_about(enum fate fate)
{
    ind_store_close(store);
    if (fate != CUT && fate != CHANGED && fate != LATER && fate != ELSEWHERE)
        remove_it();
    if (fate == GARBAGE)
        write_it("this is no database, and long enough to be looked at as if it might be one of them, by all "
                 "who look",
                 99);
    else if (fate == EMPTY)
        write_it("", 0);
    else if (fate == CUT || fate == CHANGED)
        damage(fate == CUT);
    else if (fate == FOREIGN)
        other_database("CREATE TABLE files(a); PRAGMA application_id = 7");
    else if (fate == LATER)
        other_database("PRAGMA user_version = 99");
    else if (fate == ELSEWHERE)
        other_database("UPDATE place SET store = '/srv/elsewhere'");
    else if (fate == FOLDER)
        assert_int_equal(mkdir(catalog_path(""), 0750), 0);
    else if (fate == LINK)
        assert_int_equal(symlink("/dev/null", catalog_path("")), 0);
    open_store();
    return fate >= FOREIGN;
}

static void a_catalog_that_does_not_serve_stops_nobody(void **state)
{
    (void)state;
    size_t anew = 0;
    for (int round = 0; round < (getenv("IND_ALL") ? 20 : 1) * FATES; round++) {
        const enum fate fate = (enum fate)(round % FATES);
        begin();
        for (int i = 0; i < STEPS / 2; i++)
            do_something();
        file_line(0);
        seconds += 1000;
        keep();
        const bool stays = bring_about(fate);
        told[0] = '\0';
        struct stat before, after;
        assert_int_equal(lstat(catalog_path(""), &before) == 0 || fate == LOST, 1);
        for (int i = 0; i < STEPS / 2; i++)
            do_something();
        assert_int_equal(ind_keeper_counts(ind_store_keeper(store)).catalog_failed, stays);
        assert_int_equal(ind_keeper_counts(ind_store_keeper(store)).failed, 0);
        if (stays) { /* it is told, not touched, and set aside when somebody says so */
            assert_non_null(strstr(told, "is left alone"));
            assert_int_equal(lstat(catalog_path(""), &after), 0);
            assert_int_equal(after.st_size, before.st_size);
            assert_true(ind_catalog_set_aside(ind_path(folder, "state")));
            seconds += 100;
            keep();
            assert_non_null(strstr(told, "is written again"));
        }
        struct ind_catalog *catalog = up_to_date();
        anew += strstr(told, "is damaged") != NULL;
        expect_filed(catalog, is_compacted() ? 24 : 1);
        assert_int_equal(ind_catalog_check(catalog), IND_CATALOG_GOOD);
        ind_catalog_close(catalog);
        end();
    }
    assert_true(anew >= 2); /* garbage, and most of what was cut or changed */
}

static void a_lock_is_not_waited_for(void **state)
{
    (void)state;
    sqlite3 *db;
    begin();
    for (int i = 0; i < STEPS; i++)
        do_something();
    assert_int_equal(sqlite3_open(catalog_path(""), &db), SQLITE_OK);
    assert_int_equal(sqlite3_exec(db, "BEGIN IMMEDIATE", NULL, NULL, NULL), SQLITE_OK);
    for (int i = 0; i < STEPS; i++)
        do_something();
    assert_non_null(strstr(told, "is locked by somebody"));
    assert_true(ind_keeper_counts(ind_store_keeper(store)).catalog_failed);
    assert_int_equal(sqlite3_exec(db, "ROLLBACK", NULL, NULL, NULL), SQLITE_OK);
    sqlite3_close(db);
    struct ind_catalog *catalog = up_to_date();
    assert_non_null(strstr(told, "is written again"));
    expect_filed(catalog, is_compacted() ? 24 : 1);
    ind_catalog_close(catalog);
    end();
}

/* However many names strangers make up. */
static void devices_have_a_bound(void **state)
{
    (void)state;
    char last[100];
    begin();
    keep();
    struct ind_catalog *catalog = open_catalog("state");
    const uint32_t known = ind_catalog_device(catalog, IND_SLICE("harbour-fw"));
    assert_true(known >= IND_DEVICE_FIRST);
    snprintf(last, sizeof last, "INSERT INTO devices VALUES(%d, 'last but one')",
             IND_CATALOG_MOST_DEVICES - 1);
    assert_int_equal(ind_catalog_run_text(catalog, last), IND_CATALOG_GOOD);
    assert_int_equal(ind_catalog_device(catalog, IND_SLICE("the last")), IND_CATALOG_MOST_DEVICES);
    assert_int_equal(ind_catalog_device(catalog, IND_SLICE("one more")), IND_DEVICE_OTHERS);
    assert_int_equal(ind_catalog_device(catalog, IND_SLICE("harbour-fw")), known);
    assert_int_equal(one_number(catalog, "SELECT count(*) FROM devices"), 3);
    ind_catalog_close(catalog);
    end();
}

/* A limit on the size of files stands for a full disk: the journal and the files of the store are smaller
 * than the catalog is. */
static void a_full_disk_is_waited_for(void **state)
{
    (void)state;
    struct rlimit before, little;
    struct stat facts;
    begin();
    for (int i = 0; i < STEPS / 2; i++)
        do_something();
    assert_int_equal(stat(catalog_path("-wal"), &facts), 0);
    assert_int_equal(getrlimit(RLIMIT_FSIZE, &before), 0);
    little = (struct rlimit){facts.st_size > 60000 ? (rlim_t)facts.st_size : 60000, before.rlim_max};
    assert_true(signal(SIGXFSZ, SIG_IGN) != SIG_ERR);
    assert_int_equal(setrlimit(RLIMIT_FSIZE, &little), 0);
    for (int i = 0; i < 200 && !ind_keeper_counts(ind_store_keeper(store)).catalog_failed; i++) {
        seconds += 100;
        file_line(0);
        keep();
    }
    assert_int_equal(setrlimit(RLIMIT_FSIZE, &before), 0);
    assert_non_null(strstr(told, "cannot be written"));
    struct ind_catalog *catalog = up_to_date();
    assert_non_null(strstr(told, "is written again"));
    expect_filed(catalog, is_compacted() ? 24 : 1);
    ind_catalog_close(catalog);
    end();
}

/* A journal that somebody has changed is read again: what it does not tell any more was never so. */
static void a_journal_that_was_changed_is_read_again(void **state)
{
    (void)state;
    begin();
    for (int i = 0; i < STEPS / 2; i++)
        do_something();
    size_t failed = 0;
    for (int i = 0; i < 2; i++) {
        file_line(0);
        (void)ind_store_rotate(store, false, now(), &failed);
    }
    keep();
    ind_store_close(store);
    struct ind_ran ran =
        ind_shell(folder, "sed -i '/plain/d' log/.indagator/journal.jsonl; rm -f log/plain*-000001.*");
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    open_store();
    seconds += 1000;
    keep();
    struct ind_catalog *catalog = open_catalog("state");
    assert_int_equal(
        one_number(catalog, "SELECT count(*) FROM files WHERE known = 1 AND series = 'plain.log'"), 0);
    assert_int_equal(one_number(catalog, "SELECT count(*) FROM files WHERE archive LIKE 'plain%-000001.log'"),
                     0);
    assert_true(one_number(catalog, "SELECT count(*) FROM files WHERE known = 0 AND series = 'plain.log'") >
                0);
    char *text = tell_all(catalog);
    struct ind_catalog_progress progress = {0};
    make_folder("other");
    struct ind_catalog *anew = open_catalog("other");
    assert_int_equal(ind_catalog_rebuild(anew, NULL, NULL, NULL, &progress), IND_CATALOG_GOOD);
    char *other = tell_all(anew);
    expect_same(other, text, "of another journal");
    free(text);
    free(other);
    ind_catalog_close(anew);
    ind_catalog_close(catalog);
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(one_that_is_made_anew_is_equal),
                                       cmocka_unit_test(what_is_gone_is_known_by_day),
                                       cmocka_unit_test(a_catalog_that_does_not_serve_stops_nobody),
                                       cmocka_unit_test(a_lock_is_not_waited_for),
                                       cmocka_unit_test(devices_have_a_bound),
                                       cmocka_unit_test(a_full_disk_is_waited_for),
                                       cmocka_unit_test(a_journal_that_was_changed_is_read_again)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
