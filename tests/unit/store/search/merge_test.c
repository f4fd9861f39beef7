/* Runs merged, in memory and through temporary files: always all of them, in order. */
#include "support/support.h"

#include "store/search/runs.h"
#include "support/random.h"
#include <errno.h>
#include <sys/stat.h>

enum { LINES = 3000, FILES = 5 };

struct line {
    struct ind_found_line found;
    char text[40];
};

static struct line lines[LINES];

static int order(const void *left, const void *right)
{
    const struct ind_found_line *a = &((const struct line *)left)->found,
                                *b = &((const struct line *)right)->found;
    if (a->key != b->key)
        return a->key < b->key ? -1 : 1;
    if (a->file != b->file)
        return a->file < b->file ? -1 : 1;
    return (a->at > b->at) - (a->at < b->at);
}

static void make_lines(uint64_t *random)
{
    for (unsigned i = 0; i < LINES; i++) {
        snprintf(lines[i].text, sizeof lines[i].text, "%.*s%u\n", (int)ind_random(random, 30),
                 "..............................", i);
        lines[i].found = (struct ind_found_line){.key = (ind_time)ind_random(random, 900) - 300,
                                                 .at = i,
                                                 .file = ind_random(random, FILES),
                                                 .line = ind_slice_of(lines[i].text)};
    }
}

/* Some lines lie in a block that is given away, some are copied. */
static struct ind_run *make_run(uint64_t *random, unsigned from, unsigned to)
{
    struct ind_run *run = ind_run_new();
    char *block = malloc(LINES * sizeof lines->text);
    struct ind_buffer out = ind_buffer_on(block, LINES * sizeof lines->text);
    const bool with_block = ind_random(random, 2), few = ind_random(random, 2);
    bool failed = false;
    assert_non_null(run);
    for (unsigned i = from; i < to; i++)
        ind_buffer_slice(&out, lines[i].found.line);
    if (with_block)
        ind_run_begin_block(run, block, ind_buffer_view(&out));
    const char *at = block;
    for (unsigned i = from; i < to; i++) {
        struct ind_found_line found = lines[i].found;
        if (with_block && (!few || i % 5 == 0))
            found.line.at = at;
        at += found.line.length;
        assert_true(ind_run_add(run, &found));
    }
    if (!with_block || !ind_run_end_block(run, &failed))
        free(block);
    assert_false(failed);
    ind_run_sort(run);
    return run;
}

static void every_line_comes_once_and_in_order(void **state)
{
    uint64_t random = IND_RANDOM_START;
    char *folder = ind_folder_new();
    (void)state;
    for (int round = 0; round < 40; round++) {
        struct ind_merge *merge = ind_merge_new(folder);
        make_lines(&random);
        for (unsigned from = 0, to; from < LINES; from = to) {
            to = from + 1 + ind_random(&random, 200);
            to = to < LINES ? to : LINES;
            assert_true(ind_merge_take(merge, make_run(&random, from, to)));
            if (round % 2 && ind_random(&random, 8) == 0)
                assert_true(ind_merge_spill(merge));
        }
        assert_true(round % 2 == 0 || ind_merge_size(merge) < sizeof lines + LINES * 100);
        qsort(lines, LINES, sizeof *lines, order);
        for (unsigned i = 0; i < LINES; i++) {
            const struct ind_found_line *found = ind_merge_first(merge);
            assert_non_null(found);
            assert_int_equal(found->key, lines[i].found.key);
            assert_int_equal(found->at, lines[i].found.at);
            assert_slice(found->line, lines[i].text);
            assert_true(ind_merge_next(merge));
            if (round % 4 == 3 && i == LINES / 2 && ind_merge_size(merge))
                assert_true(ind_merge_spill(merge)); /* of what is half given */
        }
        assert_null(ind_merge_first(merge));
        assert_int_equal(ind_merge_size(merge), 0);
        ind_merge_free(merge);
    }
    ind_folder_remove(folder);
}

/* More files than are kept open become one. */
static void many_spills_are_merged(void **state)
{
    uint64_t random = IND_RANDOM_START;
    char *folder = ind_folder_new();
    struct ind_merge *merge = ind_merge_new(folder);
    (void)state;
    make_lines(&random);
    for (unsigned i = 0; i < LINES; i += 10) {
        assert_true(ind_merge_take(merge, make_run(&random, i, i + 10)));
        assert_true(ind_merge_spill(merge));
    }
    qsort(lines, LINES, sizeof *lines, order);
    for (unsigned i = 0; i < LINES; i++) {
        assert_int_equal(ind_merge_first(merge)->at, lines[i].found.at);
        assert_true(ind_merge_next(merge));
    }
    ind_merge_free(merge);
    ind_folder_remove(folder);
}

static void a_folder_that_takes_nothing_is_told(void **state)
{
    uint64_t random = IND_RANDOM_START;
    struct ind_merge *merge = ind_merge_new("/nowhere/at/all");
    (void)state;
    make_lines(&random);
    assert_true(ind_merge_take(merge, make_run(&random, 0, 10)));
    errno = 0;
    assert_false(ind_merge_spill(merge));
    assert_int_equal(errno, ENOENT);
    ind_merge_free(merge);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_line_comes_once_and_in_order),
        cmocka_unit_test(many_spills_are_merged),
        cmocka_unit_test(a_folder_that_takes_nothing_is_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
