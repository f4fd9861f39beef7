#include "support/support.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

void ind_assert_slice(struct ind_slice slice, const char *text, const char *file, int line)
{
    if (ind_slice_equal(slice, ind_slice_of(text)))
        return;
    print_error("\"%.*s\" is not \"%s\"\n", IND_ARG(slice), text);
    _fail(file, line);
}

char *ind_folder_new(void)
{
    const char *temporary = getenv("TMPDIR");
    char name[1024];
    snprintf(name, sizeof name, "%s/indagator-test-XXXXXX", temporary ? temporary : "/tmp");
    assert_non_null(mkdtemp(name));
    return strdup(name);
}

void ind_folder_remove(char *folder)
{
    struct ind_ran ran = ind_shell("/", "rm -rf '%s'", folder);
    ind_ran_free(&ran);
    free(folder);
}

const char *ind_path(const char *folder, const char *name)
{
    static char paths[8][4096];
    static unsigned next;
    char *path = paths[next++ % 8];
    snprintf(path, sizeof paths[0], "%s/%s", folder, name);
    return path;
}

void ind_write_file(const char *path, const char *text)
{
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    assert_true(fputs(text, file) >= 0);
    assert_int_equal(fclose(file), 0);
}

char *ind_read_file(const char *path, size_t *length)
{
    FILE *file = fopen(path, "rb");
    size_t room = 65536, used = 0, got;
    char *text = malloc(room + 1);
    if (!file || !text) {
        free(text);
        return NULL;
    }
    while ((got = fread(text + used, 1, room - used, file)) > 0) {
        used += got;
        if (used == room) {
            room *= 2;
            text = realloc(text, room + 1);
            assert_non_null(text);
        }
    }
    fclose(file);
    text[used] = '\0';
    if (length)
        *length = used;
    return text;
}

bool ind_file_holds(const char *path, const char *text)
{
    char *whole = ind_read_file(path, NULL);
    bool holds = whole && strstr(whole, text);
    free(whole);
    return holds;
}

static void redirect(const char *path, int to)
{
    int file = open(path, O_WRONLY | O_CREAT | O_TRUNC, 0600);
    if (file < 0 || dup2(file, to) < 0)
        _exit(126);
    close(file);
}

static pid_t start(const char *folder, const char *out, const char *err, char *const *arguments)
{
    pid_t child = fork();
    assert_true(child >= 0);
    if (child > 0)
        return child;
    if (chdir(folder) != 0)
        _exit(126);
    int nothing = open("/dev/null", O_RDONLY);
    (void)dup2(nothing, STDIN_FILENO);
    redirect(out, STDOUT_FILENO);
    redirect(err, STDERR_FILENO);
    execv(arguments[0], arguments);
    _exit(127);
}

