/* A copy is there whole and compared, or not at all; and whoever asks for one is never held up by it. */
#include "support/support.h"

#include "store/archive/copier.h"
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static char *folder;
static int store;
static struct ind_fs fs;
#define OUR_ID "0123456789abcdef0123456789abcdef"
#define OTHER_ID "fedcba9876543210fedcba9876543210"
static const char *store_id = OUR_ID;
static bool spoil;
static atomic_bool done, held;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    assert_int_equal(mkdir(ind_path(folder, "log"), 0700), 0);
    assert_int_equal(mkdir(ind_path(folder, "log/a"), 0700), 0);
    assert_int_equal(mkdir(ind_path(folder, "share"), 0700), 0);
    store = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
    ind_write_file(ind_path(folder, "log/a/one.log.zst"), "what is copied");
    spoil = false;
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    close(store);
    ind_folder_remove(folder);
    return 0;
}

static void rest_a_moment(void)
{
    const struct timespec moment = {0, 1000000};
    (void)nanosleep(&moment, NULL);
}

static ssize_t spoiling_write(void *context, int file, const struct iovec *pieces, int count)
{
    while (atomic_load(&held))
        rest_a_moment();
    const ssize_t written = ind_fs_posix.write(context, file, pieces, count);
    if (spoil && written > 0)
        assert_int_equal(pwrite(file, "x", 1, 0), 1);
    return written;
}

static struct ind_copy copy_of(bool known)
{
    struct ind_copy copy = {
        .place = strdup(ind_path(folder, "share")), .known = known, .path = strdup("a/one.log.zst")};
    memcpy(copy.id, store_id, sizeof copy.id);
    return copy;
}

static void expect(bool known, enum ind_copy_state wanted, const char *part)
{
    char reason[600];
    struct ind_copier *copier = ind_copier_new(&fs, store, NULL);
    const struct ind_copy copy = copy_of(known);
    ind_copier_begin(copier, &copy);
    assert_int_equal(ind_copier_look(copier, reason, sizeof reason), wanted);
    if (part && !strstr(reason, part))
        fail_msg("no \"%s\" in %s", part, reason);
    assert_int_equal(ind_copier_look(copier, reason, sizeof reason), IND_COPY_NONE); /* told once */
    ind_copier_free(copier);
}

static void a_copy_is_there_whole(void **state)
{
    (void)state;
    expect(false, IND_COPY_DONE, NULL);
    assert_true(ind_file_holds(ind_path(folder, "share/a/one.log.zst"), "what is copied"));
    expect(true, IND_COPY_DONE, NULL); /* a second time it goes over the first */
}

/* Two stores would write over each other's archives, which have the same names. */
static void a_place_has_the_copies_of_one_store(void **state)
{
    (void)state;
    store_id = OTHER_ID;
    expect(false, IND_COPY_DONE, NULL);
    store_id = OUR_ID;
    expect(false, IND_COPY_FAILED, "the copies of another store are there");
    expect(true, IND_COPY_FAILED, "the copies of another store are there");
    ind_write_file(ind_path(folder, "share/.indagator/id"), "cut off"); /* when the power failed */
    expect(true, IND_COPY_DONE, NULL);
    store_id = OTHER_ID;
    expect(true, IND_COPY_FAILED, "the copies of another store are there");
    store_id = OUR_ID;
    assert_int_equal(unlink(ind_path(folder, "share/.indagator/id")), 0);
    expect(true, IND_COPY_DONE, NULL); /* of before there was one */
}

static void what_does_not_read_back_the_same_is_no_copy(void **state)
{
    (void)state;
    spoil = true;
    expect(false, IND_COPY_FAILED, "does not read back the same");
    assert_int_equal(access(ind_path(folder, "share/a/one.log.zst"), F_OK), -1);
    spoil = false;
    expect(true, IND_COPY_DONE, NULL);
}

static void a_folder_without_its_share_is_no_second_place(void **state)
{
    (void)state;
    expect(true, IND_COPY_FAILED, "is the share mounted?");
    assert_int_equal(rmdir(ind_path(folder, "share")), 0);
    expect(false, IND_COPY_FAILED, "No such file");
    assert_int_equal(symlink("log", ind_path(folder, "share")), 0); /* somebody may want that */
    expect(false, IND_COPY_DONE, NULL);
}

static bool is_done(void *context)
{
    (void)context;
    return atomic_load(&done);
}

static void a_share_that_hangs_holds_nobody_up(void **state)
{
    char reason[600];
    struct ind_copy copy = copy_of(false);
    (void)state;
    atomic_store(&done, false);
    atomic_store(&held, true);
    struct ind_copier *copier = ind_copier_new(&fs, store, &done);
    ind_copier_begin(copier, &copy);
    assert_int_equal(ind_copier_look(copier, reason, sizeof reason), IND_COPY_UNDER_WAY);
    assert_int_equal(ind_copier_look(copier, reason, sizeof reason), IND_COPY_UNDER_WAY);
    atomic_store(&held, false);
    ind_wait_until(is_done, NULL, "the copy is made");
    assert_int_equal(ind_copier_look(copier, reason, sizeof reason), IND_COPY_DONE);
    atomic_store(&held, true); /* and one that is left to itself */
    copy = copy_of(true);
    ind_copier_begin(copier, &copy);
    ind_copier_free(copier);
    atomic_store(&held, false);
    for (int i = 0; i < 20; i++) /* its thread ends by itself */
        rest_a_moment();
}

int main(void)
{
    fs = ind_fs_posix;
    fs.write = spoiling_write;
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_copy_is_there_whole, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_place_has_the_copies_of_one_store, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_does_not_read_back_the_same_is_no_copy, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_folder_without_its_share_is_no_second_place, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_share_that_hangs_holds_nobody_up, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
