/* One answer, whoever is asked: for random messages of every form, with odd bytes, and random conditions over
 * every field and operator, a route takes a message exactly when `explain` says so, `rehearse` counts it so,
 * and `search` finds it, in each layout, live and in plain, zstd and gzip archives; or the search says with
 * exit code 3 what the layout does not hold.
 *
 * More of both: IND_MESSAGES=100000 IND_CONDITIONS=300 build/tests/cli_proof_test */
#include "support/odd.h"
#include "support/support.h"

#include "net/socket.h"
#include "support/random.h"
#include <ctype.h>
#include <jansson.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>

enum { LAYOUTS = 4, MOST_CONDITIONS = 400, ROOM = 4096 };

static char *folder;
static uint64_t state = IND_RANDOM_START;
static size_t message_count = 400, condition_count = 24;
static char conditions[MOST_CONDITIONS][ROOM];
static unsigned char *taken[MOST_CONDITIONS]; /* by its route, by message */

static unsigned any(unsigned below)
{
    return ind_random(&state, below);
}
#define ONE_OF(list) ((list)[any(sizeof(list) / sizeof *(list))])

/* ---- Messages ---- */

static const char *const hosts[] = {
    "pier1-rtr", "PIER1-RTR", "pier1-rtr.skerry.example", "harbour-fw", "192.0.2.9", "a/b", "a(b)", "-",
    "x\\x20y",   "h\xff"};
static const char *const apps[] = {"su", "kernel", "a/b", "a\\n", "-", "dhcpd", "a(1)"};
static const char *const ids[] = {"-", "12", "ID47", "\\x2d", "a=b"};
static const char *const datas[] = {"-", "[x@1 a=\"1\" b=\"q\\\"\" a=\"2\"]",
                                    "[a b=\"c d\"][d][a b=\"e\\\\x\"]", "[a b=\"\\]\\\\\\\\ \\x41\"]",
                                    "[a b=\"\xff\t\"]"};
static const char *const pieces[] = {IND_ODD_PIECES,
                                     "Failed password for tern",
                                     "user=tern",
                                     "SRC=203.0.113.7\tDPT=22",
                                     "DPT=23, x=\"a b\"",
                                     "port 4022",
                                     "DOWN",
                                     "a",
                                     "tern,"};

static void put(struct ind_buffer *out, const char *text)
{
    ind_buffer_text(out, text);
}

static void put_pieces(struct ind_buffer *out, unsigned most)
{
    for (unsigned i = any(most + 1); i > 0; i--) {
        put(out, ONE_OF(pieces));
        if (any(2))
            put(out, " ");
    }
}

/* With "#N#" in it, by which it is known again. */
static void put_text(struct ind_buffer *out, size_t number)
{
    char id[32];
    snprintf(id, sizeof id, "#%zu#", number);
    switch (any(10)) {
    case 8:
        put(out, any(2) ? "LEEF:1.0|Skerry|gate|1|100|src=192.0.2.7\tmsg=a=b c\tid="
                        : "LEEF:2.0|Skerry|gate|1|100|^|src=192.0.2.7^user=tern^id=");
        put(out, id);
        return;
    case 9:
        put(out, "src:\"192.0.2.7\"; user:\"tern\"; id:\"");
        put(out, id);
        put(out, "\";");
        return;
    case 0:
        put(out, "CEF:0|Skerry|gate|1|100|door ");
        put(out, any(2) ? "open" : "a\\|b");
        put(out, "|5|src=192.0.2.7 msg=a\\=b c id=");
        put(out, id);
        return;
    case 1:
        put(out, "{\"k\":[\"x\",\"y z\"],\"a\\u0000b\":\"c\",\"user\":\"t\\u0065rn\",\"n\":");
        put(out, any(2) ? "7" : "null");
        put(out, ",\"id\":\"");
        put(out, id);
        put(out, "\"}");
        return;
    case 2:
        put(out, any(2) ? "%LINK-3-DOWN: " : "%PKT-LINK-5-UP: ");
        break;
    case 3:
        put(out, "Failed password for tern from 203.0.113.7 port 4022 ");
        break;
    case 4:
        put(out, "DENY IN=ge0 OUT= SRC=203.0.113.7 DPT=22 ");
        break;
    default:
        put_pieces(out, 3);
    }
    put_pieces(out, 3);
    put(out, " ");
    put(out, id);
    if (any(3) == 0) {
        put(out, " ");
        put_pieces(out, 2);
    }
}

