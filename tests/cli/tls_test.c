/* The built program under TLS (RFC 5425): with other programs, with those who are not who they should be, and
 * with those who mean harm. */
#define _GNU_SOURCE
#include "support/live.h"

#include "net/tls_session.h"
#include "support/certificates.h"
#include <arpa/inet.h>
#include <errno.h>
#include <poll.h>
#include <pthread.h>
#include <stdatomic.h>
#include <sys/time.h>

#define TLS "  - tls: 127.0.0.1:0\n    certificate: collector.pem\n    key: collector.key\n"
#define ROUTE                                                                                                \
    "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: all.log, layout: json}\n"              \
    "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n"

static void begin_tls(const char *settings, const char *top)
{
    char config[4000];
    ind_make_certificates(folder);
    snprintf(config, sizeof config, "store: log\nstate: state\nzone: UTC\n%slisten:\n" TLS "%s" ROUTE, top,
             settings);
    begin(config);
}

static unsigned tls_port(void)
{
    return ind_reported_port(&running, "tls 127.0.0.1:");
}

static char *stored(void)
{
    size_t length;
    char *lines = ind_read_file(ind_path(folder, "log/all.log"), &length);
    assert_non_null(lines);
    return lines;
}

static size_t count_of(const char *text, const char *part)
{
    size_t count = 0;
    for (; (text = strstr(text, part)); text++)
        count++;
    return count;
}

/* Lines, not the ledger: what the collector says of itself is stored, too. */
static bool enough_stored(void *context)
{
    char *lines = ind_read_file(ind_path(folder, "log/all.log"), NULL);
    bool enough = lines && count_of(lines, "\n") >= *(unsigned long *)context;
    free(lines);
    return enough;
}

static void wait_stored(unsigned long wanted)
{
    ind_wait_until(enough_stored, &wanted, "all is stored");
}

/* Of the TLS listener, by its key; all of them for NULL. */
static unsigned long failed(const char *reason)
{
    json_t *object = status();
    const json_t *listener = json_array_get(json_object_get(object, "listeners"), 0), *count;
    unsigned long sum = 0;
    const char *key;
    for (size_t i = 0; !json_object_get(listener, "handshakes"); i++)
        listener = json_array_get(json_object_get(object, "listeners"), i);
    json_object_foreach(json_object_get(listener, "handshakes_failed"), key, count) sum +=
        !reason || strcmp(key, reason) == 0 ? (unsigned long)json_integer_value(count) : 0;
    json_decref(object);
    return sum;
}

static struct {
    const char *reason;
    unsigned long count;
} awaited;

static bool have_failed(void *context)
{
    (void)context;
    return failed(awaited.reason) >= awaited.count;
}

static void wait_failed(const char *reason, unsigned long count)
{
    awaited.reason = reason;
    awaited.count = count;
    ind_wait_until(have_failed, NULL, reason ? reason : "handshakes have failed");
}

/* ---- A client of our own ---- */

struct client {
    struct ind_tls *tls;
    struct ind_tls_session *session;
    int socket;
};

static struct client connect_as(const char *name, unsigned port)
{
    char files[3][1200];
    struct ind_tls_fault fault;
    struct client client = {0};
    snprintf(files[0], sizeof files[0], "%s/%s.pem", folder, name ? name : "");
    snprintf(files[1], sizeof files[1], "%s/%s.key", folder, name ? name : "");
    snprintf(files[2], sizeof files[2], "%s/authority.pem", folder);
    const struct ind_tls_settings settings = {
        .certificate = name ? files[0] : NULL, .key = name ? files[1] : NULL, .authorities = files[2]};
    client.tls = ind_tls_client_new(&settings, &fault);
    assert_non_null(client.tls);
    client.socket = open_to(IND_SEND_TCP, port, NULL);
    client.session = ind_tls_session_new_to(client.tls, client.socket, "127.0.0.1");
    assert_non_null(client.session);
    assert_int_equal(ind_tls_handshake(client.session), IND_TLS_DONE);
    return client;
}

static void tell(struct client *client, const char *text)
{
    assert_true(ind_tls_write_all(client->session, text, strlen(text)));
}

