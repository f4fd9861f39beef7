/* Edits and rehearse as a user meets them: what is hidden is found nowhere, limits are exact whichever way
 * messages come, and a rehearsal says what collect then does. */
#include "support/support.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <jansson.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

static char *folder;

static int begin(void **state)
{
    (void)state;
    folder = ind_folder_new();
    return 0;
}

static int end(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static void configure(const char *text)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
}

static json_t *asked(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s %s", IND_PROGRAM, command);
    json_t *object = json_loads(ran.out, 0, NULL);
    if (!object)
        print_error("%s: %s%s\n", command, ran.out, ran.err);
    assert_non_null(object);
    ind_ran_free(&ran);
    return object;
}

static long long number(const json_t *object, const char *key)
{
    return json_integer_value(json_object_get(object, key));
}

static const json_t *row(const json_t *object, const char *list, const char *key, const char *name)
{
    size_t i;
    json_t *item;
    json_array_foreach(json_object_get(object, list), i,
                       item) if (strcmp(json_string_value(json_object_get(item, key)), name) ==
                                 0) return item;
    return NULL;
}

static size_t lines_of(const char *name)
{
    size_t length = 0, lines = 0;
    char *text = ind_read_file(ind_path(folder, name), &length);
    for (size_t i = 0; text && i < length; i++)
        lines += text[i] == '\n';
    free(text);
    return lines;
}

/* ---- What is hidden ---- */

/* Each of them is sent, in several ways and places, and none may be anywhere afterwards. */
static const char *const hidden[] = {
    "+1 202 555 0142",   "tern@skerry.example", "203.0.113.77", "2001:db8::77",
    "02:00:5e:10:00:77", "4111 1111 1111 1111", "hunter2",      "crew4711"};

static const char messages[] =
    "<13>1 2026-11-23T04:45:00Z pier1-rtr app 1 ID [x@32473 phone=\"+1 202 555 0142\" password=\"hunter2\"] "
    "first\n"
    "<13>1 2026-11-23T04:45:00Z tern@skerry.example app 1 - - second by crew4711\n"
    "<13>Nov 23 04:45:00 pier1-rtr sshd[4]: user=tern@skerry.example password=hunter2 from 203.0.113.77 port "
    "4\n"
    "<13>Nov 23 04:45:00 pier1-rtr tern@skerry.example: station 02:00:5e:10:00:77 is crew4711\n"
    "<13>Nov 23 04:45:00 pier1-rtr shop: {\"card\":\"4111 1111 1111 1111\",\"peer\":\"2001:db8::77\"}\n"
    "<13>tern@skerry.example hunter2 is no header; password hunter2; crew4711\n"
    "<13>1 2026-11-23T04:45:00Z pier1-rtr crew4711 crew4711 crew4711 - third\n"
    "<13>Nov 23 04:45:00 pier1-rtr drop: +1 202 555 0142\n"
    "<13>1 2026-11-23T04:45:00Z tern@skerry.example drop - - - fourth\n"
    "<13>Nov 23 04:45:00 pier1-rtr same: call +1 202 555 0142\n"
    "<13>Nov 23 04:45:00 pier1-rtr same: call +1 202 555 0142\n"
    "<13>1 2026-11-23T04:45:00Z broken [x@32473 password=\"hunter2\" tern@skerry.example\n";

static const char hiding[] =
    "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n"
    "edits:\n"
    "  - {name: same, when: app is \"same\", repeat: 1s}\n"
    "  - {name: drop, when: app is \"drop\", drop: yes}\n"
    "  - {name: said, set: {\"field said\": \"{text}\"}}\n"
    "  - {name: hide, mask: [phone, email, ipv4, ipv6, mac, card, secret]}\n"
    "  - {name: crew, mask: [{matches: 'crew\\d+'}, {matches: 'hunter\\d'}], with: <x>}\n"
    "routes:\n"
    "  - {name: plain, file: plain.log}\n"
    "  - {name: json, file: json.log, layout: json}\n"
    "  - {name: raw, file: raw.log, layout: raw}\n"
    "  - {name: rfc5424, file: rfc5424.log, layout: rfc5424}\n"
    "  - {name: line, file: line.log, layout: \"{app} {host} {device} {data} {text} {field user}\"}\n"
    "  - {name: paths, file: \"by/{device}/{app}/{field user}.log\"}\n";

