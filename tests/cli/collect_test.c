/* The built program as a collector: sockets, files, rotation, restarts. */
#include "support/support.h"

#include "core/message/names.h"
#include "net/socket.h"
#include <dirent.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static const char basic[] =
    IND_QUIET "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"
              "routes:\n  - name: everything\n    file: \"{facility}/{severity}.log\"\n";

static char *folder_with(const char *config)
{
    char *folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    return folder;
}

struct expectation {
    const char *folder;
    size_t lines;
};

static bool has_lines(void *context)
{
    const struct expectation *expectation = context;
    return ind_count_lines(expectation->folder) >= expectation->lines;
}

static void wait_for_lines(const char *folder, size_t lines)
{
    struct expectation expectation = {folder, lines};
    ind_wait_until(has_lines, &expectation, "the lines are stored");
}

static unsigned long counted(const char *out, const char *what)
{
    const char *at = strstr(out, what);
    if (!at)
        return 0;
    while (at > out && at[-1] != '\n')
        at--;
    char digits[32] = "";
    for (size_t n = 0; *at && *at != '\n' && n < 30; at++) {
        if (ind_is_digit(*at))
            digits[n++] = *at;
        else if (*at != ',' && *at != ' ')
            break;
    }
    return strtoul(digits, NULL, 10);
}

static void send_datagram(unsigned port, const void *bytes, size_t length)
{
    char number[16];
    const char *reason;
    snprintf(number, sizeof number, "%u", port);
    int fd = ind_connect(IND_SEND_UDP, "127.0.0.1", number, NULL, &reason);
    assert_true(fd >= 0);
    assert_int_equal(send(fd, bytes, length, 0), length);
    close(fd);
}

