/* A journal that is written anew: only what is gone is left out, numbers go on, chains stay whole; and a stop
 * after any step of it changes nothing. */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/archive/proof.h"
#include "store/write/store.h"
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

static char *folder;
static struct ind_loaded loaded;
static struct ind_fs fs;
static long left; /* changes until all stops; -1: none does */
static uint64_t seed = IND_RANDOM_START;

static bool goes(void)
{
    if (left > 0)
        left--;
    errno = EIO;
    return left != 0;
}

static int dying_open(void *context, int at, const char *path, int flags, unsigned mode)
{
    return goes() ? ind_fs_posix.open(context, at, path, flags, mode) : -1;
}

static ssize_t dying_write(void *context, int file, const struct iovec *pieces, int count)
{
    return goes() ? ind_fs_posix.write(context, file, pieces, count) : -1;
}

static int dying_rename(void *context, int at, const char *from, const char *to)
{
    return goes() ? ind_fs_posix.rename(context, at, from, to) : -1;
}

static int dying_remove(void *context, int at, const char *path)
{
    return goes() ? ind_fs_posix.remove(context, at, path) : -1;
}

static int dying_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return goes() ? 0 : -1;
}

static struct ind_clocks at(int64_t seconds)
{
    return (struct ind_clocks){NOW + seconds * IND_SECOND, {(1 + seconds) * IND_SECOND}};
}

static struct ind_store *open_store(int64_t seconds)
{
    char reason[1024] = "";
    struct ind_store *store = NULL;
    const struct ind_store_settings settings = {.config = loaded.config, .fs = &fs, .now = at(seconds).wall};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK && left < 0)
        fail_msg("%s", reason);
    return store;
}

static void file_and_rotate(struct ind_store *store, int64_t seconds)
{
    static const char *const paths[] = {"a.log", "b.log"};
    size_t failed = 0;
    for (uint32_t route = 0; route < 2; route++) {
        const struct ind_slice path = ind_slice_of(paths[route]);
        const struct ind_target target = {path, path, ind_path_hash(path), route, false};
        struct ind_live *live = ind_store_file(store, &target, at(seconds));
        assert_int_equal(
            ind_store_append(store, live, IND_SLICE("a line\n"), at(seconds).wall, 0, at(seconds)),
            IND_APPENDED);
    }
    assert_int_equal(ind_store_rotate(store, false, at(seconds), &failed), 2);
    (void)ind_keeper_run(ind_store_keeper(store), at(seconds), NULL);
}

static void shell(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    if (ran.status != 0)
        fail_msg("%s: %s%s", command, ran.out, ran.err);
    ind_ran_free(&ran);
}

static void expect_proven(uint64_t archives, const char *when)
{
    char reason[1024];
    struct ind_proof proof;
    char *store = strdup(ind_path(folder, "log")),
         *heads = ind_read_file(ind_path(folder, "state/" IND_CHAIN_HEADS), NULL);
    const struct ind_proof_settings settings = {.store = store,
                                                .heads = ind_slice_of(heads),
                                                .since = IND_TIME_NONE,
                                                .until = IND_TIME_NONE,
                                                .threads = 1};
    if (!ind_proof_make(&settings, &proof, reason, sizeof reason))
        fail_msg("%s: %s", when, reason);
    if (proof.finding_count)
        fail_msg("%s: %s line %llu: %s", when, ind_finding_name(proof.findings[0].kind),
                 (unsigned long long)proof.findings[0].line, proof.findings[0].text);
    assert_int_equal(proof.series_count, 2);
    assert_int_equal(proof.series[0].verified, 2);
    assert_int_equal(proof.series[0].removed, archives - 2);
    assert_int_equal(proof.series[1].removed, archives - 2);
    ind_proof_free(&proof);
    free(store);
    free(heads);
}

static void what_is_gone_is_left_out_after_whatever_stop(void **state)
{
    enum { ARCHIVES = 40 };
    bool whole = false;
    (void)state;
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nroutes:\n  - {name: a, file: a.log}\n  - {name: b, file: "
                   "b.log, archive: plain}\n"
                   "archives:\n  default: {keep: {number: 2}, chain: yes}\n  plain: {keep: {number: 2}}\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    left = -1;
    struct ind_store *store = open_store(0);
    for (int64_t i = 0; i < ARCHIVES; i++)
        file_and_rotate(store, i * 100);
    ind_store_close(store);
    shell("cp -a log log.before; cp -a state state.before; ! grep -q compacted log/.indagator/journal.jsonl");
    expect_proven(ARCHIVES, "before");
    for (long stop = 1; !whole; stop += stop < 8 ? 1 : 1 + ind_random(&seed, 9)) {
        shell("rm -r log state; cp -a log.before log; cp -a state.before state");
        left = stop;
        ind_store_close(open_store(ARCHIVES * 100));
        whole = left > 0;
        left = -1;
        expect_proven(ARCHIVES, "after the stop");
        store = open_store(ARCHIVES * 100);
        expect_proven(ARCHIVES, "after the start");
        shell(
            "grep -q compacted log/.indagator/journal.jsonl && test ! -e log/.indagator/journal.jsonl.new && "
            "test $(wc -c <log/.indagator/journal.jsonl) -lt $(($(wc -c "
            "<log.before/.indagator/journal.jsonl) / 2))");
        file_and_rotate(store, ARCHIVES * 100 + 100);
        ind_store_close(store);
        shell("ls log/a-*-000041.log.zst log/b-*-000041.log.zst");
        expect_proven(ARCHIVES + 1, "and on");
    }
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

int main(void)
{
    fs = ind_fs_posix;
    fs.open = dying_open;
    fs.write = dying_write;
    fs.rename = dying_rename;
    fs.remove = dying_remove;
    fs.sync = dying_sync;
    const struct CMUnitTest tests[] = {cmocka_unit_test(what_is_gone_is_left_out_after_whatever_stop)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
