/* Alerts of the built program: opened by messages, told by mail, to an HTTP address and a program, seen to by
 * people, kept over ends, kills and damage. */
#define _GNU_SOURCE
#include "support/standing_in.h"

#include "support/random.h"
#include <sys/stat.h>
#include <sys/wait.h>

#define TOP "store: log\nstate: state\nzone: UTC\nlisten: [{tcp: 127.0.0.1:0}]\n" IND_QUIET "alerts:\n"

static void write_config(const char *rest, const char *end)
{
    char config[4000], port[16];
    snprintf(port, sizeof port, "%u", standin_port);
    const char *at = strstr(rest, "PORT");
    snprintf(config, sizeof config, TOP "%.*s%s%s%s", at ? (int)(at - rest) : (int)strlen(rest), rest,
             at ? port : "", at ? at + 4 : "", end);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

static void again(void)
{
    free(running.out);
    free(running.err);
    running = ind_collect_start(folder);
}

static void send_text(const char *app, const char *text)
{
    char line[600];
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    const int length = snprintf(line, sizeof line, "<38>1 - harbour-fw %s - - - %s\n", app, text);
    say(fd, line, (size_t)length);
    close(fd);
}

/* A program that writes down what it is told. */
static void write_page(void)
{
    ind_write_file(ind_path(folder, "page"), "#!/bin/sh\ncat >>paged\n");
    assert_int_equal(chmod(ind_path(folder, "page"), 0755), 0);
}

static bool is_listed(void *text)
{
    struct ind_ran ran = ind_run(folder, "alerts", "list", NULL);
    const bool listed = strstr(ran.out, text) != NULL;
    ind_ran_free(&ran);
    return listed;
}

static bool is_over(void *text)
{
    struct ind_ran ran = ind_run(folder, "alerts", "history", NULL);
    const bool over = strstr(ran.out, text) != NULL;
    ind_ran_free(&ran);
    return over;
}

static void wait_listed(const char *text)
{
    ind_wait_until(is_listed, (void *)(uintptr_t)text, text);
}

static void wait_over(const char *text)
{
    ind_wait_until(is_over, (void *)(uintptr_t)text, text);
}

static void expect_run(const char *call, int status, const char *part)
{
    struct ind_ran ran = ind_shell(folder, "%s alerts %s 2>&1", IND_PROGRAM, call);
    if (ran.status != status || !strstr(ran.out, part))
        print_error("alerts %s: %d\n%s", call, ran.status, ran.out);
    assert_int_equal(ran.status, status);
    assert_non_null(strstr(ran.out, part));
    ind_ran_free(&ran);
}

static bool is_held(void *name)
{
    struct stat facts;
    return stat(ind_path(folder, name), &facts) == 0 && facts.st_size > 0;
}

/* Counts are saved every two seconds. */
static bool is_counted(void *text)
{
    struct ind_ran ran = ind_run(folder, "alerts", "show", "down", "ge0", NULL);
    const bool counted = strstr(ran.out, text) != NULL;
    ind_ran_free(&ran);
    return counted;
}

static void people_see_to_what_is_open(void **state)
{
    (void)state;
    write_config(
        "  - {name: down, when: 'text contains \"down\"', by: app}\n"
        "  - {name: link, when: 'text contains \"lost\"', over: {when: 'text contains \"found\"'}, by: "
        "[device, app]}\n",
        "");
    running = ind_collect_start(folder);
    expect_run("list", 1, "no alert is open");
    send_text("ge0", "it is down");
    send_text("ge0", "it is down again");
    send_text("ge1", "it is down");
    send_text("ge1", "link lost");
    wait_listed("harbour-fw, ge1");
    wait_listed("down   ge1");
    ind_wait_until(is_counted, (void *)(uintptr_t) "messages      2", "both are counted");
    expect_run("ack down ge0 --note 'power work'", 0, "1 alert acknowledged");
    wait_over("power work");
    expect_run("ack down ge0", 1, "none of that name and key is open");
    expect_run("ack nothing", 3, "no alert of that name");
    expect_run("ack link", 0, "1 alert acknowledged"); /* it is open until it is found */
    wait_listed("acknowledged");
    send_text("ge1", "link found");
    wait_over("harbour-fw, ge1");
    expect_run("list", 0, "ge1");
    expect_run("show nothing", 1, "no alert of that name is known");
    expect_run("mute down", 2, "for how long?");
    expect_run("list --note x", 2, "has no option --note");
    end();
    expect_run("ack down ge1 --note 'by night'", 0, "1 alert acknowledged"); /* nobody runs */
    again();
    wait_over("by night"); /* the rule says that it is over with that */
    expect_run("list", 1, "no alert is open");
    end();
}

static void silence_is_told_and_outlives_a_start(void **state)
{
    (void)state;
    write_config("  - {name: silent, nothing for: 1 s, by: device}\n", "devices: [{name: pier1-sw, address: "
                                                                       "127.0.0.77}]\n");
    running = ind_collect_start(folder);
    send_text("a", "one");
    wait_listed("pier1-sw");   /* configured, and never heard */
    wait_listed("harbour-fw"); /* heard, and no more */
    end();
    again();
    wait_listed("harbour-fw");
    send_text("a", "two");
    wait_over("harbour-fw");
    end();
}

static void what_is_muted_is_told_afterwards(void **state)
{
    (void)state;
    write_config("  - {name: down, when: 'text contains \"down\"', by: app, tell: {program: [./page]}}\n",
                 "");
    write_page();
    running = ind_collect_start(folder);
    expect_run("mute down --for 1h", 0, "it is not told for 1h");
    send_text("ge0", "it is down");
    wait_listed("ge0");
    end();
    again(); /* a mute outlives a start, and so does what it holds back */
    send_text("ge1", "it is down");
    wait_listed("ge1");
    assert_false(is_held((void *)(uintptr_t) "paged"));
    expect_run("mute down --off", 0, "it is told again");
    const struct ind_expected_lines two = {"paged", 2};
    ind_wait_until(has_lines, (void *)(uintptr_t)&two, "both are told");
    assert_true(ind_file_holds(ind_path(folder, "paged"), "\"held\":true"));
    end();
}

#define MAIL_RULE                                                                                            \
    "  - {name: down, when: 'text contains \"down\"', by: text, tell: {mail: noc@skerry.example}}\n"         \
    "mail: {server: \"127.0.0.1:PORT\", from: indagator@skerry.example}\n"

static void a_mail_says_what_happened_and_nobody_adds_to_its_headers(void **state)
{
    (void)state;
    begin_standin("smtp", "");
    write_config(MAIL_RULE, "");
    running = ind_collect_start(folder);
    send_text("ge0", "down\xc3\xa9 \r\x01 Bcc: all@skerry.example, <b>bold</b> =?utf-8?Q?x?=");
    ind_wait_until(is_held, (void *)(uintptr_t) "mail-1", "a mail came");
    char *mail = ind_read_file(ind_path(folder, "mail-1"), NULL);
    char *body = strstr(mail, "\r\n\r\n");
    assert_non_null(body);
    *body = '\0';
    assert_non_null(strstr(mail, "MAIL FROM:<indagator@skerry.example> RCPT TO:<noc@skerry.example>\n"));
    assert_non_null(strstr(mail, "\r\nSubject: =?utf-8?Q?down"));
    assert_non_null(strstr(mail, "\r\nAuto-Submitted: auto-generated"));
    assert_non_null(strstr(mail, "\r\nReferences: <alert.1@"));
    assert_null(strstr(mail, "\nBcc:"));
    assert_non_null(strstr(body + 1, "See to it:     indagator alerts ack down"));
    assert_non_null(strstr(body + 1, "&lt;b&gt;bold"));
    assert_null(strstr(body + 1, "\x01"));
    free(mail);
    end();
}

static bool is_failing(void *context)
{
    json_t *object = status();
    const json_t *way = json_array_get(json_object_get(json_object_get(object, "alerts"), "ways"), 0);
    const bool failing = number(way, "failed") > 0 && json_object_get(way, "reason");
    (void)context;
    json_decref(object);
    return failing;
}

/* Told in the status, health stays what it was, and delivered once after the next start. */
static void expect_told_after(const char *kind, const char *fault, const char *rule, const char *came)
{
    begin_standin(kind, fault);
    write_config(rule, "");
    running = ind_collect_start(folder);
    send_text("ge0", "it is down");
    ind_wait_until(is_failing, NULL, fault);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "failing"));
    assert_null(strstr(ran.out, "Not well"));
    ind_ran_free(&ran);
    end();
    assert_false(is_held((void *)(uintptr_t)came));
    if (strcmp(kind, "smtp") == 0) { /* an address is another one on another port */
        begin_standin(kind, "");
        write_config(rule, "");
    }
    again();
    ind_wait_until(is_held, (void *)(uintptr_t)came, "it is told after the start");
    end();
    ran = ind_shell(folder, "{ ls mail-*; cat posted; } 2>/dev/null | grep -c .");
    assert_string_equal(ran.out, "1\n");
    ind_ran_free(&ran);
    ran = ind_shell(folder, "rm -rf state log mail-* posted");
    ind_ran_free(&ran);
}

