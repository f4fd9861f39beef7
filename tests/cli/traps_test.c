/* Traps and informs as others send them: what is filed is what was sent, and what is refused is counted. */
#include "support/live.h"
#include "support/random.h"

#include <arpa/inet.h>
#include <stdarg.h>
#include <sys/socket.h>

static const char users[] =
    "      - {name: plain}\n"
    "      - {name: sha1, authentication: sha-1, key: ops.key}\n"
    "      - {name: sha2, authentication: sha-256, key: ops.key}\n"
    "      - {name: sha1p, authentication: sha-1, key: ops.key, privacy: aes-128, privacy key: ops.privacy}\n"
    "      - {name: sha2p, authentication: sha-256, key: ops.key, privacy: aes-128, privacy key: "
    "ops.privacy}\n";

static unsigned port;

static void begin_traps(const char *rest)
{
    char config[3000];
    ind_write_file(ind_path(folder, "ops.key"), "password of ops\n");
    ind_write_file(ind_path(folder, "ops.privacy"), "privacy of ops\n");
    struct ind_ran ran = ind_shell(folder, "chmod 600 ops.key ops.privacy");
    ind_ran_free(&ran);
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\n" IND_QUIET
             "listen:\n  - traps: 127.0.0.1:0\n    communities: [skerry]\n    users:\n%s"
             "routes: [{name: all, file: all.log}, {name: raw, file: raw.log, layout: raw}]\n%s",
             users, rest);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    running = ind_collect_start(folder);
    port = ind_reported_port(&running, "traps 127.0.0.1:");
}

/* A sender of the system, which is to find no configuration of this machine. Returns its exit code. */
static int sends(const char *format, ...)
{
    char command[1200];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(command, sizeof command, format, arguments);
    va_end(arguments);
    struct ind_ran ran = ind_shell(
        folder, "export MIBS= SNMPCONFPATH=/nonexistent SNMP_PERSISTENT_DIR=$PWD/snmp; %s", command);
    const int status = ran.status;
    ind_ran_free(&ran);
    return status;
}

struct awaited {
    const char *text;
    unsigned times;
};

static bool is_filed(void *context)
{
    const struct awaited *awaited = context;
    unsigned times = 0;
    char *text = ind_read_file(ind_path(folder, "log/all.log"), NULL);
    for (const char *at = text; at && (at = strstr(at, awaited->text)); at++)
        times++;
    free(text);
    return times >= awaited->times;
}

static void wait_filed(const char *text, unsigned times)
{
    struct awaited awaited = {text, times};
    ind_wait_until(is_filed, &awaited, text);
}

#define INTERFACE "1.3.6.1.2.1.2.2.1.1.3 i 3 1.3.6.1.2.1.2.2.1.2.3 s ge0/3 1.3.6.1.2.1.2.2.1.8.3 i 2 "
#define INTERFACE_TEXT "ifIndex=3 ifDescr=ge0/3 ifOperStatus=down"