/* In good order, or as anybody could end it. */
static void leave(struct client *client, bool goodbye)
{
    if (goodbye)
        assert_true(ind_tls_say_goodbye(client->session));
    else
        (void)shutdown(client->socket, SHUT_WR);
    ind_tls_session_free(client->session);
    close(client->socket);
    ind_tls_release(client->tls);
}

/* ---- What arrives ---- */

static void messages_arrive_in_both_framings_with_the_name_of_their_certificate(void **state)
{
    (void)state;
    begin_tls("    clients: authority.pem\n", "");
    unsigned port = tls_port();
    for (int lines = 0; lines < 2; lines++) {
        struct ind_ran ran =
            ind_shell(folder,
                      "%s emit --to tls:127.0.0.1:%u --trust authority.pem --certificate pier1-rtr.pem --key "
                      "pier1-rtr.key --framing %s --app pier --count 200 \"over TLS\"",
                      IND_PROGRAM, port, lines ? "lines" : "count");
        if (ran.status != 0)
            print_error("%s", ran.err);
        assert_int_equal(ran.status, 0);
        ind_ran_free(&ran);
    }
    struct client client = connect_as("pier3-sw2", port);
    tell(&client, "<13>1 - - sw - - - other\n");
    leave(&client, true);
    wait_stored(401);
    struct ind_ran ran = ind_run(folder, "search", "--count", "--when",
                                 "certificate is \"pier1-rtr.skerry.example\"", "log/all.log", NULL);
    assert_string_equal(ran.out, "400\n");
    ind_ran_free(&ran);
    ran = ind_run(folder, "search", "--count", "--when",
                  "certificate is not \"pier1-rtr.skerry.example\" and transport is \"tls\"", "log/all.log",
                  NULL);
    assert_string_equal(ran.out, "1\n");
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, ": 3 handshakes, 0 failed"));
    assert_non_null(strstr(ran.out, "pier3-sw2.skerry.example  127.0.0.1"));
    ind_ran_free(&ran);
    end();
}

static bool is_there(const char *program)
{
    struct ind_ran ran = ind_shell(folder, "command -v %s", program);
    bool there = ran.status == 0;
    ind_ran_free(&ran);
    if (!there)
        print_message("%s is not there: not tried\n", program);
    return there;
}

/* The system's own client, and one of another library. */
static void other_programs_are_understood(void **state)
{
    unsigned long wanted = 0;
    (void)state;
    begin_tls("    clients: authority.pem\n", "");
    unsigned port = tls_port();
    static const char *const bodies[] = {"<13>1 - - a - - - one\\n<13>1 - - a - - - two\\n",
                                         "21 <13>1 - - a - - - one21 <13>1 - - a - - - two"};
    for (int i = 0; i < 2; i++) {
        if (is_there("openssl")) {
            struct ind_ran ran =
                ind_shell(folder,
                          "(printf '%s'; sleep 0.2) | timeout 20 openssl s_client -quiet -no_ign_eof "
                          "-connect 127.0.0.1:%u "
                          "-CAfile authority.pem -verify_return_error -cert pier1-rtr.pem -key pier1-rtr.key",
                          bodies[i], port);
            ind_ran_free(&ran);
            wanted += 2;
        }
        if (is_there("gnutls-cli")) {
            struct ind_ran ran = ind_shell(
                folder,
                "(printf '%s'; sleep 0.2) | timeout 20 gnutls-cli -p %u 127.0.0.1 --x509cafile authority.pem "
                "--x509certfile pier1-rtr.pem --x509keyfile pier1-rtr.key",
                bodies[i], port);
            ind_ran_free(&ran);
            wanted += 2;
        }
    }
    wait_stored(wanted);
    char *lines = stored();
    assert_int_equal(count_of(lines, "\"text\":\"one\""), wanted / 2);
    assert_int_equal(count_of(lines, "\"text\":\"two\""), wanted / 2);
    assert_int_equal(count_of(lines, "\"certificate\":\"pier1-rtr.skerry.example\""), wanted);
    free(lines);
    end();
}

static bool client_has_ended(void *out)
{
    return ind_file_holds(out, "Verification: OK") && ind_file_holds(out, "no renegotiation");
}