static void a_mail_server_fails_at_every_step(void **state)
{
    static const char *const faults[] = {"connect", "greet", "ehlo", "mail", "rcpt", "data", "body", "drop"};
    (void)state;
    for (size_t i = 0; i < sizeof faults / sizeof *faults; i++)
        expect_told_after(
            "smtp", faults[i],
            "  - {name: down, when: 'text contains \"down\"', by: app, tell: {mail: noc@skerry.example}}\n"
            "mail: {server: \"127.0.0.1:PORT\", from: indagator@skerry.example}\n",
            "mail-1");
}

static void an_http_address_refuses_or_sends_elsewhere(void **state)
{
    (void)state;
    expect_told_after("http", "503",
                      "  - {name: down, when: 'text contains \"down\"', tell: {post: "
                      "\"http://127.0.0.1:PORT/hook\"}}\n",
                      "posted");
    expect_told_after("http", "redirect",
                      "  - {name: down, when: 'text contains \"down\"', tell: {post: "
                      "\"http://127.0.0.1:PORT/hook\"}}\n",
                      "posted");
}

static void mails_go_by_tls_and_with_a_login(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(
        folder, "openssl req -x509 -newkey rsa:2048 -nodes -keyout server.key -out server.pem -days 2 -subj "
                "/CN=127.0.0.1 -addext subjectAltName=IP:127.0.0.1 2>/dev/null; printf 'user: "
                "indagator\\npassword: skerry\\n' >mail.secret; chmod 600 mail.secret");
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    begin_standin("smtp", "");
    write_config(
        "  - {name: down, when: 'text contains \"down\"', tell: {mail: noc@skerry.example}}\n"
        "mail: {server: \"127.0.0.1:PORT\", from: indagator@skerry.example, login: mail.secret, trust: "
        "server.pem}\n",
        "");
    running = ind_collect_start(folder);
    send_text("ge0", "it is down");
    ind_wait_until(is_held, (void *)(uintptr_t) "mail-1", "a mail came");
    ran = ind_shell(folder, "base64 -d login | tr '\\0' ' '");
    assert_string_equal(ran.out, " indagator skerry");
    ind_ran_free(&ran);
    end();
}