static void look_for_hidden(const char *where, const char *text, size_t length)
{
    for (size_t i = 0; i < sizeof hidden / sizeof *hidden; i++) {
        size_t size = strlen(hidden[i]);
        for (size_t at = 0; at + size <= length; at++)
            if (memcmp(text + at, hidden[i], size) == 0) {
                print_error("%s holds %s\n", where, hidden[i]);
                fail();
            }
    }
}

/* The output of a command line. */
static void look_in(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    assert_true(ran.out[0]);
    look_for_hidden(command, ran.out, strlen(ran.out));
    look_for_hidden(command, ran.err, strlen(ran.err));
    ind_ran_free(&ran);
}

struct waiting {
    const char *file;
    size_t lines;
};

static bool has_lines(void *context)
{
    const struct waiting *waiting = context;
    return lines_of(waiting->file) >= waiting->lines;
}

static bool has_told(void *context)
{
    (void)context;
    return ind_file_holds(ind_path(folder, "log/plain.log"), "edit \"same\"");
}

static bool has_archive(void *context)
{
    (void)context;
    struct ind_ran ran = ind_shell(folder, "ls log/*.zst | wc -l");
    bool all = atoi(ran.out) >= 5;
    ind_ran_free(&ran);
    return all;
}

/* Values of the path are cut and rewritten: looked for in both forms. */
static void nothing_hidden_is_found_anywhere(void **state)
{
    (void)state;
    char *elsewhere = ind_folder_new(), command[4096];
    ind_write_file(ind_path(elsewhere, "in.log"), messages);
    configure(hiding);
    struct ind_running running = ind_collect_start(folder);
    unsigned tcp = ind_reported_port(&running, "tcp 127.0.0.1:");
    snprintf(command, sizeof command,
             "%s follow --layout json >follow.out 2>follow.err & echo $! >follow.pid", IND_PROGRAM);
    struct ind_ran ran = ind_shell(folder, "%s", command);
    ind_ran_free(&ran);
    struct waiting followed = {"follow.out", 1}, stored = {"log/raw.log", 17};
    /* Until the follower is there, what is sent goes past it. */
    for (int i = 0; i < 200 && !has_lines(&followed); i++) {
        ran = ind_shell(folder, "%s emit --to udp:127.0.0.1:%u --from %s/in.log", IND_PROGRAM, running.port,
                        elsewhere);
        ind_ran_free(&ran);
    }
    ind_wait_until(has_lines, &followed, "somebody follows");
    ran = ind_shell(folder, "%s emit --to tcp:127.0.0.1:%u --from %s/in.log", IND_PROGRAM, tcp, elsewhere);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ind_wait_until(has_lines, &stored, "all is stored");
    ind_wait_until(has_told, NULL, "the repeats are told");
    snprintf(command, sizeof command, "%s status --json; %s status", IND_PROGRAM, IND_PROGRAM);
    look_in(command);
    snprintf(
        command, sizeof command,
        "while read -r line; do %s explain \"$line\"; %s explain --json \"$line\"; done <%s/in.log; "
        "%s rehearse %s/in.log; %s rehearse --json %s/in.log; %s rehearse --against indagator.yaml %s/in.log",
        IND_PROGRAM, IND_PROGRAM, elsewhere, IND_PROGRAM, elsewhere, IND_PROGRAM, elsewhere, IND_PROGRAM,
        elsewhere);
    look_in(command);
    snprintf(command, sizeof command, "%s rotate; %s search --layout json; %s search --by 'field user'",
             IND_PROGRAM, IND_PROGRAM, IND_PROGRAM);
    look_in(command);
    ind_wait_until(has_archive, NULL, "the archives are compressed");
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    free(running.out);
    free(running.err);
    ran = ind_shell(folder, "kill $(cat follow.pid)");
    ind_ran_free(&ran);
    look_in("cat $(find . -type f); find . -name '*.zst' -exec zstd -dc {} +; find .");
    assert_true(ind_file_holds(ind_path(folder, "follow.out"), "\"text\":\""));
    ind_folder_remove(elsewhere);
}

