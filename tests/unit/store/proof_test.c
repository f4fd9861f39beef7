/* What a chain proves: random stores that nobody touched give no finding, and whatever is changed in one is
 * found, and named. */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/archive/proof.h"
#include "store/disk/walk.h"
#include "store/write/store.h"
#include <fcntl.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

/* With IND_ALL set: a thousand stores that nobody touches, and a thousand changes in others ("make prove").
 */
enum {
    UNTOUCHED = 1000,
    SOME_UNTOUCHED = 40,
    STORES = 42,
    SOME_STORES = 8,
    TRIALS = 24,
    FILES = 256,
    LINES = 1024
};

static uint64_t seed = IND_RANDOM_START;
static char *folder;
static struct ind_loaded loaded;
static struct ind_store *store;
static struct ind_fs fs;
static int64_t passed;
static unsigned compacted; /* stores whose journal was written anew */
static const char *const series_names[] = {"a.log", "b.log", "c.log"}; /* c is not chained */

static int no_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

static struct ind_clocks now(void)
{
    return (struct ind_clocks){NOW + passed, {IND_SECOND + passed}};
}

static const char *pick(const char *one, const char *two, const char *three)
{
    const unsigned which = ind_random(&seed, 3);
    return which == 0 ? one : which == 1 ? two : three;
}

/* ---- A store ---- */

static void write_key(const char *name, bool both)
{
    EVP_PKEY *key = NULL;
    EVP_PKEY_CTX *context = EVP_PKEY_CTX_new_id(EVP_PKEY_ED25519, NULL);
    assert_true(EVP_PKEY_keygen_init(context) == 1 && EVP_PKEY_keygen(context, &key) == 1);
    FILE *file = fopen(ind_path(folder, name), "w");
    assert_non_null(file);
    assert_int_equal(PEM_write_PrivateKey(file, key, NULL, NULL, 0, NULL, NULL), 1);
    fclose(file);
    if (both) {
        file = fopen(ind_path(folder, "key.pub"), "w");
        assert_non_null(file);
        assert_int_equal(PEM_write_PUBKEY(file, key), 1);
        fclose(file);
    }
    EVP_PKEY_free(key);
    EVP_PKEY_CTX_free(context);
}

static void open_store(void)
{
    char reason[1024];
    struct ind_store_settings settings = {.config = loaded.config, .fs = &fs, .now = now().wall};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK)
        fail_msg("%s", reason);
}

static void load(bool sign, bool is_long)
{
    char text[1024];
    snprintf(text, sizeof text,
             "store: log\nstate: state\nroutes:\n"
             "  - {name: a, file: \"a.log\", archive: one}\n"
             "  - {name: b, file: \"b.log\", archive: two}\n"
             "  - {name: c, file: \"c.log\"}\n"
             "archives:\n"
             "  default: {rotate: every day, compress: %s}\n"
             "  one: {rotate: every day, keep: {number: %u}, %s, chain: yes%s}\n"
             "  two: {rotate: every day, keep: %s, compress: %s, chain: yes}\n",
             pick("none", "gzip", "zstd 1"), is_long ? 2 : 2 + ind_random(&seed, 6),
             pick("compress: none", "compress: gzip, recompress: {after: 3 h, with: gzip 9}",
                  "compress: zstd 1, recompress: {after: 3 h, with: zstd 5}"),
             sign ? ", sign: key" : "", is_long ? "{number: 2}" : "20 days", pick("none", "gzip", "zstd 1"));
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
}

static void append(unsigned route)
{
    char line[300];
    const char *name = series_names[route];
    const struct ind_target target = {ind_slice_of(name), ind_slice_of(name),
                                      ind_path_hash(ind_slice_of(name)), route, false};
    struct ind_live *live = ind_store_file(store, &target, now());
    assert_non_null(live);
    snprintf(
        line, sizeof line, "%lld %s %.*s\n", (long long)now().wall, name, (int)ind_random(&seed, 200),
        "the quick brown fox jumps over the lazy dog, and then another one comes and does the same again; "
        "the quick brown fox jumps over the lazy dog, and then another one comes and does the same again");
    assert_int_equal(ind_store_append(store, live, ind_slice_of(line), now().wall, 0, now()), IND_APPENDED);
}