/* In TLS 1.2 either side may ask for another handshake on a connection that stands, as often as it likes, and
 * at our cost: ours is not to be had. What was said before is filed. */
static void nobody_is_shaken_hands_with_twice(void **state)
{
    char command[600];
    (void)state;
    if (!is_there("openssl"))
        return;
    begin_tls("", "");
    char *out = strdup(ind_path(folder, "client.out"));
    snprintf(command, sizeof command,
             "cd %s && exec timeout 20 openssl s_client -tls1_2 -connect 127.0.0.1:%u -CAfile authority.pem "
             ">client.out 2>&1",
             folder, tls_port());
    FILE *client = popen(command, "w");
    assert_non_null(client);
    fputs("<13>1 - - a - - - one\n", client);
    fflush(client);
    wait_stored(1);
    fputs("R\n", client);
    fflush(client);
    ind_wait_until(client_has_ended, out, "the client is told that there is no other");
    (void)pclose(client);
    json_t *object = status();
    const json_t *listeners = json_object_get(object, "listeners"), *listener;
    size_t i;
    json_array_foreach(listeners, i, listener) if (json_object_get(listener, "handshakes"))
        assert_int_equal(number(listener, "handshakes"), 1);
    json_decref(object);
    free(out);
    end();
}

/* ---- What can be seen on the way ---- */

static struct {
    int listens, to;
    char seen[1 << 18];
    size_t length;
} between;

static void note_seen(const char *bytes, size_t length)
{
    size_t room = sizeof between.seen - between.length;
    length = length < room ? length : room;
    memcpy(between.seen + between.length, bytes, length);
    between.length += length;
}

/* Passes on what comes, both ways, until one side ends. */
static void *stand_between(void *unused)
{
    char bytes[4096];
    int from = accept(between.listens, NULL, NULL);
    struct pollfd ends[2] = {{from, POLLIN, 0}, {between.to, POLLIN, 0}};
    (void)unused;
    for (;;) {
        if (poll(ends, 2, 30000) <= 0)
            break;
        int which = ends[0].revents ? 0 : 1;
        ssize_t got = recv(ends[which].fd, bytes, sizeof bytes, 0);
        if (got <= 0)
            break;
        note_seen(bytes, (size_t)got);
        if (send(ends[!which].fd, bytes, (size_t)got, MSG_NOSIGNAL) != got)
            break;
    }
    close(from);
    close(between.to);
    return NULL;
}

static void nobody_between_sees_any_of_it(void **state)
{
    struct sockaddr_in name = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    socklen_t size = sizeof name;
    pthread_t thread;
    (void)state;
    begin_tls("    clients: authority.pem\n", "");
    between.listens = socket(AF_INET, SOCK_STREAM, 0);
    assert_true(bind(between.listens, (struct sockaddr *)&name, sizeof name) == 0 &&
                listen(between.listens, 1) == 0 &&
                getsockname(between.listens, (struct sockaddr *)&name, &size) == 0);
    between.to = open_to(IND_SEND_TCP, tls_port(), NULL);
    assert_int_equal(pthread_create(&thread, NULL, stand_between, NULL), 0);
    struct client client = connect_as("pier1-rtr", ntohs(name.sin_port));
    for (int i = 0; i < 50; i++)
        tell(&client, "<13>1 - pier1-rtr linkd - - - nobody is to read this\n");
    leave(&client, true);
    pthread_join(thread, NULL);
    close(between.listens);
    wait_stored(50);
    assert_true(between.length > 2000);
    assert_null(memmem(between.seen, between.length, "nobody", 6));
    assert_null(memmem(between.seen, between.length, "linkd", 5));
    end();
}

/* ---- Who is not who he should be ---- */