/* ---- Limits ---- */

static int connect_to(int type, unsigned port)
{
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    int fd = socket(AF_INET, type, 0);
    assert_true(fd >= 0 && connect(fd, (struct sockaddr *)&to, sizeof to) == 0);
    return fd;
}

static void send_some(int fd, bool stream, int count, int *sent)
{
    char text[100];
    for (int i = 0; i < count; i++) {
        int length = snprintf(text, sizeof text, "<13>1 2026-11-23T04:45:00Z pier1-rtr app - - - n %d%s",
                              ++*sent, stream ? "\n" : "");
        assert_int_equal(send(fd, text, (size_t)length, 0), length);
    }
}

struct counted {
    long long received;
};

static bool all_received(void *context)
{
    const struct counted *counted = context;
    json_t *status = asked("status --json");
    const json_t *internal = row(status, "listeners", "listener", "internal");
    long long received = number(json_object_get(status, "ledger"), "received");
    received -= internal ? number(internal, "received") : 0;
    json_decref(status);
    return received >= counted->received;
}

/* Of each edit and each route: what the ledger has, and nothing else. */
static void check_balance(void)
{
    json_t *status = asked("status --json"), *item;
    const json_t *ledger = json_object_get(status, "ledger");
    long long dropped = 0;
    size_t i;
    assert_true(json_is_true(json_object_get(ledger, "adds_up")));
    json_array_foreach(json_object_get(status, "edits"), i, item) dropped += number(item, "dropped");
    assert_int_equal(dropped, number(ledger, "dropped"));
    json_array_foreach(json_object_get(status, "devices"), i, item)
        assert_true(json_is_true(json_object_get(item, "adds_up")));
    json_decref(status);
}