static void put_message(struct ind_buffer *out, size_t number)
{
    if (any(6)) {
        put(out, "<");
        ind_buffer_number(out, any(4) ? any(192) : 32 + any(8));
        put(out, ">");
    }
    static const char *const heads[] = {":Nov 23 04:45:00 ",
                                        " Nov 23 04:45:00 pier1-rtr a: ",
                                        "1795409100.123 pier1-rtr ",
                                        "[2026-11-23 04:45:00] ",
                                        "2026/11/23 04:45:00 pier1-rtr a[1]: ",
                                        "23 Nov 2026 04:45:00 a: ",
                                        "Mon, 23 Nov 2026 04:45:00 +0100 ",
                                        "Nov 23 10:01:13 PM pier1-rtr ",
                                        "2001:db8::9 Nov 23 04:45:00 a: ",
                                        "12: pier1-rtr: 000012: Nov 23 04:44:59: ",
                                        "harbour-fw: *task: Nov 23 04:44:59: ",
                                        "AP350,pier1-rtr: a[1]: ",
                                        "Nov 23 04:45:00 pier1-rtr  su(x)[1]: ",
                                        "Nov 23 04:45:00 harbour-fw: ",
                                        "Nov 23 04:45:00 relay 192.0.2.9: "};
    switch (any(5)) {
    case 4:
        put(out, ONE_OF(heads));
        break;
    case 0:
        put(out, "1 ");
        put(out, any(3) ? "2026-11-23T04:45:00.123456Z" : any(2) ? "2026-11-21T22:30:00+05:00" : "-");
        const char *const parts[] = {ONE_OF(hosts), ONE_OF(apps), ONE_OF(ids), ONE_OF(ids), ONE_OF(datas)};
        for (int i = 0; i < 5; i++) {
            put(out, " ");
            put(out, parts[i]);
        }
        put(out, " ");
        break;
    case 1:
        put(out, any(2) ? "Nov 23 04:45:00 " : "Nov 21 22:59:59 ");
        put(out, ONE_OF(hosts));
        put(out, " ");
        put(out, ONE_OF(apps));
        put(out, any(2) ? "[12]: " : ": ");
        break;
    case 2:
        put(out, "000123: *Nov 23 04:44:59.123: ");
        break;
    default:
        break;
    }
    put_text(out, number);
    put(out, "\n");
}

static void write_messages(void)
{
    char line[ROOM];
    FILE *file = fopen(ind_path(folder, "in"), "w");
    assert_non_null(file);
    for (size_t i = 0; i < message_count; i++) {
        struct ind_buffer out = ind_buffer_on(line, sizeof line);
        put_message(&out, i);
        assert_false(out.full);
        assert_int_equal(fwrite(line, 1, out.length, file), out.length);
    }
    assert_int_equal(fclose(file), 0);
}

/* ---- Conditions ---- */

static const char *const words[] = {"link",  "down",  "DOWN", "tern",      "x41",
                                    "\\x41", "\\",    "-",    " ",         "a",
                                    "é",     "/",     "(",    "port 4022", "Failed password",
                                    "\\n",   "[cut]", "a b",  "=",         "]",
                                    "word",  "x",     "c d",  "q\"",       "22",
                                    "1"};
static const char *const names[] = {"pier1-rtr",  "pier1-rtr.skerry.example",
                                    "harbour-fw", "192.0.2.9",
                                    "a/b",        "a(b)",
                                    "PIER",       "rtr",
                                    "unknown",    "-"};