/* The operating system's own sender, both forms, every PRI that it can make. */
static void every_pri_of_the_systems_sender_lands_in_its_file(void **state)
{
    static const char *const logger_facilities[] = {
        NULL,     "user",   "mail",     "daemon", "auth",   "syslog", "lpr",    "news",
        "uucp",   "cron",   "authpriv", "ftp",    NULL,     NULL,     NULL,     NULL,
        "local0", "local1", "local2",   "local3", "local4", "local5", "local6", "local7"};
    static const char *const logger_severities[] = {"emerg",   "alert",  "crit", "err",
                                                    "warning", "notice", "info", "debug"};
    char *folder = folder_with(basic);
    struct ind_running running = ind_collect_start(folder);
    size_t sent = 0;
    (void)state;
    for (unsigned f = 0; f < IND_FACILITIES; f++)
        for (unsigned s = 0; s < IND_SEVERITIES && logger_facilities[f]; s++, sent += 2) {
            struct ind_ran ran = ind_shell(folder,
                                           "for form in rfc3164 rfc5424; do logger --udp --server 127.0.0.1 "
                                           "--port %u --$form -p %s.%s -t tag "
                                           "\"$form %u %u\"; done",
                                           running.port, logger_facilities[f], logger_severities[s], f, s);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        }
    wait_for_lines(folder, sent);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    for (unsigned f = 0; f < IND_FACILITIES; f++)
        for (unsigned s = 0; s < IND_SEVERITIES && logger_facilities[f]; s++) {
            char path[128], expected[64];
            snprintf(path, sizeof path, "log/%s/%s.log", ind_facility_name(f).at, ind_severity_name(s).at);
            char *text = ind_read_file(ind_path(folder, path), NULL);
            assert_non_null(text);
            snprintf(expected, sizeof expected, "rfc3164 %u %u\n", f, s);
            assert_non_null(strstr(text, expected));
            snprintf(expected, sizeof expected, "rfc5424 %u %u\n", f, s);
            assert_non_null(strstr(text, expected));
            char *second = strchr(text, '\n') + 1;
            assert_string_equal(strchr(second, '\n'), "\n"); /* two lines, no more */
            free(text);
        }
    char *out = ind_read_file(running.out, NULL);
    assert_int_equal(counted(out, "messages received"), sent + 2);
    assert_int_equal(counted(out, "messages stored"), sent);
    free(out);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void hostile_names_stay_in_the_store(void **state)
{
    static const char *const hosts[] = {"../../etc/x", "a/b", ".", "..",        "w-20261123T044500Z-000007",
                                        "\x1b[2J",     "nul", "-", "$(reboot)", "a\tb"};
    char *folder = folder_with(IND_QUIET "store: deep/log\nstate: deep/state\nlisten:\n  - udp: 127.0.0.1:0\n"
                                         "routes:\n  - name: hosts\n    file: \"{host}.log\"\n"
                                         "  - name: folders\n    file: \"{host}/{app}/{host}-{app}.log\"\n");
    struct ind_running running = ind_collect_start(folder);
    char message[1024];
    (void)state;
    for (size_t i = 0; i < sizeof hosts / sizeof *hosts; i++) {
        int length = snprintf(message, sizeof message, "<13>1 - %s %s - - - text", hosts[i], hosts[i]);
        send_datagram(running.port, message, (size_t)length);
    }
    memset(message, 'h', sizeof message);
    memcpy(message, "<13>1 - ", 8);
    memcpy(message + 308, " app - - - text", 15);
    send_datagram(running.port, message, 323);
    send_datagram(running.port, "<13>1 -  app - - - empty host", 29);
    send_datagram(running.port, "<13>1 - a\0b app - - - zero", 26);
    send_datagram(running.port, "", 0);
    send_datagram(running.port, "\n\r\0", 3);
    for (int byte = 0; byte < 256; byte++) {
        char any = (char)byte;
        send_datagram(running.port, &any, 1);
    }
    struct ind_ran ran = ind_run(folder, "search", "-c", "indagator.yaml", "--count", NULL);
    ind_ran_free(&ran);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    ran =
        ind_shell(folder, "find . -type f | grep -v '^./deep/' | grep -vE '^./(indagator.yaml|collector-)'");
    assert_string_equal(ran.out, "");
    ind_ran_free(&ran);
    ran = ind_shell(folder, "find deep/log -name '.?*' | grep -v '^deep/log/.indagator'");
    assert_string_equal(ran.out, "");
    ind_ran_free(&ran);
    /* No live file has the form of an archive's name. */
    ran = ind_shell(folder, "find deep/log | grep -E -e '-[0-9]{8}T[0-9]{6}Z-[0-9]{6,}[.]log$'");
    assert_string_equal(ran.out, "");
    ind_ran_free(&ran);
    char *out = ind_read_file(running.out, NULL);
    unsigned long received = counted(out, "messages received"), empty = counted(out, "refused: empty");
    assert_int_equal(received, 10 + 3 + 2 + 256 + 2); /* that it has started, and stopped */
    assert_int_equal(empty, 2 + 3);                   /* LF, CR and NUL alone are nothing */
    assert_int_equal(counted(out, "messages stored"), received - empty - 2);
    free(out);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void strangers_are_refused_and_counted(void **state)
{
    char *folder =
        folder_with("store: log\nstate: state\nallow: [192.0.2.0/24]\nlisten:\n  - udp: 127.0.0.1:0\n");
    struct ind_running running = ind_collect_start(folder);
    (void)state;
    for (int i = 0; i < 7; i++)
        send_datagram(running.port, "<13>1 - a b - - - c", 19);
    assert_int_equal(ind_collect_stop(&running, SIGINT), 0);
    char *out = ind_read_file(running.out, NULL);
    assert_int_equal(counted(out, "messages received"), 7 + 2);
    assert_int_equal(counted(out, "refused: sender not allowed"), 7);
    free(out);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void ipv4_and_ipv6_both_come_in(void **state)
{
    char *folder =
        folder_with("store: log\nstate: state\nlisten:\n  - udp: \"[::1]:0\"\n  - udp: 127.0.0.1:0\n"
                    "routes:\n  - {name: all, file: \"{sender}.log\"}\n");
    struct ind_running running = ind_collect_start(folder);
    (void)state;
    char *told = ind_read_file(running.err, NULL);
    while (!strstr(told, "udp 127.0.0.1:") ||
           told[strlen(told) - 1] != '\n') { /* a moment behind the first */
        free(told);
        told = ind_read_file(running.err, NULL);
    }
    const char *v6 = strstr(told, "udp [::1]:"), *v4 = strstr(told, "udp 127.0.0.1:");
    assert_non_null(v6);
    assert_non_null(v4);
    struct ind_ran ran = ind_shell(folder,
                                   "logger --udp --server ::1 --port %lu -p local0.err six; "
                                   "logger --udp --server 127.0.0.1 --port %lu -p local0.err four",
                                   strtoul(v6 + 10, NULL, 10), strtoul(v4 + 14, NULL, 10));
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    wait_for_lines(folder, 2);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    assert_int_equal(access(ind_path(folder, "log/__1.log"), F_OK), 0);
    assert_int_equal(access(ind_path(folder, "log/127.0.0.1.log"), F_OK), 0);
    free(told);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void sigterm_files_what_was_received(void **state)
{
    char *folder = folder_with(basic);
    struct ind_running running = ind_collect_start(folder);
    (void)state;
    for (int i = 0; i < 2000; i++) {
        send_datagram(running.port, "<13>1 - a b - - - just before the end", 37);
        if (i % 200 == 199 && i < 1900) /* the last ones stand in the socket when the signal comes */
            ind_wait_until_read(running.port);
    }
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    assert_int_equal(ind_count_lines(folder), 2000);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void files_and_folders_get_their_modes(void **state)
{
    struct stat facts;
    char *folder =
        folder_with("store: log\nstate: state\nroutes:\n  - name: all\n    file: a/b/{severity}.log\n"
                    "    mode: \"0604\"\n    folder mode: \"0711\"\n");
    (void)state;
    ind_write_file(ind_path(folder, "in"), "<13>1 - a b - - - c\n");
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    assert_int_equal(stat(ind_path(folder, "log/a/b/notice.log"), &facts), 0);
    assert_int_equal(facts.st_mode & 07777, 0604);
    assert_int_equal(stat(ind_path(folder, "log/a"), &facts), 0);
    assert_int_equal(facts.st_mode & 07777, 0711);
    ran = ind_run(folder, "rotate", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_shell(folder, "stat -c %%a log/a/b/notice-*.log.zst");
    assert_string_equal(ran.out, "604\n");
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static void few_open_files_are_enough_for_many(void **state)
{
    char *folder = folder_with(
        "store: log\nstate: state\nopen files: 3\nroutes:\n  - {name: all, file: \"{app}.log\"}\n");
    (void)state;
    struct ind_ran ran = ind_shell(folder, "for i in $(seq 1 20); do for a in $(seq 1 60); do "
                                           "echo \"<13>1 - h app$a - - - message $i\"; done; done > in");
    ind_ran_free(&ran);
    ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 0);
    assert_int_equal(counted(ran.out, "messages stored"), 1200);
    ind_ran_free(&ran);
    ran = ind_shell(folder, "cat log/app*.log | wc -l; ls log | wc -l; wc -l < log/app17.log");
    assert_string_equal(ran.out, "1200\n60\n20\n");
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* A million lines in, and the same million out. */
static void a_million_lines_go_in_and_come_back(void **state)
{
    char *folder = folder_with(basic);
    (void)state;
    struct ind_ran ran = ind_shell(
        folder,
        "awk 'BEGIN { for (i = 0; i < 1000000; i++) printf \"<%%d>1 "
        "2026-11-23T04:%%02d:%%02d.%%03dZ pier%%d-rtr app - - - message number %%d\\n\", i %% 192, i / 60000 "
        "%% 60, i / 1000 %% 60, i %% 1000, i %% 4, i }' > in");
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 0);
    assert_int_equal(counted(ran.out, "messages stored"), 1000000);
    ind_ran_free(&ran);
    ran = ind_run(folder, "search", "--count", NULL);
    assert_string_equal(ran.out, "1000000\n");
    ind_ran_free(&ran);
    /* In order of time over all 192 files, each once. */
    ran = ind_shell(
        folder,
        "%s search --layout '{text}' --to out && sed 's/.*> *1 //; s/.*- - - //' in | cmp - out && echo same",
        IND_PROGRAM);
    assert_string_equal(ran.out, "same\n");
    ind_ran_free(&ran);
    ran = ind_run(folder, "rotate", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_run(folder, "search", "--count", "--when", "text contains \"number\"", NULL);
    assert_string_equal(ran.out, "1000000\n");
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* All messages of the file "in", each of which is stored. */
static void take_in(const char *folder, unsigned long messages, unsigned long lines)
{
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_string_equal(ran.err, "");
    assert_int_equal(ran.status, 0);
    assert_int_equal(counted(ran.out, "messages received"), messages);
    assert_int_equal(counted(ran.out, "messages stored"), messages);
    assert_int_equal(counted(ran.out, "lines written"), lines);
    ind_ran_free(&ran);
}

/* Lines of one file that lie together are written without being copied; where others lie between them, or the
 * file is to be rotated, they are not. */
static void whole_batches_go_into_one_file(void **state)
{
    char *folder = folder_with("store: log\nstate: state\nzone: UTC\n"
                               "archives: {default: {rotate: {size: 1500 KiB}, compress: none}}\n"
                               "routes:\n  - {name: all, file: all.log}\n"
                               "  - {name: debug, when: severity is debug, file: debug.log}\n");
    (void)state;
    struct ind_ran ran = ind_shell(
        folder, "awk 'BEGIN { for (i = 0; i < 60000; i++) printf \"<%%d>1 2026-11-23T04:45:00Z "
                "pier%%d-rtr app - - - message number %%d, which is of some length\\n\", i %% 9000 ? 14 "
                ": 15, i %% 3, i }' > in");
    ind_ran_free(&ran);
    take_in(folder, 60000, 60007);
    ran = ind_shell(folder, "ls log/all-*.log | wc -l; wc -l <log/debug.log; "
                            "cat log/all-*.log log/all.log | sed 's/.*- - - message/message/' >out; "
                            "sed 's/.*- - - message/message/' in | cmp - out && echo same");
    assert_string_equal(ran.out, "4\n7\nsame\n");
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* Lines of one message come to lie in two batches, again and again. */
static void messages_that_three_routes_take_count_once(void **state)
{
    char *folder = folder_with("store: log\nstate: state\nroutes:\n  - {name: a, file: a.log}\n"
                               "  - {name: b, file: \"b/{severity}.log\", layout: json}\n"
                               "  - {name: c, file: c.log, layout: raw}\n");
    (void)state;
    struct ind_ran ran =
        ind_shell(folder, "awk 'BEGIN { for (i = 0; i < 100000; i++) printf \"<%%d>1 - h app - - - "
                          "message number %%d, which is of some length\\n\", i %% 8, i }' > in");
    ind_ran_free(&ran);
    take_in(folder, 100000, 300000);
    ind_folder_remove(folder);
}

/* While files are rotated every 64 KiB, compressed, and searched all the time. */
static void rotation_loses_nothing_and_doubles_nothing(void **state)
{
    char *folder = folder_with("store: log\nstate: state\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n"
                               "  - {name: a, when: facility is local0, file: a.log, archive: zstd}\n"
                               "  - {name: b, when: facility is local1, file: b.log, archive: gzip}\n"
                               "archives:\n"
                               "  zstd: {rotate: {size: 64 KiB}, keep: 1 year, compress: zstd}\n"
                               "  gzip: {rotate: {size: 64 KiB}, keep: 1 year, compress: gzip}\n");
    struct ind_running running = ind_collect_start(folder);
    (void)state;
    size_t sent = 0, last = 0;
    for (int round = 0; round < 12; round++) {
        for (int i = 0; i < 2000; i++, sent++) {
            char message[200];
            int length = snprintf(message, sizeof message,
                                  "<%d>1 - pier1-rtr app - - - message number %zu of many, all alike",
                                  128 + (int)(sent % 2) * 8, sent);
            send_datagram(running.port, message, (size_t)length);
            if (i % 200 == 199)
                ind_wait_until_read(running.port);
        }
        if (round == 0)
            wait_for_lines(folder, sent);
        struct ind_ran ran =
            ind_run(folder, "search", "--layout", "{text}", "--to", "found", "--force", NULL);
        assert_string_equal(ran.err, "");
        ind_ran_free(&ran);
        ran = ind_shell(folder, "sort found | uniq -d | wc -l; wc -l < found");
        unsigned long twice = strtoul(ran.out, NULL, 10), found = strtoul(strchr(ran.out, '\n'), NULL, 10);
        assert_int_equal(twice, 0);
        assert_true(found >= last);
        last = found;
        ind_ran_free(&ran);
    }
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    struct ind_ran ran = ind_run(folder, "rotate", "--due", NULL); /* what waits to be compressed */
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    assert_int_equal(ind_count_lines(folder), sent);
    ran = ind_shell(
        folder, "sed 's/.* - - - - //' all.txt | sort -u | wc -l; ls log/*.zst | wc -l; ls log/*.gz | wc -l; "
                "ls log/*-*.log 2>/dev/null | wc -l");
    unsigned long unique = 0, zst = 0, gz = 0, plain = 0;
    assert_int_equal(sscanf(ran.out, "%lu %lu %lu %lu", &unique, &zst, &gz, &plain), 4);
    assert_int_equal(unique, sent);
    assert_true(zst >= 10 && gz >= 10);
    assert_int_equal(plain, 0);
    ind_ran_free(&ran);
    ran = ind_run(folder, "search", "--count", NULL);
    assert_string_equal(ran.out, "24000\n");
    ind_ran_free(&ran);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void a_kill_leaves_no_torn_line_and_a_new_start_goes_on(void **state)
{
    char *folder = folder_with(IND_QUIET "store: log\nstate: state\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n"
                                         "  - {name: a, file: \"{severity}.log\"}\n"
                                         "archives:\n  default: {rotate: {size: 16 KiB}, compress: zstd}\n");
    size_t sent = 0;
    (void)state;
    for (int round = 0; round < 5; round++) {
        struct ind_running running = ind_collect_start(folder);
        for (int i = 0; i < 1500; i++) {
            char message[200];
            int length = snprintf(message, sizeof message, "<%d>1 - a b - - - message number %zu",
                                  (int)(sent % 8), sent);
            send_datagram(running.port, message, (size_t)length);
            if (sent++ % 200 == 199)
                ind_wait_until_read(running.port);
        }
        wait_for_lines(folder, (size_t)round * 1000 + 500); /* some of these are on the disk, some are not */
        assert_int_equal(ind_collect_stop(&running, SIGKILL), -1);
        free(running.out);
        free(running.err);
    }
    struct ind_running running = ind_collect_start(folder);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    struct ind_ran ran = ind_run(folder, "rotate", "--due", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    size_t lines = ind_count_lines(folder);
    assert_true(lines > 0 && lines <= sent);
    ran = ind_shell(folder, "grep -v ' syslog warning indagator ' all.txt > theirs.txt; "
                            "grep -vcE '^20[0-9T:.-]+Z - a (kern) [a-z]+ b - - - message number [0-9]+$' "
                            "theirs.txt; sed 's/.*number //' theirs.txt | "
                            "sort | uniq -d | wc -l; find log -name '.*.tmp' | wc -l");
    assert_string_equal(ran.out, "0\n0\n0\n");
    ind_ran_free(&ran);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void two_cannot_write_to_one_store(void **state)
{
    char *folder = folder_with(basic);
    struct ind_running running = ind_collect_start(folder);
    (void)state;
    char expected[128];
    snprintf(expected, sizeof expected, "another indagator (process %ld) writes to log",
             (long)running.process);
    ind_write_file(ind_path(folder, "in"), "<13>1 - a b - - - c\n");
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, expected));
    ind_ran_free(&ran);
    ran = ind_run(folder, "rotate", NULL); /* the one that writes it is asked */
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.out, "done by the running collector"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "rotate", "--dry-run", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

static void stored_lines_go_back_in_as_they_are(void **state)
{
    char *folder =
        folder_with("store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: p, file: p.log}\n"
                    "  - {name: j, file: j.log, layout: json}\n  - {name: r, file: r.log, layout: rfc5424}\n"
                    "  - {name: w, file: w.log, layout: raw}\n");
    (void)state;
    ind_write_file(ind_path(folder, "in"), "<165>1 2026-11-23T04:45:00.123456Z pier1-rtr app 7 ID [a@1 b=\"c "
                                           "\\\"d\\\"\"] caf\xc3\xa9 \x1b[2J \\n text\n"
                                           "<34>Nov 23 04:45:01 pier1-rtr su: old\n\nbare words\n");
    struct ind_ran ran =
        ind_run(folder, "collect", "--from", "in", "--received", "2026-11-23T05:00:00Z", NULL);
    assert_int_equal(ran.status, 0);
    assert_int_equal(counted(ran.out, "messages stored"), 3);
    assert_int_equal(counted(ran.out, "refused: empty"), 1);
    ind_ran_free(&ran);
    static const struct {
        const char *as, *file;
    } forms[] = {{"plain", "p.log"}, {"json", "j.log"}, {"rfc5424", "r.log"}, {"raw", "w.log"}};
    for (size_t i = 0; i < 4; i++) {
        ran = ind_shell(
            folder,
            "rm -rf again && mkdir -m 0750 again && sed 's/^store: log/store: again/; s/^state: state/state: "
            "again/' "
            "indagator.yaml > again.yaml && %s collect -c again.yaml --received 2026-11-23T05:00:00Z --as %s "
            "--from "
            "log/%s > /dev/null && cmp log/%s again/%s && echo same",
            IND_PROGRAM, forms[i].as, forms[i].file, forms[i].file, forms[i].file);
        if (strcmp(ran.out, "same\n") != 0)
            print_error("%s: %s%s\n", forms[i].as, ran.out, ran.err);
        assert_string_equal(ran.out, "same\n");
        ind_ran_free(&ran);
    }
    ind_folder_remove(folder);
}

static void files_may_be_compressed_or_standard_input(void **state)
{
    char *folder = folder_with(basic);
    (void)state;
    struct ind_ran ran =
        ind_shell(folder,
                  "printf '<13>1 - a b - - - one\\n<13>1 - a b - - - two' > in; zstd -q in; gzip -k in; "
                  "cat in | %s collect --from - in.zst in.gz no-such-file",
                  IND_PROGRAM);
    assert_int_equal(ran.status, 3); /* one file could not be read, and that is told */
    assert_non_null(strstr(ran.err, "cannot read no-such-file: No such file or directory"));
    assert_int_equal(counted(ran.out, "messages stored"), 6);
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static void a_file_that_cannot_be_written_is_told_and_counted(void **state)
{
    char *folder = folder_with(basic);
    (void)state;
    ind_write_file(ind_path(folder, "in"), "<13>1 - a b - - - one\n<14>1 - a b - - - two\n");
    struct ind_ran ran = ind_shell(folder, "mkdir -p log/user/notice.log; %s collect --from in", IND_PROGRAM);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "cannot write user/notice.log: Is a directory"));
    assert_int_equal(counted(ran.out, "messages stored"), 1);
    assert_int_equal(counted(ran.out, "lost: disk"), 1);
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_pri_of_the_systems_sender_lands_in_its_file),
        cmocka_unit_test(hostile_names_stay_in_the_store),
        cmocka_unit_test(strangers_are_refused_and_counted),
        cmocka_unit_test(ipv4_and_ipv6_both_come_in),
        cmocka_unit_test(sigterm_files_what_was_received),
        cmocka_unit_test(files_and_folders_get_their_modes),
        cmocka_unit_test(few_open_files_are_enough_for_many),
        cmocka_unit_test(a_million_lines_go_in_and_come_back),
        cmocka_unit_test(whole_batches_go_into_one_file),
        cmocka_unit_test(messages_that_three_routes_take_count_once),
        cmocka_unit_test(rotation_loses_nothing_and_doubles_nothing),
        cmocka_unit_test(a_kill_leaves_no_torn_line_and_a_new_start_goes_on),
        cmocka_unit_test(two_cannot_write_to_one_store),
        cmocka_unit_test(stored_lines_go_back_in_as_they_are),
        cmocka_unit_test(files_may_be_compressed_or_standard_input),
        cmocka_unit_test(a_file_that_cannot_be_written_is_told_and_counted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