static void limits_are_exact_by_all_ways_and_across_reloads(void **state)
{
    enum { WAYS = 5, ROUNDS = 20, EACH = 100, LIMIT = 3000 };
    static const char head[] =
        "store: log\nstate: state\nzone: UTC\nthreads: 2\nlisten:\n  - udp: 127.0.0.1:0\n"
        "  - tcp: 127.0.0.1:0\nedits:\n";
    static const char tail[] =
        "  - {name: calm, limit: 3000 a day}\n  - {name: few, when: text ends with \"7\", thin: "
        "one in 3}\nroutes:\n  - {name: own, when: app is \"indagator\", file: own.log, last: yes}\n"
        "  - {name: all, file: all.log}\n  - {name: again, when: text contains \"5\", file: again.log}\n";
    char config[2048];
    int ways[WAYS], sent = 0;
    (void)state;
    snprintf(config, sizeof config, "%s%s", head, tail);
    configure(config);
    struct ind_running running = ind_collect_start(folder);
    unsigned tcp = ind_reported_port(&running, "tcp 127.0.0.1:");
    for (int i = 0; i < WAYS; i++)
        ways[i] = connect_to(i ? SOCK_STREAM : SOCK_DGRAM, i ? tcp : running.port);
    for (int round = 0; round < ROUNDS; round++) {
        for (int i = 0; i < WAYS; i++)
            send_some(ways[i], i > 0, EACH, &sent);
        snprintf(config, sizeof config, "%s%s%s", head,
                 round % 2 ? "" : "  - {name: other, drop: yes, when: app is \"x\"}\n", tail);
        configure(config);
        struct ind_ran ran =
            ind_shell(folder, "curl -s -X POST --unix-socket state/control.sock http://x/reload");
        assert_non_null(strstr(ran.out, "\"routes\":3"));
        ind_ran_free(&ran);
        if (round % 5 == 0)
            check_balance();
    }
    struct counted counted = {sent};
    ind_wait_until(all_received, &counted, "all has come");
    check_balance();
    for (int i = 0; i < WAYS; i++)
        close(ways[i]);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    free(running.err);
    /* Of the first 3,000, which are not known to be the first ones sent, those that end in 7 are kept one in
     * three. */
    char *out = ind_read_file(running.out, NULL);
    free(running.out);
    const char *over = strstr(out, "dropped by the edit \"calm\"");
    assert_non_null(over);
    assert_non_null(strstr(out, "7000  dropped by the edit \"calm\""));
    struct ind_ran ran = ind_shell(folder, "grep -c '7$' log/all.log; grep -vc '7$' log/all.log");
    int sevens = atoi(ran.out), others = atoi(strchr(ran.out, '\n') + 1);
    ind_ran_free(&ran);
    char few[64];
    snprintf(few, sizeof few, "%d  dropped by the edit \"few\"", LIMIT - sevens - others);
    assert_non_null(strstr(out, few));
    assert_int_equal(sevens, (LIMIT - others + 2) / 3);
    /* What was dropped to the end is told. */
    assert_true(ind_file_holds(ind_path(folder, "log/own.log"),
                               "edit \"calm\": pier1-rtr was over its limit of 3000 a day 7000 times"));
    free(out);
}

/* Also where the lines of a message have to wait for the next batch. */
static void what_edits_remember_is_asked_once(void **state)
{
    enum { COUNT = 60000 };
    (void)state;
    configure("store: log\nstate: state\nzone: UTC\nedits:\n  - {name: half, thin: one in 2}\n"
              "routes:\n  - {name: a, file: a.log, layout: \"{text}\"}\n"
              "  - {name: b, file: b.log, layout: \"{text}\"}\n");
    FILE *file = fopen(ind_path(folder, "in.log"), "w");
    assert_non_null(file);
    for (int i = 0; i < COUNT; i++)
        fprintf(file, "<13>Nov 23 04:45:00 pier1-sw1 app: %d\n", i);
    fclose(file);
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in.log", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_shell(folder, "cat log/a.log | awk '$1 != 2 * (NR - 1)' | wc -l; cmp log/a.log log/b.log");
    assert_string_equal(ran.out, "0\n");
    assert_int_equal(lines_of("log/a.log"), COUNT / 2);
    ind_ran_free(&ran);
}

/* ---- Rehearsing ---- */

static const char rules[] =
    "store: log\nstate: state\nzone: UTC\nedits:\n"
    "  - {name: lease, when: text contains \"lease\", drop: yes}\n"
    "  - {name: hide, mask: ipv4}\n"
    "  - {name: same, when: app is \"link\", repeat: 30s}\n"
    "  - {name: few, when: app is \"chatty\", thin: one in 7}\n"
    "  - {name: calm, when: app is \"fast\", limit: 2 a minute}\n"
    "routes:\n"
    "  - {name: own, when: app is \"indagator\", file: own.log}\n"
    "  - {name: grave, when: severity at least error, file: \"grave/{device}.log\", layout: json}\n"
    "  - {name: rest, when: app is not \"lost\", file: rest.log}\n";

static void write_input(void)
{
    FILE *file = fopen(ind_path(folder, "in.log"), "w");
    static const char *const texts[] = {"kernel: from 192.0.2.9",
                                        "dhcpd: lease of 192.0.2.77",
                                        "link: ge0/1 down",
                                        "chatty: hello",
                                        "fast: again",
                                        "lost: nobody takes this",
                                        "kernel: plain"};
    assert_non_null(file);
    for (int i = 0; i < 3000; i++)
        fprintf(file, "<%d>Nov 23 04:%02d:%02d pier%d-sw1 %s\n", i * 7 % 192, i / 60 % 60, i % 60, i % 3,
                texts[i % 7]);
    fprintf(file, "\r\n\n<13>");
    fclose(file);
}

