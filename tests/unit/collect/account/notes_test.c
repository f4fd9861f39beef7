/* What is remembered of messages: all of it while little comes, a bounded sample of much, and never more
 * accounts than there is room for. */
#include "support/random.h"
#include "support/support.h"

#include "collect/account/notes.h"

static struct ind_notable message(const char *app, const char *line, ind_time time)
{
    return (struct ind_notable){.from = {.bits = 32, .bytes = {192, 0, 2, 9}},
                                .name = IND_SLICE("hfw"),
                                .app = ind_slice_of(app),
                                .line = ind_slice_of(line),
                                .time = time,
                                .configured = true};
}

static void the_last_few_are_kept(void **state)
{
    (void)state;
    struct ind_notes *notes = ind_notes_new();
    struct ind_note *note = calloc(1, sizeof *note);
    char line[32];
    assert_false(ind_notes_of(notes, 7, note));
    for (int i = 0; i < 11; i++) {
        snprintf(line, sizeof line, "line %d", i);
        struct ind_notable notable = message(i % 3 ? "sshd" : "kernel", line, i);
        ind_notes_add(notes, 7, &notable);
    }
    assert_true(ind_notes_of(notes, 7, note));
    assert_int_equal(note->messages, 11);
    assert_int_equal(note->address_count, 1);
    assert_int_equal(note->name_count, 1);
    assert_int_equal(note->app_count, 2);
    assert_int_equal(note->apps[0].messages + note->apps[1].messages, 11);
    for (unsigned i = 0; i < IND_NOTE_MESSAGES; i++) {
        const struct ind_note_message *last = &note->last[(note->next + i) % IND_NOTE_MESSAGES];
        assert_int_equal(last->time, 11 - IND_NOTE_MESSAGES + i);
        snprintf(line, sizeof line, "line %d", (int)last->time);
        assert_true(last->length == strlen(line) && memcmp(last->line, line, last->length) == 0);
    }
    assert_false(ind_notes_of(notes, 6, note));
    assert_false(ind_notes_of(notes, UINT32_MAX, note));
    free(note);
    ind_notes_free(notes);
}

static void long_lines_are_cut_between_characters(void **state)
{
    (void)state;
    struct ind_notes *notes = ind_notes_new();
    struct ind_note *note = calloc(1, sizeof *note);
    char line[IND_NOTE_LINE + 10];
    memset(line, 'x', sizeof line);
    memcpy(line + IND_NOTE_LINE - 1, "\xc3\xa9", 2); /* over the edge */
    line[sizeof line - 1] = '\0';
    struct ind_notable notable = message("a", line, 1);
    ind_notes_add(notes, 0, &notable);
    assert_true(ind_notes_at(notes, 0, note));
    assert_false(ind_notes_at(notes, 1, note));
    assert_true(note->last[0].cut);
    assert_int_equal(note->last[0].length, IND_NOTE_LINE - 1);
    free(note);
    ind_notes_free(notes);
}

static void words_and_addresses_have_a_bound(void **state)
{
    (void)state;
    struct ind_notes *notes = ind_notes_new();
    struct ind_note *note = calloc(1, sizeof *note);
    for (int i = 0; i < 100; i++) {
        char name[100];
        memset(name, 'a' + i % 26, sizeof name - 1); /* longer than what is kept of it */
        name[sizeof name - 1] = '\0';
        name[3] = (char)('A' + i / 26);
        struct ind_notable notable = message(name, "x", i);
        notable.name = ind_slice_of(name);
        notable.from.bytes[3] = (uint8_t)i;
        ind_notes_add(notes, 1, &notable);
    }
    assert_true(ind_notes_of(notes, 1, note));
    assert_int_equal(note->name_count, IND_NOTE_NAMES);
    assert_int_equal(note->app_count, IND_NOTE_APPS);
    assert_int_equal(note->address_count, IND_NOTE_ADDRESSES);
    assert_true(note->more_names && note->more_apps && note->more_addresses);
    free(note);
    ind_notes_free(notes);
}

/* However many strangers come, configured devices are remembered, and the numbers lead to the right notes. */
static void strangers_make_room(void **state)
{
    enum { CONFIGURED = 100, ALL = 3 * IND_NOTES };
    (void)state;
    struct ind_notes *notes = ind_notes_new();
    struct ind_note *note = calloc(1, sizeof *note);
    uint64_t random = IND_RANDOM_START;
    size_t there = 0;
    for (uint32_t i = 0; i < ALL; i++) {
        struct ind_notable notable = message("a", "x", i);
        notable.configured = i < CONFIGURED;
        ind_notes_add(notes, i, &notable);
        if (i > 2 * IND_NOTES) { /* and some of those before again */
            const uint32_t again = (uint32_t)ind_random(&random, i);
            notable.configured = again < CONFIGURED;
            ind_notes_add(notes, again, &notable);
        }
    }
    for (uint32_t i = 0; i < ALL; i++)
        if (ind_notes_of(notes, i, note)) {
            assert_int_equal(note->account, i);
            assert_true(i >= CONFIGURED || note->configured);
            there++;
        } else {
            assert_true(i >= CONFIGURED);
        }
    assert_int_equal(there, IND_NOTES);
    for (size_t place = 0; place < IND_NOTES; place++)
        assert_true(ind_notes_at(notes, place, note));
    assert_false(ind_notes_at(notes, IND_NOTES, note));
    free(note);
    ind_notes_free(notes);
}

static void only_so_many_are_wanted(void **state)
{
    (void)state;
    struct ind_notes *notes = ind_notes_new();
    unsigned firsts = 0, others = 0;
    for (int i = 0; i < 200000; i++) { /* in two seconds */
        const struct ind_steady now = {IND_SECOND + (int64_t)i * 10000};
        others += ind_notes_wants(notes, now, false);
        if (i % 100 == 0) /* a device that says little is always heard */
            assert_true(ind_notes_wants(notes, now, true));
    }
    assert_true(others <= IND_NOTES_A_SECOND);
    assert_true(others >= IND_NOTES_A_SECOND * 9 / 10);
    for (int i = 0; i < 200000; i++)
        firsts += ind_notes_wants(notes, (struct ind_steady){4 * IND_SECOND}, true);
    assert_int_equal(firsts, IND_NOTES_A_SECOND / 20);
    ind_notes_free(notes);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(the_last_few_are_kept),
        cmocka_unit_test(long_lines_are_cut_between_characters),
        cmocka_unit_test(words_and_addresses_have_a_bound),
        cmocka_unit_test(strangers_make_room),
        cmocka_unit_test(only_so_many_are_wanted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
