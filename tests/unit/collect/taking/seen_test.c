/* Ids that were stored: over ends and starts, beyond what is remembered, and beside lines that are none; and
 * what batches of strangers hold. */
#include "collect/taking/seen.h"
#include "collect/taking/unpack.h"
#include "support/random.h"
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
#include <zstd.h>

static char *folder;
static char path[300];

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    snprintf(path, sizeof path, "%s/syslog.filers", folder);
    return folder ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static const char *name(unsigned number)
{
    static char id[40];
    snprintf(id, sizeof id, "origin-%u-5-20", number);
    return id;
}

static void an_id_is_known_after_a_start(void **state)
{
    (void)state;
    struct ind_seen *seen = ind_seen_open(path);
    assert_non_null(seen);
    for (unsigned i = 0; i < 1000; i += 2)
        assert_true(ind_seen_add(seen, name(i)));
    assert_true(ind_seen_flush(seen));
    for (int start = 0; start < 2; start++) {
        for (unsigned i = 0; i < 1000; i++)
            assert_int_equal(ind_seen_has(seen, name(i)), i % 2 == 0);
        ind_seen_close(seen);
        seen = ind_seen_open(path);
        assert_non_null(seen);
    }
    ind_seen_close(seen);
}

static void the_last_of_very_many_are_kept(void **state)
{
    enum { ALL = 230000, LEAST = 50000 };
    (void)state;
    struct ind_seen *seen = ind_seen_open(path);
    for (unsigned i = 0; i < ALL; i++)
        assert_true(ind_seen_add(seen, name(i)));
    assert_true(ind_seen_flush(seen));
    for (int start = 0; start < 2; start++) {
        for (unsigned i = ALL - LEAST; i < ALL; i++)
            assert_true(ind_seen_has(seen, name(i)));
        assert_false(ind_seen_has(seen, name(0)));
        ind_seen_close(seen);
        seen = ind_seen_open(path);
    }
    ind_seen_close(seen);
}

/* A crash has cut the last line; somebody has written others. */
static void lines_that_are_none_do_no_harm(void **state)
{
    char text[1000];
    (void)state;
    memset(text, 'x', sizeof text);
    FILE *file = fopen(path, "w");
    fprintf(file, "%s\n\n%.*s\n", name(1), (int)sizeof text, text);
    fprintf(file, "%s\norigin-2-5-", name(7));
    fclose(file);
    struct ind_seen *seen = ind_seen_open(path);
    assert_non_null(seen);
    assert_true(ind_seen_has(seen, name(1)) && ind_seen_has(seen, name(7)) && !ind_seen_has(seen, name(2)));
    text[999] = '\0';
    assert_true(ind_seen_add(seen, text));   /* too long: not remembered, */
    assert_true(ind_seen_add(seen, "a\nb")); /* and so is what would be two lines */
    assert_false(ind_seen_has(seen, text) || ind_seen_has(seen, "a\nb"));
    assert_true(ind_seen_add(seen, name(2)));
    assert_true(ind_seen_flush(seen));
    ind_seen_close(seen);
    seen = ind_seen_open(path);
    assert_true(ind_seen_has(seen, name(2)) && !ind_seen_has(seen, "a"));
    ind_seen_close(seen);
}

static void what_was_packed_is_unpacked(void **state)
{
    enum { MOST = 3 << 20 };
    struct ind_unpacker *unpacker = ind_unpacker_new();
    char *plain = malloc(MOST), *packed = malloc(ZSTD_compressBound(MOST));
    uint64_t random = IND_RANDOM_START;
    struct ind_slice got;
    (void)state;
    for (int i = 0; i < 60; i++) {
        const size_t length = ind_random(&random, i % 10 ? 5000 : MOST);
        for (size_t at = 0; at < length; at++)
            plain[at] = (char)('a' + ind_random(&random, 7));
        const size_t size = ZSTD_compress(packed, ZSTD_compressBound(MOST), plain, length, 3);
        assert_true(ind_unpack(unpacker, (struct ind_slice){packed, size}, &got));
        assert_int_equal(got.length, length);
        assert_true(length == 0 || memcmp(got.at, plain, length) == 0);
        assert_false(
            ind_unpack(unpacker, (struct ind_slice){packed, ind_random(&random, (unsigned)size)}, &got));
    }
    free(plain);
    free(packed);
    ind_unpacker_free(unpacker);
}

/* A few bytes that would be very many. */
static void a_bomb_is_none(void **state)
{
    enum { MOST = 40 << 20 };
    struct ind_unpacker *unpacker = ind_unpacker_new();
    char *plain = calloc(1, MOST), *packed = malloc(ZSTD_compressBound(MOST));
    struct ind_slice got;
    (void)state;
    size_t size = ZSTD_compress(packed, ZSTD_compressBound(MOST), plain, MOST, 3);
    assert_false(ind_unpack(unpacker, (struct ind_slice){packed, size}, &got));
    size = ZSTD_compress(packed, ZSTD_compressBound(MOST), plain, MOST / 2, 3);
    assert_true(ind_unpack(unpacker, (struct ind_slice){packed, size}, &got));
    assert_int_equal(got.length, MOST / 2);
    free(plain);
    free(packed);
    ind_unpacker_free(unpacker);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(an_id_is_known_after_a_start, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_last_of_very_many_are_kept, set_up, tear_down),
        cmocka_unit_test_setup_teardown(lines_that_are_none_do_no_harm, set_up, tear_down),
        cmocka_unit_test(what_was_packed_is_unpacked),
        cmocka_unit_test(a_bomb_is_none),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
