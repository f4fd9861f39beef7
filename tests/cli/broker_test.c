/* Relays to a message system (NATS with JetStream), with its own server, which is started here: what is kept
 * there, and that ends of both at any moment lose nothing and keep nothing twice. Skipped where there is no
 * server. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/random.h"

#include "support/certificates.h"
#include <errno.h>
#include <nats/nats.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <zstd.h>

enum { IDS = 200000 };
static pid_t server;
static unsigned port;
static unsigned short seen[IDS];

static void nap(int milliseconds)
{
    const struct timespec time = {milliseconds / 1000, milliseconds % 1000 * 1000000L};
    nanosleep(&time, NULL);
}

static bool can_connect(void *context)
{
    char number[16];
    const char *reason;
    (void)context;
    snprintf(number, sizeof number, "%u", port);
    const int fd = ind_connect(IND_SEND_TCP, "127.0.0.1", number, NULL, &reason);
    if (fd >= 0)
        close(fd);
    return fd >= 0;
}

/* `settings`: further lines of the server's configuration. False: there is none to be started. */
static bool start_server(const char *settings)
{
    struct ind_ran ran = ind_shell(folder, "command -v nats-server || ls /usr/sbin/nats-server");
    const bool there = ran.status == 0;
    char text[1000];
    ind_ran_free(&ran);
    if (!there) {
        print_message("not tried: there is no nats-server here\n");
        return false;
    }
    if (!port) {
        const int fd = ind_tcp_listen("127.0.0.1", 0, false);
        port = ind_socket_port(fd);
        close(fd);
    }
    snprintf(text, sizeof text, "listen: \"127.0.0.1:%u\"\njetstream: {store_dir: \"%s\"}\n%s", port,
             ind_path(folder, "kept"), settings);
    ind_write_file(ind_path(folder, "server.conf"), text);
    server = fork();
    if (server == 0) {
        setenv("PATH", "/usr/sbin:/usr/bin:/bin", 1);
        (void)!freopen(ind_path(folder, "server.log"), "a", stderr);
        execlp("nats-server", "nats-server", "-c", ind_path(folder, "server.conf"), (char *)NULL);
        _exit(127);
    }
    ind_wait_until(can_connect, NULL, "the server listens");
    return true;
}

static void stop_server(int signal)
{
    if (server > 0) {
        (void)kill(server, signal);
        (void)waitpid(server, NULL, 0);
    }
    server = 0;
}

static int leave(void **state)
{
    stop_server(SIGKILL);
    port = 0;
    return tear_down(state);
}

static void write_relay(const char *settings)
{
    char config[1500];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:0\n" IND_QUIET
             "relays:\n  - {name: centre, to: \"nats://127.0.0.1:%u\"%s}\n"
             "routes:\n  - {name: on, when: app is \"trial\", to: {relay: centre}}\n"
             "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n",
             port, settings);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

static void begin_relay(const char *settings)
{
    write_relay(settings);
    running = ind_collect_start(folder);
}

static void begin_again(void)
{
    free(running.out);
    free(running.err);
    running = ind_collect_start(folder);
}

static void send_ids(unsigned from, unsigned count)
{
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    for (unsigned i = from; i < from + count; i++) {
        char text[400];
        const int length = snprintf(text, sizeof text, "<%u>1 - - trial - - - id=%u %0*d \"\\ \x01\xff\n",
                                    i % 191, i, (int)(i % 150), 7);
        say(fd, text, (size_t)length);
    }
    close(fd);
}

static bool nothing_waits(void *context)
{
    return of_relay("taken") + of_relay("found") >= *(unsigned long *)context && of_relay("waiting") == 0;
}

static void wait_sent(unsigned long taken)
{
    ind_wait_until(nothing_waits, &taken, "nothing waits");
}

/* Each line of a batch is of its subject's facility and severity. */
static unsigned take_batch(natsMsg *message)
{
    static char lines[4 << 20];
    const char *encoding = NULL, *subject = natsMsg_GetSubject(message);
    unsigned count = 0;
    assert_int_equal(natsMsgHeader_Get(message, "Content-Encoding", &encoding), NATS_OK);
    assert_string_equal(encoding, "zstd");
    ZSTD_DStream *stream = ZSTD_createDStream();
    ZSTD_inBuffer in = {natsMsg_GetData(message), (size_t)natsMsg_GetDataLength(message), 0};
    ZSTD_outBuffer out = {lines, sizeof lines, 0};
    while (in.pos < in.size)
        assert_false(ZSTD_isError(ZSTD_decompressStream(stream, &out, &in)));
    ZSTD_freeDStream(stream);
    for (char *line = lines, *end; line < lines + out.pos; line = end + 1, count++) {
        char expected[100];
        end = memchr(line, '\n', (size_t)(lines + out.pos - line));
        assert_non_null(end);
        json_t *object = json_loadb(line, (size_t)(end - line), 0, NULL);
        assert_non_null(object);
        snprintf(expected, sizeof expected, "syslog.%s.%s",
                 json_string_value(json_object_get(object, "facility")),
                 json_string_value(json_object_get(object, "severity")));
        assert_string_equal(subject, expected);
        const char *text = json_string_value(json_object_get(object, "text"));
        const unsigned long id = strtoul(text + 3, NULL, 10);
        assert_true(strncmp(text, "id=", 3) == 0 && id < IDS);
        seen[id]++;
        json_decref(object);
    }
    return count;
}