static void a_program_that_hangs_holds_nobody_up(void **state)
{
    (void)state;
    write_config(
        "  - {name: down, when: 'text contains \"down\"', tell: [{program: [sleep, \"1000\"]}, {program: "
        "[./page]}]}\n",
        "");
    write_page();
    running = ind_collect_start(folder);
    send_text("ge0", "it is down");
    ind_wait_until(is_held, (void *)(uintptr_t) "paged", "the other one is told");
    end();
}

static void a_damaged_file_is_kept_aside_and_alerts_go_on(void **state)
{
    (void)state;
    write_config("  - {name: down, when: 'text contains \"down\"', by: app}\n", "");
    running = ind_collect_start(folder);
    send_text("ge0", "it is down");
    wait_listed("ge0");
    end();
    struct ind_ran ran =
        ind_shell(folder, "rm -f state/alerts.sqlite-*; printf 'no database at all, and long "
                          "enough to be looked at' >state/alerts.sqlite");
    ind_ran_free(&ran);
    expect_run("list", 3, "alerts.sqlite");
    again();
    send_text("ge1", "it is down");
    wait_listed("ge1");
    assert_true(is_held((void *)(uintptr_t) "state/alerts.sqlite.damaged"));
    end();
}

static void whoever_is_killed_tells_it_at_least_once(void **state)
{
    const int rounds = getenv("IND_ALL") ? 60 : 8;
    int twice = 0;
    (void)state;
    write_config("  - {name: down, when: 'text contains \"down\"', by: app, tell: {program: [./page]}}\n",
                 "");
    write_page();
    running = ind_collect_start(folder);
    for (int i = 0; i < rounds; i++) {
        char app[20], key[40], listed[30];
        snprintf(app, sizeof app, "ge%d", i);
        snprintf(key, sizeof key, "\"key\":\"ge%d\"", i);
        snprintf(listed, sizeof listed, "down   ge%d ", i);
        send_text(app, "it is down");
        wait_listed(listed); /* it is on disk: from here on it is told, whatever happens */
        const struct timespec moment = {0, i * 3000000L};
        nanosleep(&moment, NULL);
        end_with(SIGKILL, -1);
        again();
    }
    for (int i = 0; i < rounds; i++) {
        char key[40];
        snprintf(key, sizeof key, "\"key\":\"ge%d\"", i);
        struct ind_ran ran = {0};
        for (int tries = 0; tries < 100; tries++) {
            ran = ind_shell(folder, "grep -c '%s' paged", key);
            if (atoi(ran.out) > 0)
                break;
            ind_ran_free(&ran);
            const struct timespec moment = {0, 50000000L};
            nanosleep(&moment, NULL);
        }
        if (!ran.out || atoi(ran.out) < 1 || atoi(ran.out) > 3) /* each kill may fall into the step */
            fail_msg("%s was told %s times", key, ran.out ? ran.out : "no");
        twice += atoi(ran.out) == 2;
        ind_ran_free(&ran);
    }
    print_message("%d told, %d of them twice\n", rounds, twice);
    end();
}

