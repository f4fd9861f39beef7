/* Volumes of a store that were filed by the built program, looked at by the desk of alerts on a clock of the
 * test's: the hour that is unusual opens an alert for its device, the next one ends it. */
#include "collect/alert/desk.h"
#include "store/alert/alert_file.h"
#include "support/support.h"

#include <stdio.h>
#include <stdlib.h>

#define HOUR (3600 * IND_SECOND)
#define MONDAY (INT64_C(1795392000) * IND_SECOND) /* 2026-11-23T00:00:00Z */

static char *folder;
static struct ind_clocks now;
static struct ind_reporter reporter;

static struct ind_clocks read_clock(void *context)
{
    (void)context;
    return now;
}

static void say(void *context, const char *text)
{
    (void)context;
    (void)text;
}

static void go_to(ind_time wall)
{
    now = (struct ind_clocks){wall, {wall - MONDAY + 1000000 * IND_SECOND}};
}

/* The same hour of seven weeks: about 200 of each device, but 2,000 of harbour-fw and none of pier1-sw in the
 * last. In the hour behind it all is as ever. */
static void write_messages(void)
{
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    for (int hour = 0; hour < 2; hour++)
        for (int week = 6; week >= 0; week--)
            for (int device = 0; device < 3; device++) {
                static const char *const names[] = {"harbour-fw", "pier1-sw", "pier2-sw"};
                const ind_time from = MONDAY + (4 + hour) * HOUR - (ind_time)week * 7 * 24 * HOUR;
                int count = 190 + (week * 7 + device * 5) % 20;
                if (week == 0 && hour == 0)
                    count = device == 0 ? 2000 : device == 1 ? 0 : count;
                for (int i = 0; i < count; i++) {
                    char text[40];
                    struct ind_buffer time = ind_buffer_on(text, sizeof text - 1);
                    ind_time_write(&time, from + i * IND_SECOND);
                    text[time.length] = '\0';
                    fprintf(file, "<38>1 %s %s app - - - message %d\n", text, names[device], i);
                }
            }
    assert_int_equal(fclose(file), 0);
}

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    write_messages();
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nzone: UTC\nroutes: [{name: all, file: all.log}]\n"
        "archives: {default: {rotate: every month, keep: 1 year}}\n"
        "alerts:\n  - {name: volume, unusual: yes, by: device}\n  - {name: whole, unusual: yes}\n");
    struct ind_ran ran = ind_shell(folder, "%s collect --from messages.log >/dev/null && %s archives rebuild",
                                   IND_PROGRAM, IND_PROGRAM);
    if (ran.status != 0)
        print_error("%s%s", ran.out, ran.err);
    const int status = ran.status;
    ind_ran_free(&ran);
    ind_reporter_begin(&reporter, say, NULL);
    return status;
}

static int tear_down(void **state)
{
    (void)state;
    ind_reporter_end(&reporter);
    ind_folder_remove(folder);
    return 0;
}

static bool shows(void *text)
{
    struct ind_ran ran =
        ind_shell(folder, "%s alerts list; %s alerts history --since 2020-01-01", IND_PROGRAM, IND_PROGRAM);
    const bool shown = strstr(ran.out, text) != NULL;
    ind_ran_free(&ran);
    return shown;
}

static void expect_shown(const char *text)
{
    ind_wait_until(shows, (void *)(uintptr_t)text, text);
}

static void an_unusual_hour_opens_and_a_usual_one_ends(void **state)
{
    struct ind_loaded loaded;
    struct ind_clock clock = {read_clock, NULL};
    char state_folder[300], store[300];
    (void)state;
    snprintf(state_folder, sizeof state_folder, "%s", ind_path(folder, "state"));
    snprintf(store, sizeof store, "%s", ind_path(folder, "log"));
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    go_to(MONDAY + 3 * HOUR);
    const struct ind_desk_settings settings = {
        .state = state_folder, .store = store, .host = "test", .reporter = &reporter, .clock = &clock};
    struct ind_desk *desk = ind_desk_new(&settings);
    assert_true(ind_desk_adopt(desk, loaded.config));
    go_to(MONDAY + 5 * HOUR + 11 * 60 * IND_SECOND);
    assert_true(ind_desk_start(desk));
    expect_shown("harbour-fw");
    expect_shown("pier1-sw");
    assert_false(shows((void *)(uintptr_t) "pier2-sw"));
    struct ind_ran ran = ind_shell(folder, "%s alerts show volume harbour-fw", IND_PROGRAM);
    assert_non_null(
        strstr(ran.out, "2000 messages from 04:00 to 05:00 UTC; in the same hour of 6 weeks before"));
    ind_ran_free(&ran);
    expect_shown("whole");
    ind_desk_free(desk);
    ind_loaded_free(&loaded);
}

/* A desk that began in the middle of an hour says nothing of it. */
static void an_hour_that_was_not_seen_whole_says_nothing(void **state)
{
    struct ind_loaded loaded;
    struct ind_clock clock = {read_clock, NULL};
    char state_folder[300], store[300];
    struct ind_desk_count count;
    (void)state;
    snprintf(state_folder, sizeof state_folder, "%s", ind_path(folder, "state"));
    snprintf(store, sizeof store, "%s", ind_path(folder, "log"));
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    go_to(MONDAY + 4 * HOUR + 60 * IND_SECOND);
    const struct ind_desk_settings settings = {
        .state = state_folder, .store = store, .host = "test", .reporter = &reporter, .clock = &clock};
    struct ind_desk *desk = ind_desk_new(&settings);
    assert_true(ind_desk_adopt(desk, loaded.config));
    go_to(MONDAY + 5 * HOUR + 11 * 60 * IND_SECOND);
    ind_desk_free(desk); /* not started: a round by hand is what its end makes */
    desk = ind_desk_new(&settings);
    assert_true(ind_desk_adopt(desk, loaded.config));
    assert_true(ind_desk_start(desk));
    ind_desk_read_count(desk, &count);
    assert_int_equal(count.alerts.open, 0);
    ind_desk_free(desk);
    ind_loaded_free(&loaded);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(an_unusual_hour_opens_and_a_usual_one_ends, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_hour_that_was_not_seen_whole_says_nothing, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
