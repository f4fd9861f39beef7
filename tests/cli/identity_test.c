/* As whom the built program runs, what it may do then, and whose its files are. What needs root's rights is
 * skipped, with a word, where the test has none. */
#define _GNU_SOURCE
#include "support/live.h"

#include "support/certificates.h"
#include <netinet/in.h>
#include <pwd.h>
#include <sys/stat.h>

#define RULES "store: log\nstate: state\nzone: UTC\n"
#define ROUTE "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: all.log}\n"
#define USER "nobody"

static bool needs_root(void)
{
    if (geteuid() == 0 && getpwnam(USER))
        return true;
    print_message("not tried: this is not root, or there is no user " USER "\n");
    return false;
}

/* A line of /proc/PROCESS/status, without its name. */
static void fact_of(long process, const char *name, char text[100])
{
    char path[64], line[300];
    snprintf(path, sizeof path, "/proc/%ld/status", process);
    FILE *file = fopen(path, "r");
    text[0] = '\0';
    while (file && fgets(line, sizeof line, file))
        if (strncmp(line, name, strlen(name)) == 0)
            sscanf(line + strlen(name), " %99[^\n]", text);
    if (file)
        fclose(file);
}

static void expect_fact(long process, const char *name, const char *expected)
{
    char text[100];
    fact_of(process, name, text);
    if (strcmp(text, expected) != 0)
        print_error("%s: %s, not %s\n", name, text, expected);
    assert_string_equal(text, expected);
}

static long child_of(long process)
{
    struct ind_ran ran = ind_shell(folder, "cat /proc/%ld/task/%ld/children", process, process);
    long child = strtol(ran.out, NULL, 10);
    ind_ran_free(&ran);
    return child;
}