static long long count_told(const char *out, const char *what)
{
    char text[200];
    const char *at;
    long long count = 0;
    snprintf(text, sizeof text, "  %s\n", what);
    at = strstr(out, text);
    if (!at)
        return 0;
    while (at > out && at[-1] != '\n' && at[-1] != ' ')
        at--;
    for (; *at != ' '; at++)
        count = *at == ',' ? count : count * 10 + (*at - '0');
    return count;
}

static void a_rehearsal_says_what_collect_does(void **state)
{
    (void)state;
    configure(rules);
    write_input();
    json_t *rehearsed = asked("rehearse --received 2026-11-23T05:00:00Z --json in.log");
    struct ind_ran ran = ind_shell(folder, "ls log state 2>&1");
    assert_int_not_equal(ran.status, 0); /* nothing was touched */
    ind_ran_free(&ran);
    ran = ind_run(folder, "collect", "--from", "in.log", "--received", "2026-11-23T05:00:00Z", NULL);
    assert_int_equal(ran.status, 0);
    const json_t *ledger = json_object_get(rehearsed, "ledger");
    assert_true(json_is_true(json_object_get(ledger, "adds_up")));
    assert_int_equal(number(ledger, "received"), count_told(ran.out, "messages received"));
    assert_int_equal(number(ledger, "stored"), count_told(ran.out, "messages stored"));
    assert_int_equal(number(ledger, "dropped"), count_told(ran.out, "messages dropped by edits"));
    assert_int_equal(number(ledger, "unrouted"), count_told(ran.out, "messages unrouted"));
    assert_int_equal(number(ledger, "refused_empty"), count_told(ran.out, "refused: empty"));
    assert_int_equal(number(rehearsed, "lines"), count_told(ran.out, "lines written"));
    static const char *const edits[] = {"lease", "same", "few", "calm"};
    for (size_t i = 0; i < 4; i++) {
        char what[64];
        snprintf(what, sizeof what, "dropped by the edit \"%s\"", edits[i]);
        assert_true(count_told(ran.out, what) > 0);
        assert_int_equal(number(row(rehearsed, "edits", "edit", edits[i]), "dropped"),
                         count_told(ran.out, what));
    }
    assert_int_equal(number(row(rehearsed, "edits", "edit", "hide"), "changed"),
                     count_told(ran.out, "changed by the edit \"hide\""));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "cat log/*.log log/*/*.log | wc -c");
    assert_int_equal(number(rehearsed, "line_bytes"), atoll(ran.out));
    ind_ran_free(&ran);
    assert_int_equal(number(row(rehearsed, "routes", "route", "rest"), "messages"), lines_of("log/rest.log"));
    assert_int_equal(json_array_size(json_object_get(row(rehearsed, "routes", "route", "rest"), "examples")),
                     2);
    assert_int_equal(json_array_size(json_object_get(rehearsed, "unrouted")), 2);
    json_decref(rehearsed);
}

/* With several threads the examples are still the first ones. */
static void examples_are_the_first_there_are(void **state)
{
    (void)state;
    configure("store: log\nstate: state\nzone: UTC\nthreads: 3\nroutes:\n  - {name: a, when: text contains "
              "\"no 4\", "
              "file: a.log}\n");
    FILE *file = fopen(ind_path(folder, "in.log"), "w");
    assert_non_null(file);
    for (int i = 0; i < 400000; i++)
        fprintf(file, "<13>Nov 23 04:45:00 pier1-sw1 app: message no %d\n",
                i % 390000 + 1000000 * (i > 300000));
    fclose(file);
    for (int i = 0; i < 3; i++) {
        json_t *rehearsed = asked("rehearse --json in.log");
        const json_t *route = row(rehearsed, "routes", "route", "a"),
                     *examples = json_object_get(route, "examples");
        assert_non_null(strstr(json_string_value(json_array_get(examples, 0)), "message no 4"));
        assert_null(strstr(json_string_value(json_array_get(examples, 0)), "message no 40"));
        assert_non_null(strstr(json_string_value(json_array_get(examples, 1)), "message no 40"));
        assert_int_equal(json_array_size(json_object_get(rehearsed, "unrouted")), 2);
        json_decref(rehearsed);
    }
}