static const char *const expressions[] = {"^link", "[0-9]{4}", "\\\\", "(?i)down",
                                          "a.b",   "tern$",    "^-$",  "\\s\\s"};
static const char *const networks[] = {"192.0.2.0/24", "203.0.113.0/24", "0.0.0.0/0", "127.0.0.2/32"};

static void put_quoted(struct ind_buffer *out, const char *text)
{
    put(out, "\"");
    for (; *text; text++) {
        if (*text == '"' || *text == '\\')
            put(out, "\\");
        ind_buffer_byte(out, *text);
    }
    put(out, "\"");
}

static void put_values(struct ind_buffer *out, bool name)
{
    put(out, "(");
    for (unsigned i = 0, count = 1 + any(3); i < count; i++) {
        put(out, i ? ", " : "");
        put_quoted(out, name ? ONE_OF(names) : ONE_OF(words));
    }
    put(out, ")");
}

static void put_text_test(struct ind_buffer *out, const char *field, bool name, bool numbers)
{
    put(out, field);
    put(out, " ");
    switch (any(numbers ? 11 : 10)) {
    case 0:
        put(out, any(2) ? "is present" : "is absent");
        return;
    case 1:
        put(out, any(2) ? "in " : "not in ");
        put_values(out, name);
        return;
    case 2:
        put(out, "matches '");
        put(out, ONE_OF(expressions));
        put(out, "'");
        return;
    case 10:
        put(out, any(2) ? "at least " : "at most ");
        ind_buffer_number(out, any(50));
        return;
    default:
        break;
    }
    static const char *const operators[] = {"is ",       "is not ",      "contains ", "contains ",
                                            "mentions ", "starts with ", "ends with "};
    put(out, ONE_OF(operators));
    put_quoted(out, name ? ONE_OF(names) : ONE_OF(words));
    if (!name && any(5) == 0)
        put(out, " ignoring case");
}

static void put_test(struct ind_buffer *out)
{
    static const char *const texts[] = {"app",       "procid",     "msgid",           "text",
                                        "text",      "text",       "original",        "label site",
                                        "data a b",  "data x@1 a", "field k",         "field SRC",
                                        "field DPT", "field user", "field code_name", "field code_severity",
                                        "field msg", "field peer", "listener"};
    static const char *const days[] = {"mon", "sat", "sun"};
    switch (any(10)) {
    case 0:
        put(out, any(2) ? "facility is " : "facility is not ");
        ind_buffer_number(out, any(24));
        return;
    case 1:
        put(out, any(3) == 0 ? "severity is " : any(2) ? "severity at least " : "severity at most ");
        ind_buffer_number(out, any(8));
        return;
    case 2:
        put_text_test(out, any(2) ? "host" : "device", true, false);
        return;
    case 3:
        put(out, any(2) ? "pattern is " : "pattern is not ");
        put(out, any(2) ? "\"login\"" : "\"deny\"");
        return;
    case 4:
        put(out, any(2) ? "lag at least " : "lag at most ");
        ind_buffer_number(out, any(100));
        return;
    case 5:
        put(out, any(2) ? "time within 22:00-06:00" : "time within 04:45-05:00");
        return;
    case 6:
        put(out, any(2) ? "day is " : "day is not ");
        put(out, ONE_OF(days));
        return;
    case 7:
        if (any(4) == 0) {
            put(out, any(2) ? "transport is \"udp\"" : "transport in (\"tcp\", \"file\")");
            return;
        }
        put(out, any(2) ? "sender within " : any(2) ? "host within " : "field SRC within ");
        put(out, ONE_OF(networks));
        return;
    default:
        put_text_test(out, ONE_OF(texts), false, true);
    }
}

static void put_condition(struct ind_buffer *out, int depth)
{
    unsigned kind = depth == 0 ? 9 : any(8);
    if (kind == 0) {
        put(out, "not (");
        put_condition(out, depth - 1);
        put(out, ")");
    } else if (kind < 4) {
        put(out, "(");
        put_condition(out, depth - 1);
        put(out, kind == 1 ? " or " : " and ");
        put_condition(out, depth - 1);
        put(out, ")");
    } else {
        put_test(out);
    }
}