static void every_version_and_security_is_filed(void **state)
{
    static const struct {
        const char *user, *options;
    } ways[] = {{"plain", "-l noAuthNoPriv"},
                {"sha1", "-l authNoPriv -a SHA"},
                {"sha2", "-l authNoPriv -a SHA-256"},
                {"sha1p", "-l authPriv -a SHA -x AES"},
                {"sha2p", "-l authPriv -a SHA-256 -x AES"}};
    (void)state;
    begin_traps("");
    assert_int_equal(
        sends("snmptrap -v 1 -c skerry 127.0.0.1:%u 1.3.6.1.4.1.32473.1 127.0.0.1 2 0 4711 " INTERFACE, port),
        0);
    wait_filed(
        " daemon error trap - linkDown [meta\\x20sysUpTime=\"4711\"][origin\\x20enterpriseId=\"32473.1\"] "
        "linkDown " INTERFACE_TEXT "\n",
        1);
    assert_int_equal(sends("snmptrap -v 2c -c skerry 127.0.0.1:%u 99 1.3.6.1.6.3.1.1.5.3 " INTERFACE, port),
                     0);
    wait_filed(" daemon error trap - linkDown [meta\\x20sysUpTime=\"99\"] linkDown " INTERFACE_TEXT "\n", 1);
    assert_int_equal(sends("snmpinform -v 2c -c skerry 127.0.0.1:%u 98 1.3.6.1.6.3.1.1.5.4 " INTERFACE, port),
                     0);
    wait_filed(" daemon notice trap - linkUp [meta\\x20sysUpTime=\"98\"] linkUp " INTERFACE_TEXT "\n", 1);
    for (size_t i = 0; i < sizeof ways / sizeof *ways; i++) {
        char text[100];
        const char *kinds[] = {"snmptrap -e 0x8000000001020304", "snmpinform"};
        for (int inform = 0; inform < 2; inform++) {
            assert_int_equal(
                sends("%s -v 3 -u %s %s -A 'password of ops' -X 'privacy of ops' 127.0.0.1:%u 97 "
                      "1.3.6.1.6.3.1.1.5.3 1.3.6.1.2.1.1.5.0 s '%s %d'",
                      kinds[inform], ways[i].user, ways[i].options, port, ways[i].user, inform),
                0);
            snprintf(text, sizeof text, "sysUpTime=\"97\"] linkDown sysName=\"%s %d\"\n", ways[i].user,
                     inform);
            wait_filed(text, 1);
        }
    }
    json_t *object = status();
    assert_true(json_is_true(json_object_get(json_object_get(object, "ledger"), "adds_up")));
    assert_int_equal(number(json_object_get(object, "ledger"), "refused_trap"), 0);
    json_decref(object);
    end();
}

/* The datagram that a sender would send: caught, to be sent again. */
static size_t catch (char *bytes, size_t room, const char *options)
{
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
    socklen_t length = sizeof address;
    const int fd = socket(AF_INET, SOCK_DGRAM, 0);
    assert_int_equal(bind(fd, (struct sockaddr *)&address, sizeof address), 0);
    assert_int_equal(getsockname(fd, (struct sockaddr *)&address, &length), 0);
    assert_int_equal(
        sends("snmptrap %s 127.0.0.1:%u 97 1.3.6.1.6.3.1.1.5.3", options, ntohs(address.sin_port)), 0);
    const ssize_t got = recv(fd, bytes, room, 0);
    assert_true(got > 0);
    close(fd);
    return (size_t)got;
}