static int wait_for(pid_t child)
{
    int status;
    while (waitpid(child, &status, 0) < 0)
        if (errno != EINTR)
            return -1;
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

static struct ind_ran run(const char *folder, char *const *arguments)
{
    static unsigned counter;
    char out[256], err[256];
    snprintf(out, sizeof out, "/tmp/indagator-out-%ld-%u", (long)getpid(), counter);
    snprintf(err, sizeof err, "/tmp/indagator-err-%ld-%u", (long)getpid(), counter++);
    struct ind_ran ran = {.status = wait_for(start(folder, out, err, arguments))};
    ran.out = ind_read_file(out, NULL);
    ran.err = ind_read_file(err, NULL);
    unlink(out);
    unlink(err);
    return ran;
}

struct ind_ran ind_run(const char *folder, ...)
{
    char *arguments[64] = {(char *)(uintptr_t)IND_PROGRAM};
    va_list list;
    va_start(list, folder);
    for (int i = 1; i < 63 && (arguments[i] = va_arg(list, char *)) != NULL; i++)
        ;
    va_end(list);
    return run(folder, arguments);
}

struct ind_ran ind_shell(const char *folder, const char *format, ...)
{
    char command[8192];
    va_list list;
    va_start(list, format);
    vsnprintf(command, sizeof command, format, list);
    va_end(list);
    char shell[] = "/bin/sh", option[] = "-c";
    char *arguments[] = {shell, option, command, NULL};
    return run(folder, arguments);
}

void ind_ran_free(struct ind_ran *ran)
{
    free(ran->out);
    free(ran->err);
    *ran = (struct ind_ran){0};
}

static void nap(void)
{
    struct timespec time = {0, 5000000};
    nanosleep(&time, NULL);
}

/* A line of /proc/net/udp: number, local address and port, remote ones, state, bytes to be sent : to be read.
 */
static bool has_unread(const char *table, unsigned port)
{
    char line[512];
    bool unread = false;
    FILE *file = fopen(table, "r");
    while (file && fgets(line, sizeof line, file)) {
        unsigned of;
        unsigned long waiting;
        if (sscanf(line, " %*u: %*[0-9A-F]:%x %*[0-9A-F]:%*x %*x %*x:%lx", &of, &waiting) == 2)
            unread |= of == port && waiting > 0;
    }
    if (file)
        fclose(file);
    return unread;
}

static bool all_is_read(void *context)
{
    unsigned port = *(const unsigned *)context;
    return !has_unread("/proc/net/udp", port) && !has_unread("/proc/net/udp6", port);
}

void ind_wait_until_read(unsigned port)
{
    ind_wait_until(all_is_read, &port, "all datagrams are read");
}

void ind_wait_until(bool (*done)(void *context), void *context, const char *what)
{
    const time_t patience = 60;
    struct timespec start, now;
    clock_gettime(CLOCK_MONOTONIC, &start);
    do {
        if (done(context))
            return;
        nap();
        clock_gettime(CLOCK_MONOTONIC, &now);
    } while (now.tv_sec - start.tv_sec < patience);
    print_error("waited in vain until %s\n", what);
    fail();
}

static bool listens(void *context)
{
    struct ind_running *running = context;
    char *told = ind_read_file(running->err, NULL);
    const char *at = told ? strstr(told, "listening on ") : NULL;
    running->listening |= at && strchr(at, '\n');
    at = told ? strstr(told, "listening on udp ") : NULL;
    if (at && strchr(at, '\n')) {
        const char *colon = strchr(at, '\n');
        while (colon > at && *colon != ':')
            colon--;
        running->port = (unsigned)strtoul(colon + 1, NULL, 10);
    }
    bool died = waitpid(running->process, NULL, WNOHANG) == running->process;
    if (died)
        print_error("the collector ended: %s\n", told ? told : "");
    free(told);
    if (died)
        fail();
    return running->listening;
}

static struct ind_running start_collector(const char *folder, char *const *arguments)
{
    static unsigned counter;
    char out[256], err[256];
    snprintf(out, sizeof out, "%s/collector-%u.out", folder, counter);
    snprintf(err, sizeof err, "%s/collector-%u.err", folder, counter++);
    struct ind_running running = {.out = strdup(out), .err = strdup(err)};
    ind_write_file(err, "");
    running.process = start(folder, out, err, arguments);
    ind_wait_until(listens, &running, "the collector listens");
    return running;
}

struct ind_running ind_collect_start(const char *folder)
{
    char program[] = IND_PROGRAM, collect[] = "collect", option[] = "-c", config[] = "indagator.yaml";
    char *arguments[] = {program, collect, option, config, NULL};
    return start_collector(folder, arguments);
}

struct ind_running ind_collect_start_after(const char *folder, const char *before)
{
    char command[1024], shell[] = "/bin/sh", option[] = "-c";
    snprintf(command, sizeof command, "%s exec %s collect -c indagator.yaml", before, IND_PROGRAM);
    char *arguments[] = {shell, option, command, NULL};
    return start_collector(folder, arguments);
}

struct ind_running ind_collect_start_limited(const char *folder, unsigned descriptors)
{
    char before[40];
    snprintf(before, sizeof before, "ulimit -n %u &&", descriptors);
    return ind_collect_start_after(folder, before);
}

struct told {
    struct ind_running *running;
    const char *text;
    unsigned port;
};

static bool is_told(void *context)
{
    struct told *told = context;
    char *text = ind_read_file(told->running->err, NULL);
    const char *at = text ? strstr(text, told->text) : NULL;
    if (at && strchr(at, '\n'))
        told->port = (unsigned)strtoul(at + strlen(told->text), NULL, 10);
    free(text);
    return told->port != 0;
}

unsigned ind_reported_port(struct ind_running *running, const char *text)
{
    struct told told = {running, text, 0};
    ind_wait_until(is_told, &told, "a port is told");
    return told.port;
}

int ind_collect_stop(struct ind_running *running, int signal)
{
    kill(running->process, signal);
    int status = wait_for(running->process);
    running->process = 0;
    return status;
}

/* A collector may be compressing meanwhile: of a plain archive and its compressed form one counts, by one
 * look at the folder. What goes between that look and the reading is missing from the count, never there
 * twice. */
size_t ind_count_lines(const char *folder)
{
    struct ind_ran ran = ind_shell(
        folder, "find log -name '*.log' -o -name '*.log.zst' -o -name '*.log.gz' | sort |"
                " awk '{ plain = $0; sub(/[.](zst|gz)$/, \"\", plain) } !seen[plain]++' > found.txt;"
                " grep '[.]log$' found.txt | xargs -r cat > all.txt;"
                " grep '[.]zst$' found.txt | xargs -r zstd -dcq >> all.txt;"
                " grep '[.]gz$' found.txt | xargs -r gzip -dc >> all.txt; wc -l < all.txt");
    size_t count = strtoul(ran.out, NULL, 10);
    ind_ran_free(&ran);
    return count;
}
