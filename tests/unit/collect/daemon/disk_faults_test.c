/* A whole collector on a disk that stops answering for seconds at a time: what comes waits, it is told at
 * once and by the status too, and nothing is lost. */
#include "support/support.h"

#include "collect/control/control_socket.h"
#include "collect/daemon/collector.h"
#include "net/socket.h"
#include <errno.h>
#include <pthread.h>
#include <signal.h>
#include <stdatomic.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static char *folder;

static struct {
    pthread_t thread;
    struct ind_loaded loaded;
    struct ind_fs fs;
    enum ind_collect_status status;
    struct ind_collect_result result;
    atomic_bool hangs;
    atomic_int fault;        /* every write fails with it, some of them after a part; 0: none */
    atomic_uint port, waits; /* writes that do not come back */
    atomic_bool told_hang, told_end;
} trial;

static void hear(void *context, const char *text)
{
    const char *port = strstr(text, "listening on udp 127.0.0.1:");
    (void)context;
    if (port)
        atomic_store(&trial.port, (unsigned)strtoul(strrchr(port, ':') + 1, NULL, 10));
    if (strstr(text, "the disk has not answered for a second"))
        atomic_store(&trial.told_hang, true);
    if (strstr(text, "the disk answers again after"))
        atomic_store(&trial.told_end, true);
}

static ssize_t write_sometime(void *context, int file, const struct iovec *pieces, int count)
{
    const struct timespec soon = {0, 1000000};
    if (atomic_load(&trial.hangs)) {
        atomic_fetch_add(&trial.waits, 1);
        while (atomic_load(&trial.hangs))
            nanosleep(&soon, NULL);
    }
    int fault = atomic_load(&trial.fault);
    if (!fault)
        return ind_fs_posix.write(context, file, pieces, count);
    if (fault == ENOSPC && pieces->iov_len > 1) { /* what there is room for goes in */
        const struct iovec part = {pieces->iov_base, pieces->iov_len / 2};
        return ind_fs_posix.write(context, file, &part, 1);
    }
    errno = fault;
    return -1;
}

static void *collect(void *context)
{
    char path[1200];
    snprintf(path, sizeof path, "%s", ind_path(folder, "indagator.yaml"));
    const struct ind_collect_settings settings = {.config = trial.loaded.config,
                                                  .config_path = path,
                                                  .report = hear,
                                                  .fs = &trial.fs,
                                                  .received = IND_TIME_NONE};
    (void)context;
    trial.status = ind_collect(&settings, &trial.result);
    return NULL;
}

static bool is_set(void *flag)
{
    return atomic_load((atomic_bool *)flag);
}

static bool is_counted(void *number)
{
    return atomic_load((atomic_uint *)number) > 0;
}

/* The answer of the control socket, to be freed. */
static char *ask_status(void)
{
    static const char request[] = "GET /status HTTP/1.0\r\n\r\n";
    enum { ROOM = 1 << 18 };
    const char *reason;
    int fd = ind_connect(IND_SEND_UNIX, ind_path(folder, "state/" IND_CONTROL_SOCKET), NULL, NULL, &reason);
    assert_true(fd >= 0);
    assert_int_equal(send(fd, request, sizeof request - 1, MSG_NOSIGNAL), sizeof request - 1);
    char *text = calloc(1, ROOM);
    size_t length = 0;
    for (ssize_t got; (got = recv(fd, text + length, ROOM - 1 - length, 0)) > 0;)
        length += (size_t)got;
    close(fd);
    return text;
}

static bool all_stored(void *wanted)
{
    char part[40];
    char *text = ask_status();
    snprintf(part, sizeof part, "\"stored\":%u,", *(unsigned *)wanted);
    bool stored = strstr(text, part) != NULL;
    free(text);
    return stored;
}

static int udp = -1;
static unsigned stored; /* by now, our own messages included */

static void send_some(unsigned count)
{
    static const char message[] = "<13>1 - - a - - - a message that is to be there, whole";
    for (unsigned i = 0; i < count; i++)
        assert_true(send(udp, message, sizeof message - 1, 0) > 0);
    stored += count;
}