/* In YAML's single quotes. */
static void put_yaml(FILE *file, const char *text)
{
    fputc('\'', file);
    for (; *text; text++)
        fputs(*text == '\'' ? "''" : (char[]){*text, '\0'}, file);
    fputc('\'', file);
}

static const char *const layouts[LAYOUTS] = {"plain", "json", "rfc5424", "raw"};
static const char *const packed[] = {"none", "zstd", "gzip"};

static void write_configuration(bool live)
{
    FILE *file = fopen(ind_path(folder, "indagator.yaml"), "w");
    assert_non_null(file);
    fputs("store: log\nstate: state\ndomain: skerry.example\n", file);
    fputs(any(2) ? "zone: UTC\n" : "zone: \"+05:30\"\ntimes: local\n", file);
    fputs(live ? "listen: [{udp: \"127.0.0.1:0\"}, {tcp: \"127.0.0.1:0\"}, {unix: local.sock}]\n" : "", file);
    fputs("devices:\n  - {name: pier1-rtr, address: 127.0.0.2, labels: {site: link}}\n"
          "  - {name: harbour-fw, address: 127.0.0.3, labels: {site: \"a b\"}}\n"
          "  - {name: hq-relay, address: 127.0.0.4, relay: yes}\n"
          "patterns:\n  - name: login\n    text: [{layout: \"Failed password for {user:word} from {peer:ip} "
          "{:remainder}\"}]\n"
          "  - name: deny\n    text: [{layout: \"DENY {:remainder}\"}]\n"
          "archives:\n  default: {rotate: {size: 10 GiB}, compress: none}\n",
          file);
    for (int p = 0; p < 3; p++)
        fprintf(file, "  %s: {rotate: {size: 10 GiB}, compress: %s}\n", packed[p], packed[p]);
    fputs("routes:\n", file);
    for (size_t i = 0; i < condition_count; i++) {
        fprintf(file, "  - {name: r%zu, file: \"r/%zu.log\", when: ", i, i);
        put_yaml(file, conditions[i]);
        fputs("}\n", file);
    }
    for (int l = 0; l < LAYOUTS; l++)
        for (int p = 0; p < 3; p++)
            fprintf(file, "  - {name: %s-%s, file: \"%s-%s.log\", layout: %s, archive: %s}\n", layouts[l],
                    packed[p], layouts[l], packed[p], layouts[l], packed[p]);
    assert_int_equal(fclose(file), 0);
}

/* ---- Answers ---- */

/* How often each message is there: every "#N#". */
static unsigned char *read_ids(const char *text, size_t length)
{
    unsigned char *times = calloc(message_count + 1, 1);
    assert_non_null(times);
    for (const char *at = text, *end = text + length; (at = memchr(at, '#', (size_t)(end - at))) != NULL;
         at++) {
        char *stop;
        if (at + 1 == end || !isdigit((unsigned char)at[1]))
            continue;
        unsigned long number = strtoul(at + 1, &stop, 10);
        if (*stop == '#' && number < message_count) {
            times[number]++;
            at = stop;
        }
    }
    return times;
}

static void expect_same(size_t condition, const unsigned char *times, unsigned each, const char *who)
{
    for (size_t i = 0; i < message_count; i++)
        if (times[i] != taken[condition][i] * each)
            fail_msg("%s: message %zu %u times, its route took it %u times: %s", who, i, times[i],
                     taken[condition][i], conditions[condition]);
}

