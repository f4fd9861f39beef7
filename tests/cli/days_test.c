/* What became of messages by days, of the built program: it goes on over ends, kills and damage, and a report
 * has it. */
#include "support/live.h"

#define CONFIG                                                                                               \
    "store: log\nstate: state\nzone: UTC\nlisten: [{tcp: 127.0.0.1:0}]\n"                                    \
    "edits: [{name: chatter, when: 'text contains \"chatter\"', drop: yes}, {name: own, when: 'app is "      \
    "\"indagator\"', drop: yes}]\n"                                                                          \
    "routes: [{name: all, when: 'not text contains \"nowhere\"', file: all.log}]\n"

static void again(void)
{
    free(running.out);
    free(running.err);
    running = ind_collect_start(folder);
}

static void send_some(unsigned stored, unsigned dropped, unsigned unrouted)
{
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    const struct {
        unsigned count;
        const char *line;
    } kinds[] = {{stored, "<38>1 - harbour-fw app - - - text\n"},
                 {dropped, "<38>1 - harbour-fw app - - - chatter\n"},
                 {unrouted, "<38>1 - harbour-fw app - - - nowhere\n"}};
    for (size_t k = 0; k < 3; k++)
        for (unsigned i = 0; i < kinds[k].count; i++)
            say(fd, kinds[k].line, strlen(kinds[k].line));
    close(fd);
}

static json_t *report_of(const char *section)
{
    json_error_t error;
    struct ind_ran ran = ind_shell(folder, "%s report --json --since 3d", IND_PROGRAM);
    json_t *report = json_loads(ran.out, 0, &error);
    if (!report)
        fail_msg("%s%s", ran.out, ran.err);
    json_t *rows =
        json_incref(json_object_get(json_object_get(json_object_get(report, "sections"), section), "rows"));
    json_decref(report);
    ind_ran_free(&ran);
    return rows;
}

static unsigned long sum(const char *section, const char *key)
{
    json_t *rows = report_of(section), *row;
    unsigned long sum = 0;
    size_t i;
    json_array_foreach(rows, i, row)
    {
        sum += number(row, key);
    }
    json_decref(rows);
    return sum;
}

static unsigned long dropped_by(const char *edit)
{
    json_t *rows = report_of("edits"), *row;
    unsigned long dropped = 0;
    size_t i;
    json_array_foreach(rows, i, row)
    {
        if (strcmp(json_string_value(json_object_get(row, "edit")), edit) == 0)
            dropped = number(row, "dropped");
    }
    json_decref(rows);
    return dropped;
}

static bool is_written(void *stored)
{
    return sum("ledger", "stored") == *(unsigned long *)stored;
}

static void it_goes_on_over_ends_and_damage(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    running = ind_collect_start(folder);
    send_some(7, 3, 2);
    end();
    assert_int_equal(sum("ledger", "stored"), 7);
    assert_int_equal(sum("ledger", "unrouted"), 2);
    assert_int_equal(dropped_by("chatter"), 3);
    assert_int_equal(sum("ledger", "received"), 7 + 2 + sum("ledger", "dropped"));
    again();
    send_some(5, 4, 0);
    end();
    assert_int_equal(sum("ledger", "stored"), 12);
    assert_int_equal(dropped_by("chatter"), 7);
    /* Messages from files are of no day. */
    ind_write_file(ind_path(folder, "messages.log"), "<38>1 - harbour-fw app - - - text\n");
    struct ind_ran ran = ind_shell(folder, "%s collect --from messages.log >/dev/null", IND_PROGRAM);
    ind_ran_free(&ran);
    assert_int_equal(sum("ledger", "stored"), 12);
    ind_write_file(ind_path(folder, "state/days.json"), "{\"2026-11-23\": 7}");
    again();
    send_some(1, 0, 0);
    end();
    assert_int_equal(sum("ledger", "stored"), 1);
    assert_true(ind_file_holds(ind_path(folder, "state/days.json.damaged"), ": 7}"));
}

static void after_a_kill_what_was_written_is_there(void **state)
{
    unsigned long stored = 9;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), CONFIG);
    running = ind_collect_start(folder);
    send_some(9, 0, 0);
    end();
    ind_wait_until(is_written, &stored, "all of it is written down");
    again();
    end_with(SIGKILL, -1);
    assert_int_equal(sum("ledger", "stored"), 9);
    again();
    send_some(2, 0, 0);
    end();
    assert_int_equal(sum("ledger", "stored"), 11);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(it_goes_on_over_ends_and_damage, set_up, tear_down),
        cmocka_unit_test_setup_teardown(after_a_kill_what_was_written_is_there, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