/* ---- The same count, four ways ---- */

enum { APPS = 6, MESSAGES = 400 };

static char *random_messages(uint64_t *random, size_t *length)
{
    static char text[MESSAGES * 160];
    static const char *const words[] = {"up",    "down",        "\"quoted\"", "\xc3\xa9",
                                        "\\x41", "back\\slash", "\xff"};
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    for (unsigned i = 0; i < MESSAGES; i++) {
        char line[160];
        snprintf(line, sizeof line, "<%u>1 2026-11-23T%02u:%02u:%02uZ harbour-fw app%u - - - ge0/%u %s %u\n",
                 ind_random(random, 192), i / 60, i % 60, ind_random(random, 60), ind_random(random, APPS),
                 ind_random(random, 4), words[ind_random(random, 7)], i);
        ind_buffer_text(&out, line);
    }
    text[out.length] = '\0';
    *length = out.length;
    return text;
}

/* {"messages":N, KEY:"appN"} on a line each, or in a list, into counts. */
static void count_objects(const char *text, const char *list, const char *key, unsigned long counts[APPS])
{
    json_error_t error;
    json_t *whole = list ? json_loads(text, 0, &error) : json_array(), *one;
    size_t i;
    for (const char *at = text; !list && *at; at = strchr(at, '\n') + 1)
        json_array_append_new(whole, json_loads(at, JSON_DISABLE_EOF_CHECK, &error));
    const json_t *objects = list ? json_object_get(whole, list) : whole;
    memset(counts, 0, APPS * sizeof *counts);
    json_array_foreach(objects, i, one)
    {
        const char *name = json_string_value(json_object_get(one, key));
        assert_non_null(name);
        counts[atoi(name + 3) % APPS] += number(one, "messages");
    }
    json_decref(whole);
}