static void differences_are_counted_by_their_kind(void **state)
{
    static const struct {
        const char *difference;
        long long messages;
        const char *here, *there;
    } expected[] = {{"only_dropped_here", 429, "dropped by lease", "filed by grave, rest"},
                    {"only_dropped_there", 3, "filed by rest", "dropped by noise"},
                    {"only_routed_there", 1, "unrouted", "filed by rest"},
                    {"other_lines", 1, "changed by hide", "not changed"},
                    {"other_files", 1, "into grave/{device}.log, rest.log", "into rest.log"}};
    (void)state;
    configure(rules);
    write_input();
    ind_write_file(
        ind_path(folder, "other.yaml"),
        "store: log\nstate: state\nzone: UTC\nedits:\n"
        "  - {name: noise, when: text is \"plain\" and severity is debug, drop: yes}\n"
        "  - {name: same, when: app is \"link\", repeat: 30s}\n"
        "  - {name: few, when: app is \"chatty\", thin: one in 7}\n"
        "  - {name: calm, when: app is \"fast\", limit: 4 a second}\n"
        "routes:\n"
        "  - {name: own, when: app is \"indagator\", file: own.log}\n"
        "  - {name: grave, when: severity at least critical, file: \"grave/{device}.log\", layout: json}\n"
        "  - {name: rest, file: rest.log}\n");
    struct ind_ran ran = ind_run(folder, "rehearse", "--against", "other.yaml", "in.log", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "would end differently by the rules of other.yaml"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "rehearse", "--against", "indagator.yaml", "in.log", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.out, "0 of 3003 messages"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "rehearse", "--json", "--against", "other.yaml", "in.log", NULL);
    json_t *rehearsed = json_loads(ran.out, 0, NULL), *item;
    assert_non_null(rehearsed);
    long long sum = 0;
    size_t i;
    json_array_foreach(json_object_get(rehearsed, "differences"), i, item) sum += number(item, "messages");
    assert_int_equal(sum, number(rehearsed, "different"));
    for (size_t k = 0; k < sizeof expected / sizeof *expected; k++) {
        bool seen = false;
        json_array_foreach(json_object_get(rehearsed, "differences"), i, item) seen |=
            strcmp(json_string_value(json_object_get(item, "difference")), expected[k].difference) == 0 &&
            strcmp(json_string_value(json_object_get(item, "here")), expected[k].here) == 0 &&
            strcmp(json_string_value(json_object_get(item, "there")), expected[k].there) == 0 &&
            number(item, "messages") >= (k ? expected[k].messages : 1);
        if (!seen)
            print_error("%s: %s\n", expected[k].difference, ran.out);
        assert_true(seen);
    }
    json_decref(rehearsed);
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(nothing_hidden_is_found_anywhere, begin, end),
        cmocka_unit_test_setup_teardown(limits_are_exact_by_all_ways_and_across_reloads, begin, end),
        cmocka_unit_test_setup_teardown(what_edits_remember_is_asked_once, begin, end),
        cmocka_unit_test_setup_teardown(a_rehearsal_says_what_collect_does, begin, end),
        cmocka_unit_test_setup_teardown(examples_are_the_first_there_are, begin, end),
        cmocka_unit_test_setup_teardown(differences_are_counted_by_their_kind, begin, end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