static void every_failed_handshake_is_counted_with_its_reason(void **state)
{
    static const struct ind_made bad[] = {
        {.name = "expired", .signer = "authority", .from = -20, .to = -10},
        {.name = "future", .signer = "authority", .from = 10, .to = 20},
        {.name = "alone"},
        {.name = "of-stranger", .signer = "stranger"},
        {.name = "sha1", .signer = "authority", .sha1 = true, .dns = {"pier1-rtr.skerry.example"}},
        {.name = "short", .signer = "authority", .rsa = 1024, .dns = {"pier1-rtr.skerry.example"}},
        {.name = "revoked", .signer = "authority", .dns = {"pier1-rtr.skerry.example"}},
        {.name = "other", .signer = "authority", .dns = {"pier2-rtr.skerry.example"}},
    };
    static const struct {
        const char *client, *reason;
    } trials[] = {{"expired", "expired"},   {"future", "not_yet_valid"},
                  {"alone", "self_signed"}, {"of-stranger", "unknown_authority"},
                  {"sha1", "too_weak"},     {"short", "too_weak"},
                  {"revoked", "revoked"},   {"other", "other_name"}};
    (void)state;
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        if (i == 0)
            ind_make_certificates(folder);
        ind_make_certificate(folder, &bad[i]);
    }
    ind_make_revocation(folder, "authority", "revoked", 60);
    char config[2000];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten:\n" TLS
             "    clients: authority.pem\n    revoked: authority.crl\n    names: "
             "pier1-rtr.skerry.example\n" ROUTE);
    begin(config);
    unsigned port = tls_port();
    unsigned long weak = 0;
    for (size_t i = 0; i < sizeof trials / sizeof *trials && is_there("openssl"); i++) {
        /* It shows whatever it has, however weak. */
        struct ind_ran ran =
            ind_shell(folder,
                      "echo '<13>no' | timeout 20 openssl s_client -quiet -no_ign_eof -connect 127.0.0.1:%u "
                      "-cipher DEFAULT@SECLEVEL=0 -cert %s.pem -key %s.key",
                      port, trials[i].client, trials[i].client);
        ind_ran_free(&ran);
        weak += strcmp(trials[i].reason, "too_weak") == 0;
        wait_failed(trials[i].reason, strcmp(trials[i].reason, "too_weak") == 0 ? weak : 1);
    }
    struct ind_ran ran = ind_shell(
        folder, "echo '<13>no' | timeout 20 openssl s_client -quiet -no_ign_eof -connect 127.0.0.1:%u", port);
    ind_ran_free(&ran);
    int plain = open_to(IND_SEND_TCP, port, NULL);
    SAY(plain, "<13>1 - - - - - - plain\n");
    wait_failed("not_tls", 1);
    close(plain);
    wait_failed("no_certificate", 1);
    ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "1 failed: its certificate has been revoked"));
    ind_ran_free(&ran);
    assert_true(ind_file_holds(running.err,
                               "(alone): its certificate is signed by itself; give its fingerprint to "
                               "trust it (it is sha-256:"));
    struct client client = connect_as("pier1-rtr", port);
    tell(&client, "<13>1 - - a - - - yes\n");
    leave(&client, true);
    end();
    char *lines = stored();
    assert_int_equal(count_of(lines, "\n"), 1);
    free(lines);
}

static void a_pinned_certificate_is_believed_whoever_signed_it(void **state)
{
    char settings[400], text[IND_MADE_FINGERPRINT];
    static const struct ind_made alone = {.name = "alone", .from = -20, .to = -10};
    (void)state;
    ind_make_certificate(folder, &alone);
    ind_made_fingerprint(folder, "alone", text);
    snprintf(settings, sizeof settings, "    fingerprints: [\"%s\"]\n", text);
    begin_tls(settings, "");
    struct client client = connect_as("alone", tls_port());
    tell(&client, "<13>1 - - a - - - from a device that made its own\n");
    leave(&client, true);
    client = connect_as("pier1-rtr", tls_port());
    wait_failed("other_fingerprint", 1);
    leave(&client, false);
    end();
    char *lines = stored();
    assert_non_null(strstr(lines, "\"certificate\":\"alone\""));
    assert_int_equal(count_of(lines, "\n"), 1);
    free(lines);
}

/* ---- Ends ---- */

