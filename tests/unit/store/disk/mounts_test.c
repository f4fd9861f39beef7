/* Which file systems the folders of a store are on, from the kernel's table. */
#include "support/random.h"
#include "support/support.h"

#include "store/disk/mounts.h"
#include <string.h>

/* A line of the table: number, parent, device, what of it, where, and the rest. */
#define LINE(device, where) "22 27 " device " / " where " rw,relatime shared:1 - ext4 /dev/a rw\n"

static void expect(const struct ind_mounts *mounts, const char *path, unsigned file_system)
{
    unsigned got = ind_mounts_of(mounts, ind_slice_of(path));
    if (got != file_system)
        print_error("%s: file system %u, not %u\n", path, got, file_system);
    assert_int_equal(got, file_system);
}

static struct ind_mounts read_table(const char *table, const char *store)
{
    struct ind_mounts mounts;
    assert_true(ind_mounts_read(ind_slice_of(table), store, &mounts));
    return mounts;
}

static void a_store_without_mounts_is_one(void **state)
{
    (void)state;
    static const char *const tables[] = {"",
                                         "\n\n",
                                         "garbage",
                                         LINE("8:1", "/"),
                                         LINE("8:1", "/") LINE("8:2", "/var/log") LINE("8:3", "/var/logs"),
                                         LINE("8:1", "/") LINE("8:2", "/var/log/indagator2")};
    for (size_t i = 0; i < sizeof tables / sizeof *tables; i++) {
        struct ind_mounts mounts = read_table(tables[i], "/var/log/indagator");
        assert_int_equal(mounts.file_systems, 1);
        expect(&mounts, "audit/a.log", 0);
        assert_string_equal(ind_mounts_folder(&mounts, 0), "");
        ind_mounts_free(&mounts);
    }
}

static void each_path_is_on_the_nearest(void **state)
{
    (void)state;
    struct ind_mounts mounts =
        read_table(LINE("8:1", "/") LINE("8:2", "/s") LINE("8:3", "/s/audit") LINE("8:4", "/s/audit/deep")
                       LINE("8:3", "/s/also") LINE("8:2", "/s/bound") LINE("0:40", "/s/with\\040space\\134"),
                   "/s");
    assert_int_equal(mounts.file_systems, 4);
    unsigned audit = ind_mounts_of(&mounts, IND_SLICE("audit/x.log"));
    unsigned deep = ind_mounts_of(&mounts, IND_SLICE("audit/deep/x.log"));
    unsigned space = ind_mounts_of(&mounts, IND_SLICE("with space\\/x.log"));
    assert_true(audit && deep && space && audit != deep && deep != space && audit != space);
    expect(&mounts, "x.log", 0);
    expect(&mounts, "audit", 0); /* a file of that name is the folder's above it */
    expect(&mounts, "audits/x.log", 0);
    expect(&mounts, "audit/deeper/x.log", audit);
    expect(&mounts, "also/x.log", audit);
    expect(&mounts, "bound/x.log", 0);
    assert_string_equal(ind_mounts_folder(&mounts, deep), "audit/deep");
    assert_string_equal(ind_mounts_folder(&mounts, space), "with space\\");
    ind_mounts_free(&mounts);
}

static void the_last_mounted_at_a_place_counts(void **state)
{
    (void)state;
    struct ind_mounts mounts =
        read_table(LINE("8:1", "/") LINE("8:3", "/s/a") LINE("8:1", "/s/a") LINE("8:9", "/s/b"), "/s");
    expect(&mounts, "a/x.log", 0);
    assert_true(ind_mounts_of(&mounts, IND_SLICE("b/x.log")) != 0);
    ind_mounts_free(&mounts);
}

static void more_than_there_are_numbers_for(void **state)
{
    (void)state;
    char table[8192] = LINE("8:1", "/");
    for (int i = 0; i < 40; i++)
        snprintf(table + strlen(table), sizeof table - strlen(table), LINE("9:%d", "/s/m%d"), i, i);
    struct ind_mounts mounts = read_table(table, "/s");
    assert_int_equal(mounts.file_systems, IND_MOST_FILE_SYSTEMS);
    for (int i = 0; i < 40; i++) {
        char path[40];
        snprintf(path, sizeof path, "m%d/x.log", i);
        assert_true(ind_mounts_of(&mounts, ind_slice_of(path)) < mounts.file_systems);
    }
    ind_mounts_free(&mounts);
}

/* Whatever stands in the table, each path has a number that there is, and the store's own is 0. */
static void odd_tables(void **state)
{
    static const char *const pieces[] = {"/",    "/s", "/s/a", " ",   "\n",   "\\040", "\\",
                                         "8:1 ", "9:", "-",    "/s/", "\\07", "s",     "1 "};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 20000; round++) {
        char table[512] = "";
        size_t count = ind_random(&random, 40);
        for (size_t i = 0; i < count; i++)
            strcat(table, pieces[ind_random(&random, sizeof pieces / sizeof *pieces)]);
        struct ind_mounts mounts = read_table(table, "/s");
        assert_in_range(mounts.file_systems, 1, IND_MOST_FILE_SYSTEMS);
        assert_true(ind_mounts_of(&mounts, IND_SLICE("a/x.log")) < mounts.file_systems);
        expect(&mounts, "zz", 0);
        ind_mounts_free(&mounts);
    }
}

static void this_machine(void **state)
{
    (void)state;
    struct ind_mounts mounts;
    assert_true(ind_mounts_find("/", &mounts));
    expect(&mounts, "etc/passwd", 0);
    ind_mounts_free(&mounts);
    assert_true(ind_mounts_find("/no/such/folder", &mounts));
    assert_int_equal(mounts.file_systems, 1);
    ind_mounts_free(&mounts);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_store_without_mounts_is_one),
        cmocka_unit_test(each_path_is_on_the_nearest),
        cmocka_unit_test(the_last_mounted_at_a_place_counts),
        cmocka_unit_test(more_than_there_are_numbers_for),
        cmocka_unit_test(odd_tables),
        cmocka_unit_test(this_machine),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