static void what_is_refused_is_counted_by_its_reason(void **state)
{
#define SIGNED "-v 3 -e 0x8000000001020304 -u sha2 -l authNoPriv -a SHA-256 -A 'password of ops' "
    static const struct {
        const char *options, *reason; /* NULL: it is filed */
        bool again;                   /* the same once more */
    } cases[] = {
        {"-v 2c -c wrong", "community", false},
        {"-v 3 -e 0x8000000001020304 -u nobody -l noAuthNoPriv", "user", false},
        {"-v 3 -e 0x8000000001020304 -u sha2 -l noAuthNoPriv", "level", false},
        {"-v 3 -e 0x8000000001020304 -u sha2 -l authNoPriv -a SHA-256 -A 'another password'", "digest",
         false},
        {"-v 3 -e 0x8000000001020304 -u sha2 -l authNoPriv -a SHA -A 'password of ops'", "digest", false},
        {"-v 3 -e 0x8000000001020304 -u sha2p -l authPriv -a SHA-256 -A 'password of ops' -x AES -X 'another "
         "privacy'",
         "privacy", false},
        {SIGNED "-Z 5,1000", NULL, false},
        {SIGNED "-Z 5,800", "late", false},
        {SIGNED "-Z 4,9000", "late", false},
        {SIGNED "-Z 5,1001", NULL, false},
        {SIGNED "-Z 5,1001", "repeated", true}};
    char bytes[2000];
    size_t length = 0;
    unsigned long expected = 2, filed = 0;
    (void)state;
    begin_traps("");
    const int fd = open_to(IND_SEND_UDP, port, "127.0.0.1");
    SAY(fd, "<34>Oct 11 22:14:15 pier1-rtr su: this is no trap");
    say(fd, "\x30\x03\x02\x01\x07", 5);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        length = cases[i].again ? length : catch (bytes, sizeof bytes, cases[i].options);
        say(fd, bytes, length);
        expected += cases[i].reason != NULL;
        filed += cases[i].reason == NULL;
        if (!cases[i].reason)
            wait_filed("linkDown\n", (unsigned)filed);
    }
    wait_filed("reason=\"repeated\"", 1);
    json_t *object = status();
    const json_t *ledger = json_object_get(object, "ledger"), *row;
    size_t n;
    assert_true(json_is_true(json_object_get(ledger, "adds_up")));
    assert_int_equal(number(ledger, "refused_trap"), expected);
    json_array_foreach(json_object_get(object, "listeners"), n, row)
    {
        const json_t *refused = json_object_get(json_object_get(row, "traps"), "refused");
        if (!refused)
            continue;
        static const struct {
            const char *reason;
            unsigned long count;
        } counts[] = {{"unreadable", 1}, {"version", 1}, {"community", 1}, {"user", 1},    {"level", 1},
                      {"digest", 2},     {"privacy", 1}, {"late", 2},      {"repeated", 1}};
        for (size_t i = 0; i < sizeof counts / sizeof *counts; i++)
            if (number(refused, counts[i].reason) != counts[i].count)
                fail_msg("%s: %s", counts[i].reason, json_dumps(refused, 0));
        assert_int_equal(number(row, "stored"), filed);
    }
    json_decref(object);
    close(fd);
    end();
#undef SIGNED
}

/* An inform that comes again is answered again, and filed once; one for nobody's engine is asked to ask. */
static void an_inform_is_filed_once(void **state)
{
    static const char inform[] =
        "\x30\x39\x02\x01\x01\x04\x06skerry\xa6\x2c\x02\x01\x05\x02\x01\x00\x02\x01\x00\x30\x21"
        "\x30\x0d\x06\x08\x2b\x06\x01\x02\x01\x01\x03\x00\x43\x01\x07"
        "\x30\x10\x06\x0a\x2b\x06\x01\x06\x03\x01\x01\x04\x01\x00\x06\x02\x2a\x03";
    char answer[2000];
    (void)state;
    begin_traps("");
    const int fd = open_to(IND_SEND_UDP, port, "127.0.0.1");
    for (int i = 0; i < 3; i++) {
        say(fd, inform, sizeof inform - 1);
        assert_int_equal(recv(fd, answer, sizeof answer, 0), sizeof inform - 1);
        assert_int_equal((unsigned char)answer[13], 0xa2);
        answer[13] = (char)0xa6;
        assert_memory_equal(answer, inform, sizeof inform - 1);
    }
    SAY(fd, "<1>nothing");
    wait_filed("reason=\"unreadable\"", 1);
    json_t *object = status();
    assert_int_equal(number(json_object_get(object, "ledger"), "malformed"), 0);
    json_decref(object);
    char *text = ind_read_file(ind_path(folder, "log/all.log"), NULL);
    const char *first = strstr(text, " iso.2.3\n");
    assert_non_null(first);
    assert_null(strstr(first + 1, " iso.2.3\n"));
    free(text);
    close(fd);
    end();
}