static void an_end_that_anybody_could_make_is_told_from_a_goodbye(void **state)
{
    static const char *const parts[] = {"<13>1 - - a - - - whole without its end",
                                        "<13>1 - - a - - - cut within"};
    (void)state;
    begin_tls("", "");
    for (int i = 0; i < 2; i++) {
        struct client client = connect_as(NULL, tls_port());
        tell(&client, parts[i]);
        leave(&client, i == 0);
    }
    wait_stored(2);
    json_t *object = status();
    const json_t *receiver = json_array_get(json_object_get(object, "receivers"), 0);
    assert_int_equal(number(receiver, "connections_broken_off"), 1);
    assert_int_equal(number(json_object_get(object, "ledger"), "cut"), 1);
    json_decref(object);
    assert_true(ind_file_holds(running.err, "broke off within a message"));
    end();
    char *lines = stored();
    assert_non_null(
        strstr(lines, "cut within\",\"format\":\"rfc5424\",\"malformed\":\"cut at the size limit\"}"));
    assert_non_null(strstr(lines, "whole without its end\",\"format\":\"rfc5424\"}"));
    free(lines);
}

/* What a client says first, by one that we play. */
static size_t first_flight(char *bytes, size_t room)
{
    int sockets[2];
    struct ind_tls_fault fault;
    struct ind_tls *tls = ind_tls_client_new(&(struct ind_tls_settings){0}, &fault);
    const struct timeval soon = {0, 1000};
    assert_non_null(tls);
    assert_int_equal(socketpair(AF_UNIX, SOCK_STREAM, 0, sockets), 0);
    (void)setsockopt(sockets[0], SOL_SOCKET, SO_RCVTIMEO, &soon, sizeof soon);
    struct ind_tls_session *session = ind_tls_session_new_to(tls, sockets[0], "collector.skerry.example");
    assert_int_equal(ind_tls_handshake(session), IND_TLS_WANTS_TO_READ);
    ssize_t length = recv(sockets[1], bytes, room, 0);
    assert_true(length > 100);
    ind_tls_session_free(session);
    ind_tls_release(tls);
    close(sockets[0]);
    close(sockets[1]);
    return (size_t)length;
}

static void a_handshake_that_stops_at_any_byte_harms_nobody(void **state)
{
    static char hello[4096];
    (void)state;
    begin_tls("    clients: authority.pem\n", "");
    unsigned port = tls_port();
    size_t length = first_flight(hello, sizeof hello);
    unsigned long tried = 0;
    for (size_t i = 0; i < length; i++) {
        char wrong[sizeof hello];
        memcpy(wrong, hello, length);
        wrong[i] = (char)(wrong[i] ^ 0x55);
        for (int way = 0; way < 2; way++) { /* it ends there; or the byte is another, and it goes on */
            int fd = open_to(IND_SEND_TCP, port, NULL);
            if (way == 0)
                say(fd, hello, i);
            else
                say(fd, wrong, length);
            (void)shutdown(fd, SHUT_WR);
            close(fd);
            tried++;
        }
    }
    wait_failed(NULL, tried);
    assert_int_equal(failed(NULL), tried);
    struct client client = connect_as("pier1-rtr", port);
    tell(&client, "<13>1 - - a - - - still there\n");
    leave(&client, true);
    wait_stored(1);
    json_t *object = status();
    assert_int_equal(number(json_array_get(json_object_get(object, "receivers"), 0), "connections"), 0);
    json_decref(object);
    end();
}

static void handshakes_have_a_bound_in_time_and_number(void **state)
{
    enum { HALF_OPEN = 12, AT_ONCE = 5 };
    int half[HALF_OPEN];
    (void)state;
    begin_tls("", "limits: {handshakes: 5, handshake: 1 s}\n");
    unsigned port = tls_port();
    for (int i = 0; i < HALF_OPEN; i++) {
        half[i] = open_to(IND_SEND_TCP, port, NULL);
        if (i % 2)
            say(half[i], "\x16\x03\x01", 3);
    }
    wait_failed("crowded_out", HALF_OPEN - AT_ONCE);
    wait_failed("too_slow", AT_ONCE);
    assert_int_equal(failed(NULL), HALF_OPEN);
    for (int i = 0; i < HALF_OPEN; i++) {
        char byte;
        assert_true(recv(half[i], &byte, 1, 0) <= 0);
        close(half[i]);
    }
    end();
}

/* ---- Reloads ---- */

