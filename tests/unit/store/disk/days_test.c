/* What became of messages by days: written, read and written again it is the same; what is no such file is
 * told. */
#include "store/disk/days.h"
#include "support/random.h"
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    return folder ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static void write_text(const char *text)
{
    ind_write_file(ind_path(folder, IND_DAYS_NAME), text);
}

static void written_read_and_written_again_it_is_the_same(void **state)
{
    static const char *const names[] = {"masks", "say \"no\"", "\xc3\xa9", "a\\b", "(others)"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 50; round++) {
        struct ind_days days = {0}, again;
        for (unsigned i = ind_random(&random, 40); i > 0; i--) {
            char date[30];
            snprintf(date, sizeof date, "20%02u-%02u-%02u", ind_random(&random, 30),
                     1 + ind_random(&random, 12), 1 + ind_random(&random, 28));
            struct ind_day *day = ind_days_at(&days, date);
            assert_non_null(day);
            assert_string_equal(day->date, date);
            for (int c = 0; c < IND_DAY_COUNTS; c++)
                day->counts[c] += ind_random(&random, 1000000);
            ind_day_add_edit(day, names[ind_random(&random, 5)], 1 + ind_random(&random, 100));
        }
        for (size_t i = 1; i < days.count; i++)
            assert_true(strcmp(days.list[i - 1].date, days.list[i].date) < 0);
        char *text = ind_days_text(&days);
        assert_true(ind_days_write(folder, text));
        assert_int_equal(ind_days_read(folder, &again), IND_DAYS_GOOD);
        char *other = ind_days_text(&again);
        assert_string_equal(text, other);
        free(text);
        free(other);
        ind_days_free(&days);
        ind_days_free(&again);
    }
}

static void the_oldest_day_goes_and_names_have_an_end(void **state)
{
    struct ind_days days = {0};
    char text[40];
    (void)state;
    for (int i = 0; i < IND_DAYS_MOST + 50; i++) {
        snprintf(text, sizeof text, "%04d-%02d-%02d", 2000 + i / 300, 1 + i / 28 % 12, 1 + i % 28);
        (void)ind_days_at(&days, text);
    }
    assert_in_range(days.count, 300, IND_DAYS_MOST);
    struct ind_day *day = ind_days_at(&days, "2100-01-01");
    for (int i = 0; i < 1000; i++) {
        snprintf(text, sizeof text, "edit %d", i);
        ind_day_add_edit(day, text, 1);
    }
    assert_int_equal(day->edit_count, IND_DAY_EDITS + 1);
    assert_string_equal(day->edits[IND_DAY_EDITS].name, "(others)");
    assert_int_equal(day->edits[IND_DAY_EDITS].dropped, 1000 - IND_DAY_EDITS);
    ind_days_free(&days);
}

static void what_is_no_such_file_is_told(void **state)
{
    static const char *const texts[] = {"",
                                        "[]",
                                        "{",
                                        "{\"2026-11-23\": 7}",
                                        "{\"yesterday\": {}}",
                                        "{\"2026-11-23\": {}, \"2026-11-23\": {}}",
                                        "{\"2026-11-2\xff\": {}}"};
    struct ind_days days;
    (void)state;
    assert_int_equal(ind_days_read(folder, &days), IND_DAYS_NONE);
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        write_text(texts[i]);
        assert_int_equal(ind_days_read(folder, &days), IND_DAYS_DAMAGED);
        assert_int_equal(days.count, 0);
    }
    /* Numbers that are none count nothing. */
    write_text("{\"2026-11-23\": {\"received\": -7, \"stored\": \"x\", \"lost\": 3, \"dropped_by\": {\"a\": "
               "null, \"b\": 2}}}");
    assert_int_equal(ind_days_read(folder, &days), IND_DAYS_GOOD);
    assert_int_equal(days.list[0].counts[IND_DAY_RECEIVED], 0);
    assert_int_equal(days.list[0].counts[IND_DAY_LOST], 3);
    assert_int_equal(days.list[0].edit_count, 1);
    ind_days_free(&days);
    struct ind_ran ran = ind_shell(folder, "rm " IND_DAYS_NAME "; ln -s /dev/zero " IND_DAYS_NAME);
    ind_ran_free(&ran);
    assert_int_equal(ind_days_read(folder, &days), IND_DAYS_FAILED);
    assert_false(ind_days_write("/no such folder", "{}"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(written_read_and_written_again_it_is_the_same, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_oldest_day_goes_and_names_have_an_end, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_no_such_file_is_told, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
