/* A courier leaves whoever stalls, at whatever step, and delivers to them afterwards; it ends at once where
 * it is to end while the other side says nothing. */
#include "collect/alert/courier.h"
#include "collect/runtime/clock.h"
#include "support/support.h"

#include <signal.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

/* Each with a server and a courier of its own, so that all wait at the same time. */
struct trial {
    const char *kind, *fault;
    char folder[300], to[100], server[40];
    pid_t standin;
    struct ind_courier *courier;
    bool ended, delivered;
    char reason[200];
};

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    ind_courier_begin();
    return folder ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static void pass_over(void *context)
{
    (void)context;
}

static bool has_port(void *context)
{
    struct trial *trial = context;
    char path[340];
    snprintf(path, sizeof path, "%s/port", trial->folder);
    char *text = ind_read_file(path, NULL);
    const unsigned port = text ? (unsigned)strtoul(text, NULL, 10) : 0;
    free(text);
    snprintf(trial->server, sizeof trial->server, "127.0.0.1:%u", port);
    snprintf(trial->to, sizeof trial->to, "http://127.0.0.1:%u/hook", port);
    return port > 0;
}

static void begin(struct trial *trial, long patience)
{
    snprintf(trial->folder, sizeof trial->folder, "%s", ind_path(folder, trial->fault));
    assert_int_equal(mkdir(trial->folder, 0700), 0);
    trial->standin = fork();
    if (trial->standin == 0) {
        execlp("python3", "python3", IND_TESTS_FOLDER "/support/standin.py", trial->kind, trial->folder,
               trial->fault, (char *)NULL);
        _exit(127);
    }
    ind_wait_until(has_port, trial, "the server listens");
    const struct ind_mail mail = {.server = trial->server, .from = "indagator@skerry.example"};
    const struct ind_courier_settings settings = {
        .host = "harbour-log", .mail = &mail, .patience = patience, .ended = pass_over};
    trial->courier = ind_courier_new(&settings);
    assert_non_null(trial->courier);
}

static void end(struct trial *trial)
{
    ind_courier_free(trial->courier);
    (void)kill(trial->standin, SIGKILL);
    (void)waitpid(trial->standin, NULL, 0);
}

static void send_one(struct trial *trial)
{
    const bool mail = strcmp(trial->kind, "smtp") == 0;
    const struct ind_parcel parcel = {.kind = mail ? IND_TELL_MAIL : IND_TELL_POST,
                                      .to = strdup(mail ? "noc@skerry.example" : trial->to),
                                      .subject = strdup("down"),
                                      .text = strdup("it is down\n"),
                                      .page = strdup("<p>it is down</p>\n"),
                                      .id = strdup("1.opened.0"),
                                      .object = strdup("{}\n")};
    trial->ended = false;
    ind_courier_send(trial->courier, &parcel);
}

static bool has_ended(void *context)
{
    struct trial *trial = context;
    if (!trial->ended)
        trial->ended =
            ind_courier_has_ended(trial->courier, &trial->delivered, trial->reason, sizeof trial->reason);
    return trial->ended;
}

static void who_stalls_is_left_and_tried_again(void **state)
{
    struct trial trials[] = {
        {.kind = "smtp", .fault = "stall-greet"}, {.kind = "smtp", .fault = "stall-ehlo"},
        {.kind = "smtp", .fault = "stall-mail"},  {.kind = "smtp", .fault = "stall-rcpt"},
        {.kind = "smtp", .fault = "stall-data"},  {.kind = "smtp", .fault = "stall-body"},
        {.kind = "http", .fault = "stall-answer"}};
    const size_t count = sizeof trials / sizeof *trials;
    (void)state;
    for (size_t i = 0; i < count; i++)
        begin(&trials[i], 1);
    for (size_t i = 0; i < count; i++)
        send_one(&trials[i]);
    for (size_t i = 0; i < count; i++) {
        ind_wait_until(has_ended, &trials[i], trials[i].fault);
        assert_false(trials[i].delivered);
        if (!strstr(trials[i].reason, "imeout") && !strstr(trials[i].reason, "timed out"))
            fail_msg("%s: %s", trials[i].fault, trials[i].reason);
        send_one(&trials[i]);
    }
    for (size_t i = 0; i < count; i++) {
        ind_wait_until(has_ended, &trials[i], trials[i].fault);
        if (!trials[i].delivered)
            fail_msg("%s: %s", trials[i].fault, trials[i].reason);
        end(&trials[i]);
    }
}

static void who_does_not_say_goodbye_has_taken_it(void **state)
{
    struct trial trial = {.kind = "smtp", .fault = "stall-quit"};
    (void)state;
    begin(&trial, 1);
    send_one(&trial);
    ind_wait_until(has_ended, &trial, "it comes to an end");
    assert_true(trial.delivered);
    end(&trial);
}

static void who_is_to_end_does_not_wait(void **state)
{
    struct trial trial = {.kind = "smtp", .fault = "stall-mail"};
    (void)state;
    begin(&trial, 0);
    send_one(&trial);
    const int64_t began = ind_steady_now().ns;
    end(&trial);
    assert_true(ind_steady_now().ns - began < 30 * IND_SECOND);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(who_stalls_is_left_and_tried_again, set_up, tear_down),
        cmocka_unit_test_setup_teardown(who_does_not_say_goodbye_has_taken_it, set_up, tear_down),
        cmocka_unit_test_setup_teardown(who_is_to_end_does_not_wait, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
