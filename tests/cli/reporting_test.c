/* Reports that are made by themselves: what was missed at the next start, once; into a folder, by mail, and
 * again where a mail server fails. */
#define _GNU_SOURCE
#include "support/standing_in.h"

#include <sys/stat.h>
#include <sys/wait.h>

static void write_config(const char *reports)
{
    char config[2000];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten: [{tcp: 127.0.0.1:0}]\n" IND_QUIET
             "routes: [{name: all, file: all.log}]\n"
             "mail: {server: \"127.0.0.1:%u\", from: indagator@skerry.example}\nreports:\n%s",
             standin_port ? standin_port : 25, reports);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

/* Some messages of yesterday, and of nine days ago. */
static void file_messages(void)
{
    struct ind_ran ran = ind_shell(folder,
                                   "mkdir -m 700 state; for ago in 1 9; do printf '%%sT12:00:00.000000Z - "
                                   "harbour-fw local4 info app - - - text\n' "
                                   "$(date -u -d \"$ago days ago\" +%%Y-%%m-%%d); done | sort >messages.log; "
                                   "%s collect --from messages.log --as plain >/dev/null",
                                   IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static bool is_there(void *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", (const char *)command);
    const bool there = ran.status == 0;
    ind_ran_free(&ran);
    return there;
}

static void wait_for(const char *command)
{
    ind_wait_until(is_there, (void *)(uintptr_t)command, command);
}

static void again(void)
{
    free(running.out);
    free(running.err);
    running = ind_collect_start(folder);
}

static void what_was_missed_is_made_at_the_next_start_and_once(void **state)
{
    (void)state;
    write_config("  - {name: daily, every: day, folder: reports}\n  - {name: weekly, every: week, folder: "
                 "reports, when: "
                 "'device is \"harbour-fw\"'}\n");
    file_messages();
    /* What is new waits for its time. */
    running = ind_collect_start(folder);
    wait_for("grep -q daily state/reports.json && grep -q weekly state/reports.json");
    end();
    assert_true(is_there((void *)(uintptr_t) "test ! -e reports"));
    ind_write_file(ind_path(folder, "state/reports.json"),
                   "{\"daily\": \"2020-01-01T00:00:00Z\", \"weekly\": \"2020-01-01T00:00:00Z\"}");
    again();
    wait_for("test -s reports/daily-$(date -u -d yesterday +%Y-%m-%d).html && ls reports/weekly-*.html");
    wait_for("! grep -q 2020 state/reports.json");
    end();
    assert_true(is_there(
        (void *)(uintptr_t) "grep -q '1 message' reports/daily-*.html && test $(ls reports | wc -l) -eq 2"));
    struct ind_ran ran = ind_shell(folder, "rm reports/*");
    ind_ran_free(&ran);
    again();
    wait_for(IND_PROGRAM " status >/dev/null");
    end();
    assert_true(is_there((void *)(uintptr_t) "test $(ls reports | wc -l) -eq 0"));
}

static void it_goes_by_mail_with_the_page_and_again_where_that_fails(void **state)
{
    (void)state;
    begin_standin("smtp", "data");
    write_config("  - {name: daily, every: day, mail: noc@skerry.example}\n");
    file_messages();
    ind_write_file(ind_path(folder, "state/reports.json"), "{\"daily\": \"2020-01-01T00:00:00Z\"}");
    running = ind_collect_start(folder);
    wait_for("grep -q 'the report \"daily\" of .* is not delivered' log/all.log");
    assert_true(is_there((void *)(uintptr_t) "grep -q 2020 state/reports.json"));
    end(); /* it is tried again at the next start, too */
    again();
    wait_for("test -s mail-2");
    wait_for("! grep -q 2020 state/reports.json");
    end();
    struct ind_ran ran = ind_shell(
        folder, "python3 -c 'import email, email.policy\n"
                "mail = email.message_from_bytes(open(\"mail-2\", \"rb\").read().split(b\"\\n\", 1)[1], "
                "policy=email.policy.default)\n"
                "print(mail[\"To\"], mail[\"Subject\"])\n"
                "print(mail.get_body((\"plain\",)).get_content())\n"
                "for part in mail.iter_attachments(): print(part.get_filename(), part.get_content()[:15])'");
    if (!strstr(ran.out, "noc@skerry.example Report daily: 2") || !strstr(ran.out, "Report of 2") ||
        !strstr(ran.out, "daily-2") || !strstr(ran.out, ".html <!DOCTYPE html>"))
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
}

static void a_reload_takes_other_reports_and_an_end_waits_for_none(void **state)
{
    (void)state;
    write_config("  - {name: daily, every: day, folder: reports}\n");
    file_messages();
    running = ind_collect_start(folder);
    wait_for("grep -q daily state/reports.json");
    write_config("  - {name: monthly, every: month, at: \"00:00\", folder: reports}\n");
    kill(running.process, SIGHUP);
    wait_for("grep -q monthly state/reports.json");
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_was_missed_is_made_at_the_next_start_and_once, set_up, leave),
        cmocka_unit_test_setup_teardown(it_goes_by_mail_with_the_page_and_again_where_that_fails, set_up,
                                        leave),
        cmocka_unit_test_setup_teardown(a_reload_takes_other_reports_and_an_end_waits_for_none, set_up,
                                        leave),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