/* Of explain: an object for each message. */
static void count_explained(const char *text, unsigned long counts[APPS])
{
    json_error_t error;
    memset(counts, 0, APPS * sizeof *counts);
    for (const char *at = text; *at; at = strchr(at, '\n') + 1) {
        json_t *object = json_loads(at, JSON_DISABLE_EOF_CHECK, &error);
        const json_t *alert = json_array_get(json_object_get(object, "alerts"), 0);
        assert_non_null(alert);
        if (json_is_true(json_object_get(alert, "counts")))
            counts[atoi(json_string_value(json_object_get(alert, "key")) + 3) % APPS]++;
        json_decref(object);
    }
}

struct live_counts {
    unsigned long counts[APPS], expected[APPS];
};

static bool are_counted(void *context)
{
    struct live_counts *live = context;
    struct ind_ran ran = ind_run(folder, "alerts", "list", "--json", NULL);
    count_objects(ran.out, NULL, "key", live->counts);
    ind_ran_free(&ran);
    return memcmp(live->counts, live->expected, sizeof live->counts) == 0;
}

static void rehearse_explain_search_and_a_collector_count_the_same(void **state)
{
    static const char *const conditions[] = {
        "severity at least warning and text contains \"1\"", "text contains \"down\" or text mentions \"up\"",
        "not facility in (kern, local4) and text contains \"x41\"", "text matches '/[13] .*[02]$'"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (size_t i = 0; i < sizeof conditions / sizeof *conditions; i++) {
        char rule[400];
        size_t length;
        unsigned long explained[APPS], searched[APPS];
        struct live_counts live;
        const char *text = random_messages(&random, &length);
        ind_write_file(ind_path(folder, "messages.log"), text);
        snprintf(rule, sizeof rule, "  - name: each\n    when: >-\n      %s\n    by: app\n", conditions[i]);
        write_config(rule, "");
        struct ind_ran ran = ind_run(folder, "rehearse", "--json", "messages.log", NULL);
        count_objects(ran.out, "alerts", "key", live.expected);
        ind_ran_free(&ran);
        ran =
            ind_run(folder, "search", "--when", conditions[i], "--by", "app", "--json", "messages.log", NULL);
        count_objects(ran.out, NULL, "app", searched);
        ind_ran_free(&ran);
        ran = ind_run(folder, "explain", "--json", "--from", "messages.log", NULL);
        count_explained(ran.out, explained);
        ind_ran_free(&ran);
        assert_memory_equal(searched, live.expected, sizeof searched);
        assert_memory_equal(explained, live.expected, sizeof explained);
        running = ind_collect_start(folder);
        const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
        say(fd, text, length);
        close(fd);
        ind_wait_until(are_counted, &live, conditions[i]);
        end();
        ran = ind_shell(folder, "rm -rf state log");
        ind_ran_free(&ran);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(people_see_to_what_is_open, set_up, leave),
        cmocka_unit_test_setup_teardown(silence_is_told_and_outlives_a_start, set_up, leave),
        cmocka_unit_test_setup_teardown(what_is_muted_is_told_afterwards, set_up, leave),
        cmocka_unit_test_setup_teardown(a_mail_says_what_happened_and_nobody_adds_to_its_headers, set_up,
                                        leave),
        cmocka_unit_test_setup_teardown(a_mail_server_fails_at_every_step, set_up, leave),
        cmocka_unit_test_setup_teardown(an_http_address_refuses_or_sends_elsewhere, set_up, leave),
        cmocka_unit_test_setup_teardown(mails_go_by_tls_and_with_a_login, set_up, leave),
        cmocka_unit_test_setup_teardown(a_program_that_hangs_holds_nobody_up, set_up, leave),
        cmocka_unit_test_setup_teardown(a_damaged_file_is_kept_aside_and_alerts_go_on, set_up, leave),
        cmocka_unit_test_setup_teardown(rehearse_explain_search_and_a_collector_count_the_same, set_up,
                                        leave),
        cmocka_unit_test_setup_teardown(whoever_is_killed_tells_it_at_least_once, set_up, leave),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