/* All that the stream keeps. */
static void read_stream(const char *user, const char *password)
{
    natsConnection *connection = NULL;
    natsOptions *options = NULL;
    jsCtx *js = NULL;
    jsStreamInfo *info = NULL;
    char url[60];
    memset(seen, 0, sizeof seen);
    snprintf(url, sizeof url, "nats://127.0.0.1:%u", port);
    assert_int_equal(natsOptions_Create(&options), NATS_OK);
    assert_int_equal(natsOptions_SetURL(options, url), NATS_OK);
    if (user)
        assert_int_equal(natsOptions_SetUserInfo(options, user, password), NATS_OK);
    assert_int_equal(natsConnection_Connect(&connection, options), NATS_OK);
    assert_int_equal(natsConnection_JetStream(&js, connection, NULL), NATS_OK);
    assert_int_equal(js_GetStreamInfo(&info, js, "syslog", NULL, NULL), NATS_OK);
    for (uint64_t i = info->State.FirstSeq; i <= info->State.LastSeq && info->State.Msgs; i++) {
        natsMsg *message = NULL;
        assert_int_equal(js_GetMsg(&message, js, "syslog", i, NULL, NULL), NATS_OK);
        (void)take_batch(message);
        natsMsg_Destroy(message);
    }
    assert_int_equal(info->Config->Storage, js_FileStorage);
    jsStreamInfo_Destroy(info);
    jsCtx_Destroy(js);
    natsConnection_Destroy(connection);
    natsOptions_Destroy(options);
}

static void expect_each_once(unsigned count)
{
    for (unsigned i = 0; i < count; i++)
        if (seen[i] != 1)
            fail_msg("id %u is there %u times", i, seen[i]);
}

static void what_is_passed_on_is_kept_by_subject(void **state)
{
    (void)state;
    if (!start_server(""))
        return;
    begin_relay("");
    send_ids(0, 5000);
    wait_sent(5000);
    end();
    read_stream(NULL, NULL);
    expect_each_once(5000);
}

/* Both are ended at random moments; batches that go again are the same, under the same ids. */
static void ends_at_any_moment_lose_nothing_and_repeat_nothing(void **state)
{
    const int rounds = getenv("IND_ALL") ? 30 : 5;
    uint64_t random = IND_RANDOM_START;
    unsigned count = 0;
    (void)state;
    if (!start_server(""))
        return;
    begin_relay("");
    for (int i = 0; i < rounds; i++) {
        send_ids(count, 3000);
        count += 3000;
        nap((int)(ind_random(&random, 100003) % 700));
        if (i % 2) {
            stop_server(SIGKILL);
            send_ids(count, 500);
            count += 500;
            nap((int)(ind_random(&random, 100003) % 900));
            assert_true(start_server(""));
        }
        nap(1000); /* all that was taken is on disk, or sent */
        (void)ind_collect_stop(&running, SIGKILL);
        begin_again();
    }
    wait_sent(0);
    const unsigned long again = of_relay("sent_again");
    end();
    read_stream(NULL, NULL);
    expect_each_once(count);
    print_message("%u messages, %lu of the last run sent again\n", count, again);
}

static bool is_told(void *text)
{
    return ind_file_holds(ind_path(folder, "log/own.log"), text);
}

