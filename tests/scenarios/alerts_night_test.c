/* A night on a clock of the test's: four hundred causes make three mails, to a mail server of the tests; what
 * is silent, muted by the hour, or comes after the clock on the wall was set, is told as its rule says. */
#include "collect/alert/desk.h"
#include "collect/queue/causes.h"
#include "support/support.h"

#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#define NIGHT (INT64_C(1795399200) * IND_SECOND) /* 2026-11-23T02:00:00Z, a Monday */

static char *folder;
static pid_t standin;
static _Atomic int64_t wall, steady;
static struct ind_reporter reporter;
static struct ind_causes *causes;
static struct ind_desk *desk;
static struct ind_loaded loaded;

static struct ind_clocks read_clock(void *context)
{
    (void)context;
    return (struct ind_clocks){atomic_load(&wall), {atomic_load(&steady)}};
}
static const struct ind_clock clock_of_test = {read_clock, NULL};

static void go_on(int64_t seconds)
{
    atomic_fetch_add(&wall, seconds * IND_SECOND);
    atomic_fetch_add(&steady, seconds * IND_SECOND);
}

static void pass_over(void *context, const char *text)
{
    (void)context;
    (void)text;
}

static bool has_port(void *context)
{
    char *text = ind_read_file(ind_path(folder, "port"), NULL);
    *(unsigned *)context = text ? (unsigned)strtoul(text, NULL, 10) : 0;
    free(text);
    return *(unsigned *)context > 0;
}

static unsigned begin_mail_server(void)
{
    unsigned port = 0;
    standin = fork();
    if (standin == 0) {
        execlp("python3", "python3", IND_TESTS_FOLDER "/support/standin.py", "smtp", folder, (char *)NULL);
        _exit(127);
    }
    ind_wait_until(has_port, &port, "the server listens");
    return port;
}

static int set_up(void **state)
{
    char config[2000];
    (void)state;
    folder = ind_folder_new();
    atomic_store(&wall, NIGHT);
    atomic_store(&steady, 1000000 * IND_SECOND);
    snprintf(config, sizeof config,
             "store: %s/log\nstate: %s/state\nzone: UTC\ndevices: [{name: pier1-sw, address: 192.0.2.77}]\n"
             "alerts:\n"
             "  - name: link\n    when: text contains \"down\"\n    over: {when: text contains \"up\"}\n    "
             "by: app\n"
             "    tell: {mail: noc@skerry.example, zone: Europe/Berlin}\n"
             "  - name: silent\n    nothing for: 15 min\n    by: device\n"
             "    not during: 'time within 02:00-04:00'\n    tell: {mail: day@skerry.example}\n"
             "  - name: guessing\n    when: text contains \"guess\"\n    more than: 3 in 10 min\n"
             "    tell: {mail: guard@skerry.example}\n"
             "mail: {server: \"127.0.0.1:%u\", from: indagator@skerry.example}\n",
             folder, folder, begin_mail_server());
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    (void)mkdir(ind_path(folder, "state"), 0700);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    ind_reporter_begin(&reporter, pass_over, NULL);
    causes = ind_causes_new();
    char state_folder[300];
    static char kept[300];
    snprintf(state_folder, sizeof state_folder, "%s", ind_path(folder, "state"));
    memcpy(kept, state_folder, sizeof kept);
    const struct ind_desk_settings settings = {.state = kept,
                                               .store = kept,
                                               .host = "harbour-log",
                                               .causes = &causes,
                                               .cause_count = 1,
                                               .reporter = &reporter,
                                               .clock = &clock_of_test};
    desk = ind_desk_new(&settings);
    return loaded.config && desk && ind_desk_adopt(desk, loaded.config) && ind_desk_start(desk) ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    ind_desk_free(desk);
    ind_causes_free(causes);
    ind_reporter_end(&reporter);
    ind_loaded_free(&loaded);
    (void)kill(standin, SIGKILL);
    (void)waitpid(standin, NULL, 0);
    ind_folder_remove(folder);
    return 0;
}

static void hear(const char *alert, const char *key, const char *text, bool ends)
{
    char line[200];
    const ind_time time = atomic_load(&wall);
    struct ind_buffer out = ind_buffer_on(line, sizeof line);
    ind_time_write(&out, time);
    ind_buffer_text(&out, " 0.00 harbour-fw local4 warning ");
    ind_buffer_text(&out, key[0] ? key : "sshd");
    ind_buffer_text(&out, " - - - ");
    ind_buffer_text(&out, text);
    const struct ind_alert_cause cause = {.alert = ind_slice_of(alert),
                                          .key = ind_slice_of(key),
                                          .ends = ends,
                                          .count = 1,
                                          .time = time,
                                          .last = time};
    if (ind_causes_add(causes, &cause))
        ind_causes_add_line(causes, ind_buffer_view(&out));
}

static bool is_there(void *name)
{
    struct stat facts;
    return stat(ind_path(folder, name), &facts) == 0;
}

static void wait_for(const char *mail)
{
    ind_wait_until(is_there, (void *)(uintptr_t)mail, mail);
}

static bool are_open(void *context)
{
    struct ind_desk_count count;
    ind_desk_read_count(desk, &count);
    return count.alerts.open == *(uint64_t *)context;
}

