/* A disk that runs full while archives are packed, hashed, copied and removed, and while the journal is
 * written anew: nothing is lost, no part is taken for the whole, and once there is room all is made up for.
 */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/archive/proof.h"
#include "store/write/store.h"
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

enum { ROUNDS = 8, ALL_ROUNDS = 200, ARCHIVES = 12 };

static char *folder;
static struct ind_loaded loaded;
static struct ind_fs fs;
static uint64_t left; /* bytes that the disk takes; UINT64_MAX: any */
static uint64_t seed = IND_RANDOM_START;
static int64_t seconds;
static unsigned filed; /* lines */

static ssize_t filling_write(void *context, int file, const struct iovec *pieces, int count)
{
    struct iovec first = pieces[0];
    if (left == UINT64_MAX)
        return ind_fs_posix.write(context, file, pieces, count);
    if (left == 0) {
        errno = ENOSPC;
        return -1;
    }
    if (first.iov_len > left)
        first.iov_len = (size_t)left;
    const ssize_t written = ind_fs_posix.write(context, file, &first, 1);
    left -= written > 0 ? (uint64_t)written : 0;
    return written;
}

static int filling_open(void *context, int at, const char *path, int flags, unsigned mode)
{
    struct stat facts;
    if (left == 0 && (flags & O_CREAT) && fstatat(at, path, &facts, AT_SYMLINK_NOFOLLOW) != 0) {
        errno = ENOSPC;
        return -1;
    }
    return ind_fs_posix.open(context, at, path, flags, mode);
}

static int no_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

static struct ind_clocks now(void)
{
    return (struct ind_clocks){NOW + seconds * IND_SECOND, {(1 + seconds) * IND_SECOND}};
}

/* NULL where a full disk does not let it. */
static struct ind_store *open_store(void)
{
    char reason[1024] = "";
    struct ind_store *store = NULL;
    const struct ind_store_settings settings = {.config = loaded.config, .fs = &fs, .now = now().wall};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK && left == UINT64_MAX)
        fail_msg("%s", reason);
    return store;
}

static void file_and_rotate(struct ind_store *store)
{
    static const char *const paths[] = {"a.log", "b.log"};
    size_t failed = 0;
    for (uint32_t route = 0; route < 2; route++) {
        const struct ind_slice path = ind_slice_of(paths[route]);
        const struct ind_target target = {path, path, ind_path_hash(path), route, false};
        for (unsigned i = 1 + ind_random(&seed, 30); i > 0; i--) {
            char line[100];
            snprintf(line, sizeof line,
                     "2026-11-23T04:45:00.000000Z - pier1-rtr user notice - - - - line %u\n", filed++);
            struct ind_live *live = ind_store_file(store, &target, now());
            assert_int_equal(ind_store_append(store, live, ind_slice_of(line), now().wall, 0, now()),
                             IND_APPENDED);
        }
    }
    assert_int_equal(ind_store_rotate(store, false, now(), &failed), 2);
}

static void keep(struct ind_store *store)
{
    seconds += 1000; /* longer than any pause between two tries */
    if (store)
        (void)ind_keeper_run(ind_store_keeper(store), now(), NULL);
}

static uint64_t number_of(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    const uint64_t number = strtoull(ran.out, NULL, 10);
    if (ran.status != 0)
        fail_msg("%s: %s%s", command, ran.out, ran.err);
    ind_ran_free(&ran);
    return number;
}

static void expect_proven(int round)
{
    char reason[1024];
    struct ind_proof proof;
    char *log = strdup(ind_path(folder, "log"));
    const struct ind_proof_settings settings = {
        .store = log, .since = IND_TIME_NONE, .until = IND_TIME_NONE, .threads = 1};
    if (!ind_proof_make(&settings, &proof, reason, sizeof reason))
        fail_msg("round %d: %s", round, reason);
    if (proof.finding_count)
        fail_msg("round %d: %s: %s", round, ind_finding_name(proof.findings[0].kind), proof.findings[0].text);
    ind_proof_free(&proof);
    free(log);
}

static void a_round(int round)
{
    folder = ind_folder_new();
    seconds = 0;
    filed = 0;
    left = UINT64_MAX;
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: a.log}\n  - {name: b, file: "
        "b.log, archive: plain}\n"
        "archives:\n  default: {keep: {number: 3}, chain: yes, second place: share}\n"
        "  plain: {keep: {number: 1000}, compress: none, recompress: {after: 1 h, with: zstd 5}}\n");
    assert_int_equal(mkdir(ind_path(folder, "share"), 0750), 0);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    struct ind_store *store = open_store();
    for (int i = 0; i < ARCHIVES; i++) {
        left = UINT64_MAX;
        file_and_rotate(store);
        left = ind_random(&seed, 3) ? ind_random(&seed, 2000) : UINT64_MAX;
        keep(store);
        keep(store);
        if (ind_random(&seed, 4) == 0) {
            ind_store_close(store);
            store = open_store();
            left = UINT64_MAX;
            store = store ? store : open_store();
        }
    }
    left = UINT64_MAX;
    for (int i = 0; i < 6; i++)
        keep(store);
    assert_int_equal(ind_keeper_counts(ind_store_keeper(store)).to_copy, 0);
    ind_store_close(store);
    /* All of a is at the second place, once; b is here, once, and packed as it is to be. */
    const uint64_t lines = number_of("(zstd -dcq share/a-*.zst; zstd -dcq log/b-*.zst) | grep -c '' "),
                   different =
                       number_of("(zstd -dcq share/a-*.zst; zstd -dcq log/b-*.zst) | sort -u | grep -c ''");
    if (lines != filed || different != filed)
        fail_msg("round %d: %llu lines, %llu different, not %u", round, (unsigned long long)lines,
                 (unsigned long long)different, filed);
    assert_int_equal(number_of("find log share -name '.*.tmp' | wc -l"), 0);
    assert_int_equal(number_of("ls log/a-*.zst | wc -l"), 3);
    assert_int_equal(number_of("find log -name '*.log' -o -name '*.gz' | wc -l"), 0);
    expect_proven(round);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

static void a_disk_that_runs_full_loses_nothing(void **state)
{
    (void)state;
    for (int round = 0; round < (getenv("IND_ALL") ? ALL_ROUNDS : ROUNDS); round++)
        a_round(round);
}

int main(void)
{
    fs = ind_fs_posix;
    fs.write = filling_write;
    fs.open = filling_open;
    fs.sync = no_sync;
    const struct CMUnitTest tests[] = {cmocka_unit_test(a_disk_that_runs_full_loses_nothing)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
