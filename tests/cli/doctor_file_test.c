/* What `doctor --file` says went to a file, against the file itself; and what it says of those that did not.
 */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/random.h"

#include <dirent.h>
#include <sys/stat.h>

enum { SENDERS = 12, EACH = 3 };

static const char *const conditions[] = {
    "severity at least warning",
    "facility is local4",
    "device is \"d3\" or device is \"d7\"",
    "app is \"sshd\"",
    "sender within 127.0.0.16/28",
    "listener starts with \"udp\"",
    "transport is \"udp\" and not text contains \"7\"",
    "label place is \"pier\"",
    "trouble and app in (\"sshd\", \"kernel\")",
    "text matches '[02468]$'",
    "not (severity at least error or facility is local4)",
    "host is absent",
};
enum { CONDITIONS = sizeof conditions / sizeof *conditions };

static const char *const files[] = {"{severity}.log", "{device}.log", "all.log", "{facility}/{app}.log",
                                    "x-{app}.log"};

/* Rules as they come. */
static void write_rules(uint64_t *random)
{
    char rules[6000];
    struct ind_buffer out = ind_buffer_on(rules, sizeof rules - 1);
    ind_buffer_text(&out, "store: log\nstate: state\nzone: UTC\nlisten: [{udp: 127.0.0.1:0}]\n"
                          "devices:\n"
                          "  - {name: d3, address: 127.0.0.13, labels: {place: pier}}\n"
                          "  - {name: d7, address: 127.0.0.17, labels: {place: ship}}\n"
                          "conditions: {trouble: severity at least notice}\n");
    ind_buffer_text(&out,
                    "routes:\n  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n");
    for (int i = 0; i < 4; i++) {
        char route[400];
        snprintf(route, sizeof route, "  - name: r%d\n    file: \"%d/%s\"\n", i, i,
                 files[ind_random(random, 5)]);
        ind_buffer_text(&out, route);
        snprintf(route, sizeof route, "    when: >-\n      %s %s %s\n",
                 conditions[ind_random(random, CONDITIONS)], ind_random(random, 2) ? "and" : "or",
                 conditions[ind_random(random, CONDITIONS)]);
        ind_buffer_text(&out, route);
        if (ind_random(random, 3) == 0)
            ind_buffer_text(&out, "    last: yes\n");
    }
    ind_buffer_text(&out, "  - {name: rest, otherwise: yes, file: \"rest/{device}.log\"}\n");
    rules[out.length] = '\0';
    begin(rules);
}

static unsigned long expected_messages;

static bool all_accounted(void *context)
{
    (void)context;
    json_t *object = status();
    const json_t *ledger = json_object_get(object, "ledger"), *listener;
    unsigned long received = 0;
    size_t i;
    json_array_foreach(json_object_get(object, "listeners"), i,
                       listener) if (strncmp(json_string_value(json_object_get(listener, "listener")), "udp",
                                             3) == 0) received += number(listener, "received");
    const bool all = received == expected_messages && number(ledger, "waiting") == 0;
    json_decref(object);
    return all;
}

/* The answer for a file; *went and *messages from it, and the sum of what was kept away. */
static unsigned long ask(const char *path, unsigned long *messages, unsigned long *kept)
{
    struct ind_ran ran = ind_run(folder, "doctor", "--json", "--file", path, NULL);
    json_error_t error;
    json_t *object = json_loads(ran.out, 0, &error);
    const json_t *one;
    size_t i;
    if (!object)
        fail_msg("%s: %s%s", path, ran.out, ran.err);
    const unsigned long went = number(object, "went");
    *messages = number(object, "messages");
    *kept = 0;
    json_array_foreach(json_object_get(object, "kept"), i, one) *kept += number(one, "messages");
    assert_int_equal(ran.status, went > 0 ? 0 : 1);
    json_decref(object);
    ind_ran_free(&ran);
    return went;
}

static unsigned long count_lines(const char *path)
{
    char *text = ind_read_file(path, NULL);
    unsigned long lines = 0;
    for (const char *at = text; at && (at = strchr(at, '\n')); at++)
        lines++;
    free(text);
    return lines;
}

/* Every file below a folder of the store; returns the lines of all. */
static unsigned long compare_folder(const char *below)
{
    char path[2048];
    unsigned long sum = 0;
    DIR *open = opendir(ind_path(folder, below));
    assert_non_null(open);
    for (const struct dirent *entry; (entry = readdir(open));) {
        struct stat facts;
        if (entry->d_name[0] == '.' || strcmp(entry->d_name, "own.log") == 0)
            continue; /* of our own messages not all are remembered */
        snprintf(path, sizeof path, "%s/%s", below, entry->d_name);
        assert_int_equal(stat(ind_path(folder, path), &facts), 0);
        if (S_ISDIR(facts.st_mode)) {
            sum += compare_folder(path);
            continue;
        }
        unsigned long messages, kept;
        const unsigned long lines = count_lines(ind_path(folder, path)),
                            went = ask(path + 4, &messages, &kept);
        if (went != lines || went + kept != messages)
            fail_msg("%s: %lu lines, %lu went, %lu kept, of %lu", path, lines, went, kept, messages);
        sum += lines;
    }
    closedir(open);
    return sum;
}