static void wait_open(uint64_t count)
{
    ind_wait_until(are_open, &count, "so many are open");
}

/* To whom, the subject and the text of a mail, as a reader shows them. */
static char *read_mail(const char *name)
{
    struct ind_ran ran =
        ind_shell(folder,
                  "python3 -c 'import email, email.policy, sys\n"
                  "mail = email.message_from_bytes(open(\"%s\", \"rb\").read().split(b\"\\n\", 1)[1], "
                  "policy=email.policy.default)\n"
                  "print(mail[\"To\"], mail[\"Subject\"], "
                  "mail.get_body((\"plain\",)).get_content().replace(chr(13), \"\"), "
                  "sep=\"\\n\", end=\"\")'",
                  name);
    if (ran.status != 0)
        print_error("%s", ran.err);
    assert_int_equal(ran.status, 0);
    free(ran.err);
    return ran.out;
}

static void expect_mail(const char *name, const char *text)
{
    char *mail = read_mail(name);
    if (strcmp(mail, text) != 0)
        print_error("%s:\n%s", name, mail);
    assert_string_equal(mail, text);
    free(mail);
}

static void four_hundred_causes_make_three_mails(void **state)
{
    char key[20];
    (void)state;
    hear("link", "ge0/0", "ge0/0 down", false);
    wait_for("mail-1");
    expect_mail(
        "mail-1",
        "noc@skerry.example\n"
        "link, ge0/0: opened\n"
        "link, ge0/0\n"
        "  opened at 2026-11-23 03:00:00\n"
        "  1 message at 2026-11-23 03:00:00\n"
        "  each message by app, over when text contains \"up\"\n"
        "    2026-11-23T02:00:00.000000Z 0.00 harbour-fw local4 warning ge0/0 - - - ge0/0 down\n"
        "  See it:        indagator alerts show 1\n"
        "  See to it:     indagator alerts ack link ge0/0\n"
        "  Its messages:  indagator search --when 'text contains \"down\"' --since 2026-11-23T02:00:00Z\n"
        "\n"
        "Times are those of Europe/Berlin; lines are as they were stored. All that is open: indagator "
        "alerts list\n"
        "The collector on harbour-log\n");
    for (int i = 1; i < 400; i++) {
        if (i % 10 == 0)
            go_on(1);
        snprintf(key, sizeof key, "ge0/%d", i);
        hear("link", key, "down", false);
    }
    wait_open(400);
    assert_false(is_there((void *)(uintptr_t) "mail-2"));
    go_on(21); /* a minute after the first */
    wait_for("mail-2");
    char *mail = read_mail("mail-2");
    assert_non_null(strstr(mail, "\nlink: 399 alerts\n"));
    free(mail);
    for (int i = 0; i < 400; i++) {
        snprintf(key, sizeof key, "ge0/%d", i);
        hear("link", key, "up", true);
    }
    wait_open(0);
    go_on(60);
    wait_for("mail-3");
    mail = read_mail("mail-3");
    assert_non_null(strstr(mail, "\nlink: 400 alerts\n"));
    assert_non_null(strstr(mail, "over at 2026-11-23 03:01:00, open since 2026-11-23 03:00:00"));
    free(mail);
    go_on(120);
    hear("guessing", "", "guess", false); /* something else, so that the desk has gone round */
    assert_false(is_there((void *)(uintptr_t) "mail-4"));
}

static void what_is_silent_at_night_is_told_in_the_morning(void **state)
{
    (void)state;
    go_on(15 * 60);
    wait_open(1); /* pier1-sw */
    go_on(3600);
    struct ind_desk_count count;
    ind_desk_read_count(desk, &count);
    assert_int_equal(count.held, 1);
    assert_false(is_there((void *)(uintptr_t) "mail-1"));
    go_on(2700); /* 04:00 */
    wait_for("mail-1");
    expect_mail(
        "mail-1",
        "day@skerry.example\n"
        "silent, pier1-sw: opened\n"
        "silent, pier1-sw\n"
        "  opened at 2026-11-23 02:15:00, held back until now\n"
        "  no message\n"
        "  nothing for 15 min by device, over when heard again\n"
        "  See it:        indagator alerts show 1\n"
        "  See to it:     indagator alerts ack silent pier1-sw\n"
        "\n"
        "Times are those of UTC; lines are as they were stored. All that is open: indagator alerts list\n"
        "The collector on harbour-log\n");
}

/* Spans go by the steady clock. */
static void a_clock_that_is_set_moves_no_alert(void **state)
{
    (void)state;
    for (int i = 0; i < 3; i++) {
        hear("guessing", "", "guess", false);
        atomic_fetch_sub(&wall, 86400 * IND_SECOND);
        atomic_fetch_add(&steady, IND_SECOND);
    }
    atomic_fetch_add(&wall, 30 * 86400 * IND_SECOND);
    hear("guessing", "", "guess", false);
    wait_for("mail-1");
    wait_open(1);
    char *mail = read_mail("mail-1");
    assert_non_null(strstr(mail, "guard@skerry.example"));
    assert_non_null(strstr(mail, "\n  4 messages from "));
    free(mail);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(four_hundred_causes_make_three_mails, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_silent_at_night_is_told_in_the_morning, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_clock_that_is_set_moves_no_alert, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