static void a_broker_that_is_away_refuses_or_has_lost_its_disk(void **state)
{
    char login[200];
    (void)state;
    if (!start_server("authorization: {user: ops, password: secret}\n"))
        return;
    stop_server(SIGTERM);
    ind_write_file(ind_path(folder, "broker.secret"), "user: ops\npassword: wrong\n");
    snprintf(login, sizeof login, ", login: broker.secret");
    begin_relay(login);
    send_ids(0, 100);
    ind_wait_until(is_told, "others may read it", "the login's mode is told");
    struct ind_ran ran = ind_shell(folder, "chmod 600 broker.secret; grep -c secret log/own.log");
    ind_ran_free(&ran);
    assert_true(start_server("authorization: {user: ops, password: secret}\n"));
    end(); /* so that it is told at once, and not in a minute */
    begin_again();
    ind_wait_until(is_told, "Authorization Violation", "a wrong password is told");
    assert_false(ind_file_holds(ind_path(folder, "log/own.log"), "wrong"));
    ind_write_file(ind_path(folder, "broker.secret"), "user: ops\npassword: secret\n");
    wait_sent(100);
    stop_server(SIGTERM);
    ran = ind_shell(folder, "rm -rf kept");
    ind_ran_free(&ran);
    assert_true(start_server("authorization: {user: ops, password: secret}\n"));
    send_ids(100, 100);
    wait_sent(200);
    end();
    read_stream("ops", "secret");
    for (unsigned i = 0; i < 200; i++)
        assert_int_equal(seen[i], i >= 100); /* what it had is gone with its disk */
}

static void it_speaks_tls(void **state)
{
    char text[1000];
    (void)state;
    ind_make_certificates(folder);
    snprintf(text, sizeof text, "tls: {cert_file: \"%s/collector.pem\", key_file: \"%s/collector.key\"}\n",
             folder, folder);
    if (!start_server(text))
        return;
    begin_relay(", trust: stranger.pem");
    send_ids(0, 100);
    ind_wait_until(is_told, "relay-failed", "an unknown authority is told");
    assert_int_equal(of_relay("waiting"), 100);
    write_relay(", trust: authority.pem");
    reload_and_expect("\"routes\":2");
    wait_sent(100);
    end();
}

/* ---- Taking ---- */

enum { SENDERS = 2, FILERS = 3, ALL = SENDERS + FILERS };
static struct {
    char *folder;
    struct ind_running running;
} many[ALL];

static int leave_many(void **state)
{
    for (int i = 0; i < ALL; i++) {
        if (many[i].running.process > 0)
            (void)ind_collect_stop(&many[i].running, SIGKILL);
        free(many[i].running.out);
        free(many[i].running.err);
        if (many[i].folder)
            ind_folder_remove(many[i].folder);
        many[i].folder = NULL;
        many[i].running = (struct ind_running){0};
    }
    return leave(state);
}

static void start_one(int i)
{
    free(many[i].running.out);
    free(many[i].running.err);
    many[i].running = ind_collect_start(many[i].folder);
}

static void make_many(void)
{
    for (int i = 0; i < ALL; i++) {
        char config[1500];
        const char *form =
            i < SENDERS
                ? "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:0\n" IND_QUIET
                  "relays:\n  - {name: centre, to: \"nats://127.0.0.1:%u\"}\n"
                  "routes:\n  - {name: on, when: app is \"trial\", to: {relay: centre}}\n"
                  "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n"
                : "store: log\nstate: state\nzone: UTC\nlisten:\n  - nats: 127.0.0.1:%u\n    group: filers\n"
                  "    again after: 2 s\n" IND_QUIET
                  "routes:\n  - {name: all, when: app is \"trial\", file: \"{facility}/{severity}.log\"}\n"
                  "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n";
        snprintf(config, sizeof config, form, port);
        many[i].folder = ind_folder_new();
        ind_write_file(ind_path(many[i].folder, "indagator.yaml"), config);
        start_one(i);
    }
}

/* From one of the senders, whichever is there. */
static void send_from(int sender, unsigned from, unsigned count)
{
    running = many[sender].running;
    send_ids(from, count);
    running = (struct ind_running){0};
}

static json_t *status_of(int i)
{
    struct ind_ran ran = ind_run(many[i].folder, "status", "--json", NULL);
    json_t *object = ran.status == 0 ? json_loads(ran.out, 0, NULL) : NULL;
    ind_ran_free(&ran);
    return object;
}

/* How often each id lies in the stores of the filers. */
static void read_stores(void)
{
    memset(seen, 0, sizeof seen);
    for (int i = SENDERS; i < ALL; i++) {
        struct ind_ran ran = ind_shell(many[i].folder, "cat log/*/*.log 2>/dev/null | grep -ao 'id=[0-9]*'");
        for (char *at = ran.out; (at = strstr(at, "id=")); at += 3)
            seen[strtoul(at + 3, NULL, 10)]++;
        ind_ran_free(&ran);
    }
}

static bool all_are_stored(void *count)
{
    read_stores();
    for (unsigned i = 0; i < *(unsigned *)count; i++)
        if (!seen[i])
            return false;
    return true;
}