static void certificates_are_read_anew_without_ending_connections(void **state)
{
    static const struct ind_made fresh = {.name = "collector", .signer = "stranger", .ip = "127.0.0.1"};
    (void)state;
    begin_tls("    clients: authority.pem\n", "");
    unsigned port = tls_port();
    struct client client = connect_as("pier1-rtr", port);
    tell(&client, "<13>1 - - a - - - before\n");
    /* A key of another certificate: refused, with its place, and all goes on. */
    struct ind_ran ran = ind_shell(folder, "cp collector.key good.key && cp pier1-rtr.key collector.key");
    ind_ran_free(&ran);
    reload_and_expect("indagator.yaml:7:10: ");
    reload_and_expect("collector.key is the key of another certificate");
    struct client second = connect_as("pier3-sw2", port);
    tell(&second, "<13>1 - - a - - - with the old one\n");
    leave(&second, true);
    /* Another one, of another authority. */
    ind_make_certificate(folder, &fresh);
    reload_and_expect("\"listeners\":1");
    tell(&client, "<13>1 - - a - - - after\n");
    leave(&client, true);
    ran = ind_shell(folder,
                    "%s emit --to tls:127.0.0.1:%u --trust authority.pem --certificate pier1-rtr.pem --key "
                    "pier1-rtr.key x; %s emit --to tls:127.0.0.1:%u --trust stranger.pem --certificate "
                    "pier1-rtr.pem --key pier1-rtr.key y",
                    IND_PROGRAM, port, IND_PROGRAM, port);
    assert_non_null(strstr(ran.err, "its certificate is signed by no authority that we trust"));
    assert_non_null(strstr(ran.out, "sent 1 message"));
    ind_ran_free(&ran);
    wait_stored(3);
    end();
    char *lines = stored();
    assert_true(strstr(lines, "\"before\"") && strstr(lines, "\"after\"") &&
                strstr(lines, "\"with the old one\""));
    free(lines);
}

/* ---- Told ahead ---- */

static bool is_told(void *context)
{
    (void)context;
    return ind_file_holds(running.err, "the certificate of \"collector\" expires on ");
}

static void what_ends_soon_or_cannot_be_used_is_told_with_its_line(void **state)
{
    static const struct ind_made soon = {
        .name = "collector", .signer = "authority", .from = -300, .to = 12, .ip = "127.0.0.1"};
    (void)state;
    ind_make_certificates(folder);
    ind_make_certificate(folder, &soon);
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n" TLS ROUTE);
    struct ind_ran ran = ind_run(folder, "check", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(
        strstr(ran.err, "indagator.yaml:6:18: warning: the certificate of \"collector\" expires on "));
    ind_ran_free(&ran);
    assert_true(tls_port() > 0);
    ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "the certificate of \"collector\" (certificate) expires on "));
    ind_ran_free(&ran);
    ind_wait_until(is_told, NULL, "it is told");
    end();
    ran = ind_shell(folder, "cp pier1-rtr.key collector.key; %s check", IND_PROGRAM);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.err, "indagator.yaml:7:10: "));
    assert_non_null(
        strstr(ran.err, "collector.key is the key of another certificate\n    key: collector.key\n"));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "rm collector.key; %s collect", IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "indagator.yaml:7:10: "));
    assert_non_null(strstr(ran.err, "collector.key cannot be read: No such file"));
    ind_ran_free(&ran);
}

int main(void)
{
#define WITH_FOLDER(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
    const struct CMUnitTest tests[] = {
        WITH_FOLDER(messages_arrive_in_both_framings_with_the_name_of_their_certificate),
        WITH_FOLDER(other_programs_are_understood),
        WITH_FOLDER(nobody_is_shaken_hands_with_twice),
        WITH_FOLDER(nobody_between_sees_any_of_it),
        WITH_FOLDER(every_failed_handshake_is_counted_with_its_reason),
        WITH_FOLDER(a_pinned_certificate_is_believed_whoever_signed_it),
        WITH_FOLDER(an_end_that_anybody_could_make_is_told_from_a_goodbye),
        WITH_FOLDER(a_handshake_that_stops_at_any_byte_harms_nobody),
        WITH_FOLDER(handshakes_have_a_bound_in_time_and_number),
        WITH_FOLDER(certificates_are_read_anew_without_ending_connections),
        WITH_FOLDER(what_ends_soon_or_cannot_be_used_is_told_with_its_line),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