static void do_something(void)
{
    size_t failed = 0;
    passed += (int64_t)ind_random(&seed, 7200) * IND_SECOND;
    switch (ind_random(&seed, 8)) {
    case 0:
    case 1:
        (void)ind_store_rotate(store, false, now(), &failed);
        assert_int_equal(failed, 0);
        break;
    case 2:
        (void)ind_keeper_run(ind_store_keeper(store), now(), NULL);
        break;
    case 3:
        ind_store_flush(store, now());
        ind_store_close(store);
        open_store();
        break;
    default:
        append(ind_random(&seed, 3));
        (void)ind_store_flush(store, now());
    }
}

/* A long one is so long that its journal is written anew at a start. */
static void make_store(bool sign, bool is_long)
{
    folder = ind_folder_new();
    passed = 0;
    if (sign)
        write_key("key", true);
    load(sign, is_long);
    open_store();
    for (unsigned i = 0, steps = is_long ? 400 : 8 + ind_random(&seed, 60); i < steps; i++)
        do_something();
    char *journal = ind_read_file(ind_path(folder, "log/" IND_JOURNAL_PATH), NULL);
    compacted += strstr(journal, "\"event\":\"compacted\"") != NULL;
    free(journal);
}

static void end_store(void)
{
    ind_store_close(store);
    store = NULL;
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

/* ---- What is said of it ---- */

static bool prove(struct ind_proof *proof, bool with_key)
{
    char reason[1500];
    char *store_path = strdup(ind_path(folder, "log"));
    char *heads = ind_read_file(ind_path(folder, "state/" IND_CHAIN_HEADS), NULL);
    struct ind_public_key *key =
        with_key ? ind_public_key_open(ind_path(folder, "key.pub"), reason, sizeof reason) : NULL;
    const struct ind_public_key *const keys[] = {key};
    const struct ind_proof_settings settings = {.store = store_path,
                                                .heads = ind_slice_of(heads),
                                                .keys = keys,
                                                .key_count = with_key ? 1 : 0,
                                                .since = IND_TIME_NONE,
                                                .until = IND_TIME_NONE,
                                                .threads = 1 + ind_random(&seed, 3)};
    const bool good = ind_proof_make(&settings, proof, reason, sizeof reason);
    ind_public_key_free(key);
    free(heads);
    free(store_path);
    return good;
}

static void print(const struct ind_proof *proof)
{
    for (size_t i = 0; i < proof->finding_count; i++)
        print_error("  %s %s %s line %llu: %s\n", ind_finding_name(proof->findings[i].kind),
                    proof->findings[i].series ? proof->findings[i].series : "-",
                    proof->findings[i].archive ? proof->findings[i].archive : "-",
                    (unsigned long long)proof->findings[i].line, proof->findings[i].text);
}

static struct {
    uint64_t proven, removed;
} sums;

static void expect_nothing(const char *when)
{
    struct ind_proof proof;
    assert_true(prove(&proof, access(ind_path(folder, "key.pub"), F_OK) == 0));
    if (proof.finding_count) {
        print(&proof);
        fail_msg("%s: %zu findings in a store that nobody touched: %s", when, proof.finding_count, folder);
    }
    assert_int_equal(proof.unreadable, 0);
    sums.proven = sums.removed = 0;
    for (size_t i = 0; i < proof.series_count; i++) {
        sums.proven += proof.series[i].verified;
        sums.removed += proof.series[i].removed;
    }
    ind_proof_free(&proof);
}

static void an_untouched_store_gives_no_finding(void **state)
{
    (void)state;
    for (unsigned i = 0, most = getenv("IND_ALL") ? UNTOUCHED : SOME_UNTOUCHED; i < most; i++) {
        make_store(i % 4 == 0, i % 10 == 0);
        expect_nothing("at the end");
        if (i % 5 == 0) { /* and after one more start, as a crash leaves it */
            ind_store_close(store);
            expect_nothing("stopped");
            const uint64_t proven = sums.proven, removed = sums.removed;
            open_store();
            expect_nothing("opened again");
            assert_int_equal(sums.proven, proven); /* also where the journal was written anew */
            assert_int_equal(sums.removed, removed);
            (void)ind_keeper_run(ind_store_keeper(store), now(), NULL);
            expect_nothing("started again");
        }
        end_store();
    }
}

/* ---- Somebody changes it ---- */

static char *paths[FILES]; /* archives of chained series that are hashed */
static size_t path_count;

static bool note_path(void *context, const char *path)
{
    char held[1200];
    struct ind_archive_name name;
    const char *journal = context;
    if (!ind_archive_name_read(ind_slice_of(path), &name) || path[0] == 'c' || path_count == FILES)
        return true;
    snprintf(held, sizeof held, "\"event\":\"hashed\",\"series\":\"%c.log\",\"number\":%llu,", path[0],
             (unsigned long long)name.number);
    if (strstr(journal, held))
        paths[path_count++] = strdup(path);
    return true;
}

struct file {
    char name[300]; /* below log/ */
    char *bytes;    /* NULL: it is not there */
    size_t length;
};

static struct file take(const char *name)
{
    struct file file;
    char path[400];
    snprintf(file.name, sizeof file.name, "%s", name);
    snprintf(path, sizeof path, "log/%s", name);
    file.bytes = ind_read_file(ind_path(folder, path), &file.length);
    return file;
}

static void put(const struct file *file)
{
    char path[400];
    snprintf(path, sizeof path, "log/%s", file->name);
    (void)unlink(ind_path(folder, path));
    FILE *stream = file->bytes ? fopen(ind_path(folder, path), "w") : NULL;
    if (!file->bytes)
        return;
    assert_non_null(stream);
    assert_int_equal(fwrite(file->bytes, 1, file->length, stream), file->length);
    fclose(stream);
}

static void put_bytes(const char *name, const char *bytes, size_t length)
{
    struct file file = {.bytes = (char *)bytes, .length = length};
    snprintf(file.name, sizeof file.name, "%s", name);
    put(&file);
}

/* What was done, and what must be said of it. */
static struct {
    const char *what;
    const char *archive; /* of which it must be said; NULL: of the journal */
    char series[8];
    size_t from, to; /* lines of the journal of which one must be named */
    unsigned kinds;  /* bits of enum ind_finding_kind, of which one must be it */
    bool may_be_nothing;
    bool may_say_nothing; /* it is the same text, perhaps */
} did;

#define KIND(kind) (1u << IND_FOUND_##kind)
enum { OF_TEXT = KIND(CHANGED) | KIND(TRUNCATED) | KIND(DAMAGED) };
enum {
    OF_LINES = KIND(LINE_CHANGED) | KIND(LINES_MISSING) | KIND(LINE_ADDED) | KIND(LINE_MOVED) | KIND(CUT)
};

/* Not every byte of a compressed file says something of its text: its index does not. By another reader. */
static bool has_same_text(const struct file *file)
{
    const struct file now = take(file->name);
    char command[300];
    const char *suffix = strrchr(file->name, '.');
    const bool zstd = strcmp(suffix, ".zst") == 0;
    if (!zstd && strcmp(suffix, ".gz") != 0)
        return false;
    for (int which = 0; which < 2; which++) {
        FILE *out = fopen(ind_path(folder, which ? "now" : "before"), "w");
        assert_non_null(out);
        const struct file *from = which ? &now : file;
        assert_int_equal(fwrite(from->bytes, 1, from->length, out), from->length);
        fclose(out);
    }
    snprintf(command, sizeof command,
             "%s -dcq <before >before.text && %s -dcq <now >now.text; cmp before.text now.text",
             zstd ? "zstd" : "gzip", zstd ? "zstd" : "gzip");
    struct ind_ran ran = ind_shell(folder, "%s", command);
    const bool same = ran.status == 0;
    ind_ran_free(&ran);
    free(now.bytes);
    return same;
}

static void change_archive(struct file *saved, size_t *saved_count)
{
    const char *path = paths[ind_random(&seed, (unsigned)path_count)];
    const char *other = paths[ind_random(&seed, (unsigned)path_count)];
    const struct file file = saved[0] = take(path);
    *saved_count = 1;
    did.archive = path;
    char renamed[300];
    snprintf(renamed, sizeof renamed, "%s", path);
    char *number = strrchr(renamed, '-') + 1;
    switch (ind_random(&seed, 6)) {
    case 0: {
        did.what = "a byte of an archive";
        did.kinds = OF_TEXT;
        char *bytes = malloc(file.length);
        memcpy(bytes, file.bytes, file.length);
        bytes[ind_random(&seed, (unsigned)file.length)] ^= (char)(1 << ind_random(&seed, 8));
        put_bytes(path, bytes, file.length);
        free(bytes);
        did.may_say_nothing = true;
        break;
    }
    case 1: {
        did.what = "the end of an archive";
        did.kinds = OF_TEXT;
        put_bytes(path, file.bytes, ind_random(&seed, (unsigned)file.length));
        did.may_say_nothing = true;
        break;
    }
    case 2:
        did.what = "an archive removed";
        did.kinds = KIND(MISSING);
        put_bytes(path, NULL, 0);
        did.archive = NULL; /* it is named as the plain one */
        break;
    case 3:
        did.what = "an archive renamed";
        did.kinds = KIND(RENAMED);
        number[0] = '7';
        saved[1] = take(renamed);
        *saved_count = 2;
        put_bytes(path, NULL, 0);
        put_bytes(renamed, file.bytes, file.length);
        did.archive = NULL;
        break;
    case 4: {
        did.what = "two archives exchanged";
        did.kinds = KIND(SWAPPED);
        struct file second = saved[1] = take(other);
        *saved_count = 2;
        const char *ends[] = {strrchr(path, '.'), strrchr(other, '.')};
        did.may_be_nothing = path == other || strcmp(ends[0], ends[1]) != 0 || second.length == 0;
        if (did.may_be_nothing)
            break; /* of no use */
        put_bytes(path, second.bytes, second.length);
        put_bytes(other, file.bytes, file.length);
        break;
    }
    default:
        did.what = "an archive put in";
        did.kinds = KIND(ADDED);
        number[0] = '8';
        saved[1] = take(renamed);
        *saved_count = 2;
        put_bytes(renamed, file.bytes, file.length);
        did.archive = NULL;
    }
    snprintf(did.series, sizeof did.series, "%c.log", path[0]);
}

struct line {
    const char *at;
    size_t length; /* with its end */
};

static size_t split(const struct file *journal, struct line *lines)
{
    size_t count = 0;
    for (const char *at = journal->bytes, *end = at + journal->length; at < end && count < LINES;) {
        const char *newline = memchr(at, '\n', (size_t)(end - at));
        assert_non_null(newline);
        lines[count++] = (struct line){at, (size_t)(newline - at) + 1};
        at = newline + 1;
    }
    return count;
}

static const char *series_of(const struct line *line, char series[8])
{
    const char *at = strstr(line->at, "\"series\":\"");
    snprintf(series, 8, "%.5s", at + 10);
    return series;
}

static bool is_linked(const struct line *line)
{
    char copy[2000];
    snprintf(copy, sizeof copy, "%.*s", (int)line->length, line->at);
    return strstr(copy, "\"chain\":") != NULL;
}

/* Up to where the heads tell that the journal goes: what is cut off behind them nobody can know. */
static bool is_known(const struct line *line)
{
    char copy[2000], series[8];
    char *heads = ind_read_file(ind_path(folder, "state/" IND_CHAIN_HEADS), NULL);
    snprintf(copy, sizeof copy, "%.*s", (int)line->length, line->at);
    const unsigned long link = strtoul(strstr(copy, "\"link\":") + 7, NULL, 10);
    const char *at = heads ? strstr(heads, series_of(line, series)) : NULL;
    while (at && at > heads && at[-1] != '\n')
        at--;
    const bool known = at && link <= strtoul(at, NULL, 10);
    free(heads);
    return known;
}

static void write_lines(const struct line *lines, size_t count)
{
    char *text = malloc(LINES * 1000), *to = text;
    for (size_t i = 0; i < count; i++) {
        memcpy(to, lines[i].at, lines[i].length);
        to += lines[i].length;
    }
    put_bytes(IND_JOURNAL_PATH, text, (size_t)(to - text));
    free(text);
}

static void change_journal(struct file *saved, size_t *saved_count, bool with_key)
{
    static struct line lines[LINES + 1];
    static char changed[2000];
    struct file journal = saved[0] = take(IND_JOURNAL_PATH);
    size_t count = split(&journal, lines), which = ind_random(&seed, (unsigned)count);
    *saved_count = 1;
    while (!is_linked(&lines[which]))
        which = (which + 1) % count;
    struct line *line = &lines[which];
    size_t other = which;
    char series[8];
    series_of(line, did.series);
    did.from = which;
    /* The link behind it may be named instead: that does not go with this one. */
    for (did.to = which + 1; did.to < count && strcmp(series_of(&lines[did.to], series), did.series) != 0;)
        did.to++;
    did.kinds = OF_LINES;
    switch (ind_random(&seed, 6)) {
    case 0: {
        did.what = "a byte of the journal";
        memcpy(changed, line->at, line->length);
        const size_t place = ind_random(&seed, (unsigned)line->length);
        changed[place] ^= (char)(1 << ind_random(&seed, 8));
        const char *signature = strstr(line->at, "\"signature\"");
        /* A signature that no link behind it covers, and no key checks. */
        did.may_be_nothing = !with_key && signature && (size_t)(signature - line->at) < place;
        did.kinds |= KIND(UNSIGNED);
        line->at = changed;
        did.series[0] = '\0'; /* it may have been just that */
        break;
    }
    case 1: {
        did.what = "a date in the journal";
        memcpy(changed, line->at, line->length);
        char *digit = changed + 8 + ind_random(&seed, 2);
        *digit = *digit == '1' ? '2' : '1';
        line->at = changed;
        break;
    }
    case 2:
        did.what = "a line of the journal removed";
        did.may_be_nothing = !is_known(line);
        memmove(line, line + 1, (--count - which) * sizeof *line);
        break;
    case 3:
        did.what = "a line of the journal twice";
        other = ind_random(&seed, (unsigned)count + 1);
        struct line copy = *line;
        memmove(lines + other + 1, lines + other, (count++ - other) * sizeof *line);
        lines[other] = copy;
        did.from = 0;
        did.to = count + 1;
        break;
    case 4:
        did.what = "two lines of the journal exchanged";
        do
            other = (other + 1) % count;
        while (!is_linked(&lines[other]) || strcmp(series_of(&lines[other], series), did.series) != 0);
        did.may_be_nothing = other == which;
        struct line first = *line;
        *line = lines[other];
        lines[other] = first;
        did.from = 0;
        did.to = count + 1;
        break;
    default:
        did.what = "the end of the journal";
        did.may_be_nothing = !is_known(line);
        count = which;
        did.from = 0;
        did.to = LINES;
        did.kinds |= KIND(ADDED);
    }
    write_lines(lines, count);
}

static bool is_it(const struct ind_finding *finding)
{
    if (!(did.kinds & 1u << finding->kind))
        return false;
    if (did.series[0] && finding->series && strcmp(finding->series, did.series) != 0)
        return false;
    if (did.archive)
        return finding->archive && strcmp(finding->archive, did.archive) == 0;
    return finding->archive || finding->kind == IND_FOUND_CUT ||
           (finding->line > did.from && finding->line <= did.to + 1);
}

static void change_something(bool with_key)
{
    struct file saved[2];
    size_t saved_count = 0;
    struct ind_proof proof;
    memset(&did, 0, sizeof did);
    if (path_count && ind_random(&seed, 2))
        change_archive(saved, &saved_count);
    else
        change_journal(saved, &saved_count, with_key);
    assert_true(prove(&proof, with_key));
    bool found = false;
    for (size_t i = 0; i < proof.finding_count; i++)
        found |= is_it(&proof.findings[i]);
    const bool nothing = proof.finding_count == 0;
    if (!found && !(did.may_be_nothing && nothing) &&
        !(did.may_say_nothing && nothing && has_same_text(&saved[0]))) {
        print(&proof);
        fail_msg("%s (%s, %s, lines %zu to %zu) was not named: %s", did.what, did.series,
                 did.archive ? did.archive : "-", did.from + 1, did.to + 1, folder);
    }
    ind_proof_free(&proof);
    while (saved_count > 0) {
        put(&saved[--saved_count]);
        free(saved[saved_count].bytes);
    }
}

static void what_is_changed_is_found(void **state)
{
    compacted = 0;
    (void)state;
    for (unsigned i = 0, most = getenv("IND_ALL") ? STORES : SOME_STORES; i < most; i++) {
        const bool sign = i % 2 == 0;
        make_store(sign, i % 5 == 0);
        append(0);
        (void)ind_store_flush(store, now());
        (void)ind_keeper_run(ind_store_keeper(store), now(), NULL);
        char *journal = ind_read_file(ind_path(folder, "log/" IND_JOURNAL_PATH), NULL);
        int log = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
        assert_true(ind_walk(log, note_path, journal, NULL));
        close(log);
        free(journal);
        for (unsigned trial = 0; trial < TRIALS; trial++)
            change_something(sign && ind_random(&seed, 2));
        expect_nothing("put right again");
        while (path_count > 0)
            free(paths[--path_count]);
        end_store();
    }
    assert_true(compacted > 0);
}

int main(void)
{
    fs = ind_fs_posix;
    fs.sync = no_sync;
    if (getenv("IND_SEED"))
        seed += strtoull(getenv("IND_SEED"), NULL, 10) * 7919;
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(an_untouched_store_gives_no_finding),
        cmocka_unit_test(what_is_changed_is_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