static void run_all(const char *arguments)
{
    struct ind_ran ran = ind_shell(folder, "%s %s", IND_PROGRAM, arguments);
    if (ran.status != 0)
        print_error("%s: %s\n", arguments, ran.err);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static void note_what_routes_took(void)
{
    for (size_t i = 0; i < condition_count; i++) {
        char name[64];
        size_t length = 0;
        snprintf(name, sizeof name, "log/r/%zu.log", i);
        char *text = ind_read_file(ind_path(folder, name), &length);
        taken[i] = read_ids(text ? text : "", length);
        free(text);
    }
}

static void explain_says_the_same(void)
{
    /* Its reasons take room: of very many messages the first. */
    const size_t most = message_count < 2000 ? message_count : 2000;
    struct ind_ran ran = ind_shell(
        folder, "head -n %zu in > some && %s explain --from some --json --received 2026-11-23T05:00:00Z",
        most, IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    size_t number = 0;
    for (char *line = ran.out, *end; (end = strchr(line, '\n')) != NULL; line = end + 1, number++) {
        json_t *object = json_loadb(line, (size_t)(end - line), JSON_ALLOW_NUL, NULL), *route;
        json_t *routes = json_object_get(object, "routes");
        assert_non_null(object);
        for (size_t i = 0; i < condition_count; i++) {
            route = json_array_get(routes, i);
            bool yes = strcmp(json_string_value(json_object_get(route, "takes")), "yes") == 0;
            if (yes != (taken[i][number] != 0))
                fail_msg("explain: message %zu %s: %s", number, yes ? "is taken" : "is not taken",
                         conditions[i]);
        }
        json_decref(object);
    }
    assert_int_equal(number, most);
    ind_ran_free(&ran);
}

static void rehearse_counts_the_same(void)
{
    struct ind_ran ran =
        ind_shell(folder, "%s rehearse in --json --received 2026-11-23T05:00:00Z", IND_PROGRAM);
    json_t *object = json_loads(ran.out, 0, NULL), *routes = json_object_get(object, "routes");
    assert_non_null(object);
    for (size_t i = 0; i < condition_count; i++) {
        size_t count = 0;
        for (size_t m = 0; m < message_count; m++)
            count += taken[i][m];
        if ((size_t)json_integer_value(json_object_get(json_array_get(routes, i), "messages")) != count)
            fail_msg("rehearse counts otherwise: %s", conditions[i]);
    }
    json_decref(object);
    ind_ran_free(&ran);
}

/* How many searches answered, and how many said that they cannot. */
static size_t answered[LAYOUTS], unable[LAYOUTS];

static void search_finds_the_same(const char *where, unsigned each)
{
    for (size_t i = 0; i < condition_count; i++)
        for (int l = 0; l < LAYOUTS; l++) {
            char name[64];
            snprintf(name, sizeof name, "when");
            ind_write_file(ind_path(folder, name), conditions[i]);
            struct ind_ran ran =
                ind_shell(folder, "%s search --layout '{text}' --when \"$(cat when)\" log/%s-%s", IND_PROGRAM,
                          layouts[l], where);
            if (ran.status == 3) {
                assert_non_null(strstr(ran.err, "the field"));
                unable[l]++;
            } else {
                unsigned char *times = read_ids(ran.out, strlen(ran.out));
                assert_true(ran.status == 0 || ran.status == 1);
                expect_same(i, times, each, layouts[l]);
                free(times);
                answered[l]++;
            }
            ind_ran_free(&ran);
        }
}

static size_t setting(const char *name, size_t otherwise)
{
    const char *value = getenv(name);
    return value ? (size_t)strtoul(value, NULL, 10) : otherwise;
}

static int begin(void **unused)
{
    (void)unused;
    message_count = setting("IND_MESSAGES", 400);
    condition_count = setting("IND_CONDITIONS", 24);
    state += setting("IND_SEED", 0);
    assert_true(condition_count <= MOST_CONDITIONS);
    memset(answered, 0, sizeof answered);
    memset(unable, 0, sizeof unable);
    folder = ind_folder_new();
    for (size_t i = 0; i < condition_count; i++) {
        struct ind_buffer out = ind_buffer_on(conditions[i], ROOM - 1);
        put_condition(&out, 3);
        conditions[i][out.length] = '\0';
    }
    write_messages();
    return 0;
}

static int end(void **unused)
{
    (void)unused;
    ind_folder_remove(folder);
    for (size_t i = 0; i < condition_count; i++) {
        free(taken[i]);
        taken[i] = NULL;
    }
    return 0;
}

static void search_live_and_archived(void)
{
    search_finds_the_same("*.log", 3);
    run_all("rotate > rotated");
    search_finds_the_same("*-000001.log*", 3);
    for (int l = 0; l < LAYOUTS; l++)
        print_message("%s: %zu searches answered, %zu said what the layout does not hold\n", layouts[l],
                      answered[l], unable[l]);
    assert_true(answered[1] >= answered[0] && answered[0] >= condition_count && answered[3] > 0 &&
                answered[2] > 0);
}

static void everybody_gives_the_same_answer(void **unused)
{
    (void)unused;
    write_configuration(false);
    run_all("collect --from in --received 2026-11-23T05:00:00Z > collected");
    note_what_routes_took();
    explain_says_the_same();
    rehearse_counts_the_same();
    search_live_and_archived();
}

/* ---- Over every transport ---- */

static struct ind_running running;

static bool all_are_stored(void *unused)
{
    (void)unused;
    struct ind_ran ran = ind_run(folder, "status", "--json", NULL);
    json_t *object = json_loads(ran.out, 0, NULL);
    bool all = (size_t)json_integer_value(json_object_get(json_object_get(object, "ledger"), "received")) >=
                   message_count &&
               json_integer_value(json_object_get(json_object_get(object, "ledger"), "waiting")) == 0;
    json_decref(object);
    ind_ran_free(&ran);
    return all;
}

static void send_over_every_transport(void)
{
    enum { SENDERS = 4 };
    int sockets[SENDERS][2], local = -1;
    char number[2][16], line[ROOM];
    const char *reason;
    snprintf(number[0], sizeof number[0], "%u", running.port);
    snprintf(number[1], sizeof number[1], "%u", ind_reported_port(&running, "tcp 127.0.0.1:"));
    for (int i = 0; i < SENDERS; i++) {
        char from[32];
        snprintf(from, sizeof from, "127.0.0.%d", 2 + i);
        for (int tcp = 0; tcp < 2; tcp++)
            assert_true((sockets[i][tcp] = ind_connect(tcp ? IND_SEND_TCP : IND_SEND_UDP, "127.0.0.1",
                                                       number[tcp], from, &reason)) >= 0);
    }
    assert_true((local = ind_connect(IND_SEND_UNIX, ind_path(folder, "local.sock"), "", NULL, &reason)) >= 0);
    FILE *in = fopen(ind_path(folder, "in"), "r");
    assert_non_null(in);
    for (size_t i = 0; i < message_count && fgets(line, sizeof line, in); i++) {
        size_t length = strlen(line) - 1, way = any(8);
        char counted[ROOM + 32];
        int head = snprintf(counted, sizeof counted, "%zu ", length);
        memcpy(counted + head, line, length);
        int fd = way == 0 ? local : sockets[any(SENDERS)][way & 1 && line[0] == '<'];
        /* A connection that begins with another byte does not count. */
        bool tcp = way != 0 && (way & 1) && line[0] == '<';
        assert_true(send(fd, tcp ? counted : line, tcp ? (size_t)head + length : length, MSG_NOSIGNAL) > 0);
    }
    fclose(in);
    for (int i = 0; i < SENDERS; i++)
        for (int tcp = 0; tcp < 2; tcp++)
            close(sockets[i][tcp]);
    close(local);
}

static void whatever_the_messages_come_by(void **unused)
{
    (void)unused;
    write_configuration(true);
    running = ind_collect_start(folder);
    send_over_every_transport();
    ind_wait_until(all_are_stored, NULL, "all is stored");
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    free(running.out);
    free(running.err);
    note_what_routes_took();
    search_live_and_archived();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(everybody_gives_the_same_answer, begin, end),
        cmocka_unit_test_setup_teardown(whatever_the_messages_come_by, begin, end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