static bool has_trouble(void *part)
{
    char *text = ask_status();
    const char *trouble = strstr(text, "\"trouble\":\"");
    bool has = part ? trouble && strstr(trouble, part) : !trouble;
    free(text);
    return has;
}

static int begin(void **state)
{
    char config[2000], port[16];
    const char *reason;
    (void)state;
    folder = ind_folder_new();
    signal(SIGPIPE, SIG_IGN);
    snprintf(config, sizeof config,
             "store: %s/log\nstate: %s/state\nlisten: [{udp: \"127.0.0.1:0\"}]\n"
             "routes: [{name: all, when: 'app is not \"indagator\"', file: all.log, layout: raw}, {name: "
             "own, file: own.log}]\n",
             folder, folder);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    ind_config_load(ind_path(folder, "indagator.yaml"), &trial.loaded);
    assert_non_null(trial.loaded.config);
    trial.fs = ind_fs_posix;
    trial.fs.write = write_sometime;
    assert_int_equal(pthread_create(&trial.thread, NULL, collect, NULL), 0);
    ind_wait_until(is_counted, &trial.port, "it listens");
    snprintf(port, sizeof port, "%u", atomic_load(&trial.port));
    udp = ind_connect(IND_SEND_UDP, "127.0.0.1", port, NULL, &reason);
    assert_true(udp >= 0);
    return 0;
}

static int end(void **state)
{
    (void)state;
    ind_loaded_free(&trial.loaded);
    close(udp);
    ind_folder_remove(folder);
    return 0;
}

static void a_disk_that_hangs_is_told_and_loses_nothing(void **state)
{
    (void)state;
    send_some(1);
    ind_wait_until(all_stored, &stored, "the first is stored");
    atomic_store(&trial.hangs, true);
    send_some(300);
    ind_wait_until(is_counted, &trial.waits, "a write hangs");
    ind_wait_until(is_set, &trial.told_hang, "the hang is told");
    char *text = ask_status();
    assert_non_null(strstr(text, "\"trouble\":\"the disk has not answered for "));
    assert_non_null(strstr(text, "\"as_of\":"));
    free(text);
    assert_false(atomic_load(&trial.told_end));
    /* And goes on by itself. Two messages of our own are stored with the others. */
    atomic_store(&trial.hangs, false);
    ind_wait_until(is_set, &trial.told_end, "its end is told");
    stored += 2;
    ind_wait_until(all_stored, &stored, "all are stored");
    ind_wait_until(has_trouble, NULL, "there is no trouble any more");
}

static void a_disk_that_takes_nothing_is_waited_for(void **state)
{
    static const struct {
        int fault;
        char told[40];
    } faults[] = {{EROFS, "Read-only file system"},
                  {ENOSPC, "No space left on device"},
                  {EIO, "Input/output error"},
                  {EDQUOT, "Disk quota exceeded"}};
    (void)state;
    for (size_t i = 0; i < sizeof faults / sizeof *faults; i++) {
        atomic_store(&trial.fault, faults[i].fault);
        send_some(200);
        ind_wait_until(has_trouble, (void *)(uintptr_t)faults[i].told, faults[i].told);
        atomic_store(&trial.fault, 0);
        stored += 2; /* our own: that it takes nothing, and that it does again */
        ind_wait_until(all_stored, &stored, "all are stored");
        ind_wait_until(has_trouble, NULL, "there is no trouble any more");
    }
}

static void nothing_is_lost_or_torn(void **state)
{
    (void)state;
    kill(getpid(), SIGTERM);
    pthread_join(trial.thread, NULL);
    assert_int_equal(trial.status, IND_COLLECT_DONE);
    assert_true(trial.result.adds_up);
    assert_int_equal(ind_ledger_lost(&trial.result.ledger), 0);
    ind_collect_result_free(&trial.result);
    struct ind_ran ran = ind_shell(folder, "cat log/all.log | wc -l; sort log/all.log | uniq -c | wc -l");
    assert_string_equal(ran.out, "1101\n1\n");
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(a_disk_that_hangs_is_told_and_loses_nothing),
        cmocka_unit_test(a_disk_that_takes_nothing_is_waited_for),
        cmocka_unit_test(nothing_is_lost_or_torn),
    };
    return cmocka_run_group_tests(tests, begin, end);
}