/* Random texts, sent as traps: what is stored is what was said, what follow shows and what search finds. */
static void what_is_sent_is_stored(void **state)
{
    static const char *const traps[] = {"linkUp", "upsTrapOnBattery", "enterprises.32473.0.9", "newRoot"};
    static const char *const variables[] = {" ifDescr=ge0/1", " ifAlias=\"to \\\"pier 3\\\"\"",
                                            " ifOperStatus=down", " sysName=\"x  y\"",
                                            " upsSecondsOnBattery=-3"};
    enum { COUNT = 300 };
    uint64_t random = IND_RANDOM_START;
    (void)state;
    begin_traps("");
    FILE *lines = fopen(ind_path(folder, "lines"), "w");
    assert_non_null(lines);
    for (int i = 0; i < COUNT; i++) {
        fprintf(lines, "%s", traps[ind_random(&random, 4)]);
        for (unsigned k = ind_random(&random, 4), first = ind_random(&random, 5); k > 0; k--)
            fprintf(lines, "%s", variables[(first + k) % 5]);
        fprintf(lines, " ifInErrors=%d\n", i);
    }
    fclose(lines);
    struct ind_ran ran =
        ind_shell(folder, "%s emit --to traps:127.0.0.1:%u --community skerry --from lines --rate 5000",
                  IND_PROGRAM, port);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    wait_filed(" daemon ", COUNT);
    ran = ind_shell(
        folder,
        "grep sysUpTime log/raw.log | sed 's/^[^]]*\\] //' >found && cmp lines found && "
        "[ $(%s search --when 'field ifInErrors is \"7\"' --count log/all.log | tail -1 | tr -dc 0-9) = 1 ]",
        IND_PROGRAM);
    if (ran.status != 0)
        print_error("%s%s", ran.out, ran.err);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    end();
}

/* A made-up fleet of which some send messages and some traps. */
static void a_fleet_sends_them(void **state)
{
    (void)state;
    begin_traps("");
    ind_write_file(
        ind_path(folder, "fleet.yaml"),
        "lasts: 1 s\ndevices:\n"
        "  - {name: pier3-ups, from: 127.0.13.9, form: trap, says: [{every: 200 ms, text: \"upsTrapOnBattery "
        "upsSecondsOnBattery={n}\"}]}\n");
    struct ind_ran ran = ind_shell(
        folder, "%s emit --to traps:127.0.0.1:%u --community skerry --fleet fleet.yaml", IND_PROGRAM, port);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    wait_filed(" 127.0.13.9(-) daemon critical trap - upsTrapOnBattery ", 5);
    wait_filed(" upsTrapOnBattery upsSecondsOnBattery=3\n", 1);
    ran = ind_shell(folder, "%s emit --to udp:127.0.0.1:%u --fleet fleet.yaml", IND_PROGRAM, port);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "say where to with --to traps:HOST:PORT"));
    ind_ran_free(&ran);
    end();
}

/* Of a relay the agent is the device; a house's names, severities and values are used. */
static void a_relay_and_the_names_of_a_house(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "oids.csv"),
                   "oid,name,severity,values\n.1.3.6.1.4.1.32473.1.0.7,skerryDoorOpen,critical,\n"
                   "1.3.6.1.4.1.32473.1.2.1,skerryDoorState,,1=open;2=closed\n");
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nzone: UTC\n" IND_QUIET
        "listen: [{traps: \"127.0.0.1:0\", communities: [skerry], names: oids.csv}]\n"
        "devices: [{name: hq-relay, address: 127.0.0.1, relay: yes}, {name: pier3-ups, address: 192.0.2.7}]\n"
        "routes: [{name: all, file: \"{device}.log\"}, {name: json, file: json.log, layout: json}]\n");
    running = ind_collect_start(folder);
    port = ind_reported_port(&running, "traps 127.0.0.1:");
    assert_int_equal(sends("snmptrap -v 1 -c skerry 127.0.0.1:%u 1.3.6.1.4.1.32473.1 192.0.2.7 6 7 4711 "
                           "1.3.6.1.4.1.32473.1.2.1.0 i 2",
                           port),
                     0);
    assert_int_equal(sends("snmptrap -v 2c -c skerry 127.0.0.1:%u 4711 1.3.6.1.4.1.32473.1.0.7 "
                           "1.3.6.1.6.3.18.1.3.0 a 192.0.2.7",
                           port),
                     0);
    wait_lines("log/pier3-ups.log", 2);
    wait_lines("log/json.log", 2);
    char *text = ind_read_file(ind_path(folder, "log/pier3-ups.log"), NULL);
    assert_non_null(strstr(text, " daemon critical trap - skerryDoorOpen "));
    assert_non_null(strstr(text, " skerryDoorOpen skerryDoorState=closed\n"));
    assert_non_null(strstr(text, " skerryDoorOpen snmpTrapAddress=192.0.2.7\n"));
    free(text);
    text = ind_read_file(ind_path(folder, "log/json.log"), NULL);
    assert_non_null(strstr(text, "\"transport\":\"trap\""));
    assert_non_null(strstr(text, "\"skerryDoorState\":\"closed\""));
    free(text);
    end();
}