static bool senders_have_nothing(void *context)
{
    bool nothing = true;
    (void)context;
    for (int i = 0; i < SENDERS && nothing; i++) {
        json_t *object = status_of(i);
        nothing = object && number(json_array_get(json_object_get(object, "relays"), 0), "waiting") == 0;
        json_decref(object);
    }
    return nothing;
}

static void filers_share_what_comes(void **state)
{
    unsigned count = 6000;
    (void)state;
    if (!start_server(""))
        return;
    make_many();
    for (unsigned i = 0; i < count; i += 1000)
        send_from((int)(i / 1000) % SENDERS, i, 1000);
    ind_wait_until(all_are_stored, &count, "all is stored");
    expect_each_once(count);
    for (int i = SENDERS; i < ALL; i++)
        assert_int_equal(ind_collect_stop(&many[i].running, SIGTERM), 0);
    /* An orderly end gives everything that was taken back, or has told that it is stored. */
    for (int i = SENDERS; i < ALL; i++)
        start_one(i);
    send_from(0, count, 500);
    count += 500;
    ind_wait_until(all_are_stored, &count, "all is stored");
    expect_each_once(count);
}

static bool is_up(void *context)
{
    json_t *object = status();
    const json_t *taken = json_array_get(json_object_get(object, "taken_from"), 0);
    const char *at = json_string_value(json_object_get(taken, "state"));
    const bool up = at && strcmp(at, "up") == 0;
    (void)context;
    json_decref(object);
    return up;
}

static bool end_is_stored(void *context)
{
    (void)context;
    return ind_file_holds(ind_path(folder, "log/all.log"), "the end");
}

static natsConnection *publish_strange(void)
{
    static const struct {
        const char *id, *encoding, *bytes;
    } batches[] = {{"a", "zstd", "no frame"},
                   {"b", NULL,
                    "{\"time\":\"2026-11-23T04:45:00Z\",\"facility\":\"user\",\"severity\":\"info\",\"text\":"
                    "\"id=1 plain\"}\n"
                    "\n<13>no json\xff\x01\nthe last, without an end"},
                   {"b", NULL, "once more, under the id of before"},
                   {NULL, NULL, ""},
                   {NULL, "zstd", ""},
                   {NULL, NULL, "the end"}};
    natsConnection *connection = NULL;
    char url[60];
    snprintf(url, sizeof url, "nats://127.0.0.1:%u", port);
    assert_int_equal(natsConnection_ConnectTo(&connection, url), NATS_OK);
    for (size_t i = 0; i < sizeof batches / sizeof *batches; i++) {
        natsMsg *message = NULL;
        assert_int_equal(natsMsg_Create(&message, "syslog.user.info", NULL, batches[i].bytes,
                                        (int)strlen(batches[i].bytes)),
                         NATS_OK);
        if (batches[i].id)
            assert_int_equal(natsMsgHeader_Set(message, "Nats-Msg-Id", batches[i].id), NATS_OK);
        if (batches[i].encoding)
            assert_int_equal(natsMsgHeader_Set(message, "Content-Encoding", batches[i].encoding), NATS_OK);
        assert_int_equal(natsConnection_PublishMsg(connection, message), NATS_OK);
        natsMsg_Destroy(message);
    }
    assert_int_equal(natsConnection_FlushTimeout(connection, 5000), NATS_OK);
    return connection;
}