static void what_went_is_what_is_there(void **state)
{
    enum { ROUNDS = 4 };
    (void)state;
    static const char *const apps[] = {"sshd", "kernel", "dhcpd", "-"};
    uint64_t random = IND_RANDOM_START;
    for (int round = 0; round < ROUNDS; round++) {
        write_rules(&random);
        for (int i = 0; i < SENDERS * EACH; i++) {
            char from[32], text[300];
            snprintf(from, sizeof from, "127.0.0.%d", 10 + i % SENDERS);
            int fd = open_to(IND_SEND_UDP, running.port, from);
            int length =
                snprintf(text, sizeof text, "<%u>1 - %s %s - - - text %u \\n\x01%s",
                         (20 + ind_random(&random, 2) * 2 - 4) * 8 + ind_random(&random, 8),
                         ind_random(&random, 2) ? "-" : "h.skerry.example", apps[ind_random(&random, 4)],
                         ind_random(&random, 100), ind_random(&random, 2) ? "" : " \xff");
            say(fd, text, (size_t)length);
            close(fd);
        }
        expected_messages = SENDERS * EACH;
        ind_wait_until(all_accounted, NULL, "all are filed");
        assert_true(compare_folder("log") > 0);
        unsigned long messages, kept;
        assert_int_equal(ask("rest/nobody.log", &messages, &kept), 0);
        assert_int_equal(kept, messages);
        end();
        struct ind_ran ran = ind_shell(folder, "rm -r log state");
        ind_ran_free(&ran);
    }
}

static void expect(const char *path, int code, const char *part)
{
    struct ind_ran ran = ind_run(folder, "doctor", "--file", path, NULL);
    if (!strstr(code == 2 ? ran.err : ran.out, part))
        fail_msg("%s: no \"%s\" in %s%s", path, part, ran.out, ran.err);
    assert_int_equal(ran.status, code);
    ind_ran_free(&ran);
}

static void what_keeps_messages_away_is_named(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten: [{udp: 127.0.0.1:0}]\n"
          "devices: [{name: harbour-fw, address: 127.0.0.9}]\n"
          "edits: [{name: chatter, when: 'app is \"dhcpd\"', drop: yes}]\n"
          "routes:\n"
          "  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n"
          "  - {name: logins, when: 'app is \"sshd\"', file: logins.log, last: yes}\n"
          "  - {name: firewall, when: 'facility is local4 and severity at least warning', file: "
          "\"fw/{device}/{date}.log\"}\n");
    int fd = open_to(IND_SEND_UDP, running.port, "127.0.0.9");
    SAY(fd, "<165>1 - - app - - - one notice");
    SAY(fd, "<164>1 - - sshd - - - two warnings");
    SAY(fd, "<164>1 - - dhcpd - - - three");
    close(fd);
    expected_messages = 3;
    ind_wait_until(all_accounted, NULL, "all are filed");
    struct ind_ran ran = ind_shell(folder, "date -u +%%F");
    char path[100];
    snprintf(path, sizeof path, "fw/harbour-fw/%.10s.log", ran.out);
    ind_ran_free(&ran);
    expect(path, 1, "kept away by severity at least warning (it is notice)");
    expect(path, 1, "firewall: taken before by the route logins, which is last");
    expect(path, 1, "dropped by the edit chatter");
    expect(path, 1, "is not there");
    expect("logins.log", 0, "1 went there");
    expect("fw/harbour-fw/2020-01-01.log", 1, "of another of its files");
    expect("fw/harbour-fw/2020-1-1.log", 1, "No route writes it");
    expect("logins-20261123T044500Z-000007.log.zst", 0, "An archive, of the file logins.log");
    expect(ind_path(folder, "log/logins.log"), 0, "1 went there");
    expect("log/logins.log", 0, "1 went there");
    expect("./log/../log//logins.log", 0, "1 went there");
    expect("./logins.log", 0, "1 went there");
    expect("", 2, "end in .log");
    expect("log", 2, "end in .log");
    expect("../../../etc/x.log", 1, "No route writes it");
    expect("/etc/x.log", 2, "is not below the store");
    expect("/etc/passwd", 2, "is not below the store");
    end();
    expect("logins.log", 1, "No collector runs");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_went_is_what_is_there, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_keeps_messages_away_is_named, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