static void a_datagram_is_explained(void **state)
{
    char bytes[2000], digits[4100] = "";
    (void)state;
    begin_traps("");
    end();
    const size_t length =
        catch (bytes, sizeof bytes,
               "-v 3 -e 0x8000000001020304 -u sha2p -l authPriv -a SHA-256 -x AES -A 'password of "
               "ops' -X 'privacy of ops'");
    FILE *file = fopen(ind_path(folder, "datagram"), "w");
    assert_non_null(file);
    assert_int_equal(fwrite(bytes, 1, length, file), length);
    fclose(file);
    for (size_t i = 0; i < length; i++)
        snprintf(digits + strlen(digits), 4, "%02x ", (unsigned)(unsigned char)bytes[i]);
    for (int from_file = 0; from_file < 2; from_file++) {
        struct ind_ran ran = from_file ? ind_run(folder, "explain", "--trap", "--from", "datagram", NULL)
                                       : ind_run(folder, "explain", "--trap", digits, NULL);
        assert_int_equal(ran.status, 0);
        assert_non_null(strstr(ran.out, "SNMP v3, a trap, accepted by traps 127.0.0.1:0"));
        assert_non_null(strstr(ran.out, "1.3.6.1.6.3.1.1.5.3  linkDown"));
        assert_non_null(strstr(ran.out, "yes  into all.log"));
        ind_ran_free(&ran);
    }
    struct ind_ran ran = ind_run(folder, "explain", "--trap", "--json", "30 03 02 01 07", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "\"refused\":\"version\""));
    ind_ran_free(&ran);
    ran = ind_run(folder, "explain", "--trap", "xyz", NULL);
    assert_int_equal(ran.status, 2);
    ind_ran_free(&ran);
}

/* The engine of our own stays the same, and has started once more. */
static void the_engine_counts_its_starts(void **state)
{
    char *before = NULL;
    (void)state;
    for (int start = 1; start < 4; start++) {
        char *engine, starts[20];
        begin_traps("");
        end();
        engine = ind_read_file(ind_path(folder, "state/engine.json"), NULL);
        snprintf(starts, sizeof starts, "\"starts\": %d}", start);
        assert_non_null(strstr(engine, starts));
        assert_true(!before || strncmp(before, engine, 46) == 0);
        free(before);
        before = engine;
    }
    ind_write_file(ind_path(folder, "state/engine.json"), "{\"engine\": \"80\", \"starts\": 9}");
    begin_traps("");
    end();
    char *engine = ind_read_file(ind_path(folder, "state/engine.json"), NULL);
    assert_non_null(strstr(engine, "\"starts\": 1}"));
    assert_true(strncmp(before, engine, 46) != 0);
    free(engine);
    free(before);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(every_version_and_security_is_filed, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_refused_is_counted_by_its_reason, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_inform_is_filed_once, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_sent_is_stored, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_fleet_sends_them, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_relay_and_the_names_of_a_house, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_datagram_is_explained, set_up, tear_down),
        cmocka_unit_test_setup_teardown(the_engine_counts_its_starts, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