static void write_filer(void)
{
    char config[500];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten:\n  - {nats: \"127.0.0.1:%u\", group: filers}\n"
             "archives: {default: {rotate: {size: 1 GiB}}}\n"
             "routes:\n  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n"
             "  - {name: all, file: all.log}\n",
             port);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

static bool are_taken(void *context)
{
    json_t *object = status();
    const json_t *taken = json_array_get(json_object_get(object, "taken_from"), 0);
    const bool all = number(taken, "messages") == 4 && number(taken, "bad_batches") == 2;
    (void)context;
    json_decref(object);
    return all;
}

static void batches_of_strangers_do_no_harm(void **state)
{
    (void)state;
    if (!start_server(""))
        return;
    write_filer();
    running = ind_collect_start(folder);
    ind_wait_until(is_up, NULL, "it takes");
    natsConnection *connection = publish_strange();
    ind_wait_until(end_is_stored, NULL, "what came last is stored");
    assert_true(ind_file_holds(ind_path(folder, "log/all.log"), "id=1 plain"));
    assert_true(ind_file_holds(ind_path(folder, "log/all.log"), "no json\\xff\\x01"));
    assert_true(ind_file_holds(ind_path(folder, "log/all.log"), "the last, without an end"));
    assert_false(ind_file_holds(ind_path(folder, "log/all.log"), "once more"));
    ind_wait_until(is_told, "is none that a collector makes", "a bad batch is told");
    ind_wait_until(are_taken, NULL, "they are counted, once they are acknowledged");
    natsConnection_Destroy(connection);
    end();
}

static bool are_kept(void *context)
{
    jsCtx *stream = context;
    jsStreamInfo *info = NULL;
    uint64_t kept = 0;
    js_PublishAsync(stream, "syslog.user.info", "id=7 copy", 9, &(jsPubOptions){.MsgId = "one id"});
    if (js_GetStreamInfo(&info, stream, "syslog", NULL, NULL) == NATS_OK)
        kept = info->State.Msgs;
    jsStreamInfo_Destroy(info);
    return kept >= 3;
}

/* The server forgets ids after a tenth of a second here, so that it hands all copies on at once. */
static void copies_that_come_together_are_stored_once(void **state)
{
    natsConnection *connection = NULL;
    jsCtx *stream = NULL;
    jsStreamConfig config;
    const char *subjects[] = {"syslog.>"};
    char url[60];
    (void)state;
    if (!start_server(""))
        return;
    snprintf(url, sizeof url, "nats://127.0.0.1:%u", port);
    assert_int_equal(natsConnection_ConnectTo(&connection, url), NATS_OK);
    assert_int_equal(natsConnection_JetStream(&stream, connection, NULL), NATS_OK);
    jsStreamConfig_Init(&config);
    config.Name = "syslog";
    config.Subjects = subjects;
    config.SubjectsLen = 1;
    config.Duplicates = 100000000;
    assert_int_equal(js_AddStream(NULL, stream, &config, NULL, NULL), NATS_OK);
    ind_wait_until(are_kept, stream, "the server keeps three copies");
    assert_int_equal(natsConnection_PublishString(connection, "syslog.user.info", "the end"), NATS_OK);
    write_filer();
    running = ind_collect_start(folder);
    ind_wait_until(end_is_stored, NULL, "what came last is stored");
    struct ind_ran ran = ind_shell(folder, "grep -c copy log/all.log");
    assert_string_equal(ran.out, "1\n");
    ind_ran_free(&ran);
    jsCtx_Destroy(stream);
    natsConnection_Destroy(connection);
    end();
}

/* Each of them, and the broker, is killed and started again in turn, under load. */
static void whoever_is_killed_nothing_is_lost(void **state)
{
    const int rounds = getenv("IND_ALL") ? 36 : 6;
    uint64_t random = IND_RANDOM_START;
    unsigned count = 0, twice = 0;
    (void)state;
    if (!start_server(""))
        return;
    make_many();
    for (int i = 0; i < rounds; i++) {
        const int victim = i % (ALL + 1);
        for (int sender = 0; sender < SENDERS; sender++, count += 2000)
            send_from(sender, count, 2000);
        nap(victim < SENDERS ? 1000
                             : (int)(ind_random(&random, 100003) % 500)); /* what a sender has is on disk */
        if (victim == ALL) {
            stop_server(SIGKILL);
            nap((int)(ind_random(&random, 100003) % 1000));
            assert_true(start_server(""));
        } else {
            (void)ind_collect_stop(&many[victim].running, SIGKILL);
            start_one(victim);
        }
    }
    ind_wait_until(senders_have_nothing, NULL, "the senders have nothing left");
    ind_wait_until(all_are_stored, &count, "all is stored");
    for (unsigned i = 0; i < count; i++)
        twice += seen[i] > 1;
    print_message("%u messages, %u of them twice\n", count, twice);
    assert_in_range(twice, 0, count / 2); /* what stood between flush and acknowledgement at a kill */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_passed_on_is_kept_by_subject, set_up, leave),
        cmocka_unit_test_setup_teardown(ends_at_any_moment_lose_nothing_and_repeat_nothing, set_up, leave),
        cmocka_unit_test_setup_teardown(a_broker_that_is_away_refuses_or_has_lost_its_disk, set_up, leave),
        cmocka_unit_test_setup_teardown(it_speaks_tls, set_up, leave),
        cmocka_unit_test_setup_teardown(filers_share_what_comes, set_up, leave_many),
        cmocka_unit_test_setup_teardown(batches_of_strangers_do_no_harm, set_up, leave),
        cmocka_unit_test_setup_teardown(copies_that_come_together_are_stored_once, set_up, leave),
        cmocka_unit_test_setup_teardown(whoever_is_killed_nothing_is_lost, set_up, leave_many),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