/* One below 1024 that nobody has. */
static unsigned free_low_port(void)
{
    for (unsigned port = 1023; port > 600; port--) {
        struct sockaddr_in name = {.sin_family = AF_INET,
                                   .sin_port = htons((uint16_t)port),
                                   .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
        int fd = socket(AF_INET, SOCK_DGRAM, 0);
        bool free = bind(fd, (struct sockaddr *)&name, sizeof name) == 0;
        close(fd);
        if (free)
            return port;
    }
    fail();
    return 0;
}

static void expect_owner(const char *name)
{
    struct stat facts;
    assert_int_equal(stat(ind_path(folder, name), &facts), 0);
    if (facts.st_uid != getpwnam(USER)->pw_uid)
        print_error("%s belongs to %u\n", name, (unsigned)facts.st_uid);
    assert_int_equal(facts.st_uid, getpwnam(USER)->pw_uid);
}

static void root_is_given_up_for_the_user_of_the_configuration(void **state)
{
    char user[100], config[600];
    unsigned low = needs_root() ? free_low_port() : 0;
    (void)state;
    if (!low)
        return;
    assert_int_equal(chmod(folder, 0777), 0);
    snprintf(user, sizeof user, "%u\t%u\t%u\t%u", getpwnam(USER)->pw_uid, getpwnam(USER)->pw_uid,
             getpwnam(USER)->pw_uid, getpwnam(USER)->pw_uid);
    snprintf(config, sizeof config,
             RULES "user: " USER "\nlisten:\n  - udp: 127.0.0.1:0\n  - unix: here\n"
                   "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: a/all.log}\n"
                   "  - {name: p, to: {program: [/bin/sh, -c, 'grep Cap /proc/self/status > caps; cat > "
                   "/dev/null']}}\n");
    begin(config);
    expect_fact(running.process, "Uid:", user);
    expect_fact(running.process, "Groups:", "");
    expect_fact(running.process, "CapEff:", "0000000000000400");
    expect_fact(running.process, "CapPrm:", "0000000000000400");
    expect_fact(running.process, "CapBnd:", "0000000000000400");
    expect_fact(running.process, "CapAmb:", "0000000000000000");
    expect_fact(running.process, "NoNewPrivs:", "1");
    long helper = child_of(running.process);
    expect_fact(helper, "Uid:", user);
    expect_fact(helper, "CapEff:", "0000000000000000");
    expect_fact(helper, "CapBnd:", "0000000000000000");
    expect_fact(helper, "NoNewPrivs:", "1");
    int udp = open_to(IND_SEND_UDP, running.port, NULL);
    SAY(udp, "<13>1 - - a - - - hello");
    /* A reload opens a low port, and makes folders. */
    size_t used = strlen(config);
    snprintf(config + used, sizeof config - used, "  - {name: b, file: b.log}\n");
    char *listen = strstr(config, "  - unix: here\n");
    char rest[600];
    snprintf(rest, sizeof rest, "%s", listen);
    snprintf(listen, sizeof config - (size_t)(listen - config), "  - udp: 127.0.0.1:%u\n%s", low, rest);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    reload_and_expect("\"listeners\":3");
    int second = open_to(IND_SEND_UDP, low, NULL);
    SAY(second, "<13>1 - - a - - - hello again");
    expect_owner("here");
    close(udp);
    close(second);
    end();
    expect_owner("log");
    expect_owner("state");
    expect_owner("log/a/all.log");
    expect_owner("log/b.log");
    char *caps = ind_read_file(ind_path(folder, "caps"), NULL);
    assert_non_null(caps);
    assert_non_null(strstr(caps, "CapEff:\t0000000000000000"));
    free(caps);
    size_t length;
    char *all = ind_read_file(ind_path(folder, "log/a/all.log"), &length);
    assert_true(all && strstr(all, "hello\n") && strstr(all, "hello again\n"));
    free(all);
}

static void a_key_that_the_user_cannot_read_is_refused_with_its_line(void **state)
{
    (void)state;
    if (!needs_root())
        return;
    assert_int_equal(chmod(folder, 0777), 0);
    ind_make_certificates(folder);
    struct ind_ran ran = ind_shell(folder, "chmod 0644 *.pem; chmod 0600 *.key");
    ind_ran_free(&ran);
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES
                   "user: " USER "\nlisten:\n  - tls: 127.0.0.1:0\n    certificate: collector.pem\n    key: "
                   "collector.key\n" ROUTE);
    ran = ind_run(folder, "collect", NULL);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "indagator.yaml:8:10: "));
    assert_non_null(
        strstr(ran.err, "collector.key can be read by root, but not by the user that is taken on"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "check", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.err, "indagator.yaml:8:10: "));
    assert_non_null(strstr(ran.err, "collector.key cannot be read: Permission denied"));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "chmod 0644 collector.key; %s check", IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static void whom_it_is_started_as_must_fit(void **state)
{
    struct ind_ran ran;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   RULES "user: no-such-user\nlisten:\n  - udp: 127.0.0.1:0\n" ROUTE);
    ran = ind_run(folder, "collect", NULL);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "there is no user \"no-such-user\" on this machine; make one"));
    ind_ran_free(&ran);
    if (!needs_root())
        return;
    assert_int_equal(chmod(folder, 0777), 0);
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   RULES "user: daemon\nlisten:\n  - udp: 127.0.0.1:0\n" ROUTE);
    ran = ind_shell(folder, "setpriv --reuid=" USER " --clear-groups %s collect", IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(
        strstr(ran.err, "the configuration says daemon, but this process is started as another user"));
    ind_ran_free(&ran);
    /* Without a user root is warned, and goes on. */
    begin(RULES "listen:\n  - udp: 127.0.0.1:0\n" ROUTE);
    assert_true(ind_file_holds(running.err, "this runs as root, and reads what strangers send"));
    end();
}

static void folders_that_others_can_use_are_refused(void **state)
{
    static const struct {
        const char *made, *told;
    } trials[] = {
        {"mkdir -m 0757 log", "others may write to log: take that right away with \"chmod o-w log\""},
        {"mkdir -m 0755 state",
         "others may look into state: take that right away with \"chmod o-rwx state\""},
        {"mkdir -p log/.indagator && touch other && ln -s ../../other log/.indagator/lock",
         "cannot lock log: Too many levels of symbolic links"},
        {"mkdir log && ln -s ../other log/.indagator && mkdir other",
         "log/.indagator is not a folder: move it away"},
    };
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES "listen:\n  - udp: 127.0.0.1:0\n" ROUTE);
    for (size_t i = 0; i < sizeof trials / sizeof *trials; i++) {
        struct ind_ran ran =
            ind_shell(folder, "rm -rf log state other; %s; %s collect", trials[i].made, IND_PROGRAM);
        assert_int_equal(ran.status, 3);
        if (!strstr(ran.err, trials[i].told))
            print_error("%s\n%s", trials[i].told, ran.err);
        assert_non_null(strstr(ran.err, trials[i].told));
        ind_ran_free(&ran);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(root_is_given_up_for_the_user_of_the_configuration, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(a_key_that_the_user_cannot_read_is_refused_with_its_line, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(whom_it_is_started_as_must_fit, set_up, tear_down),
        cmocka_unit_test_setup_teardown(folders_that_others_can_use_are_refused, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
