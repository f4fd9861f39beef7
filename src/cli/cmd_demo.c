/* cli/cmd_demo.c: the whole thing on made-up data, with the program's own commands as a user would call them.
 */
#include "cli/cli.h"
#include "cli/demo_config.h"
#include "collect/runtime/clock.h"
#include "store/disk/walk.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

enum { PATIENCE_MILLISECONDS = 15000, MOST_FILES = 200 };

static char *given_folder;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"folder", '\0', POPT_ARG_STRING, &given_folder, 0,
                                         "where to put its files; a new one under /tmp where none is given",
                                         "FOLDER"},
                                        POPT_TABLEEND};
    return table;
}

struct demo {
    char program[4096], fleet[4096], messages[4096], folder[2048], config[4096];
    pid_t collector;
    int errors;        /* what the collector tells */
    unsigned udp, tcp; /* ports */
};

static void heading(const char *text)
{
    bool colour = ind_colour();
    printf("\n%s%s%s\n", colour ? IND_BOLD : "", text, colour ? IND_PLAIN : "");
}

static bool find_program(struct demo *demo, const char *called)
{
    ssize_t length = readlink("/proc/self/exe", demo->program, sizeof demo->program - 1);
    if (length > 0)
        demo->program[length] = '\0';
    else
        snprintf(demo->program, sizeof demo->program, "%s", called);
    return true;
}

/* Beside the program as it was built, or where it is installed. */
static bool find_fleet(struct demo *demo)
{
    static const char *const beside[] = {"demo", "../share/indagator/demo"};
    const char *slash = strrchr(demo->program, '/');
    int folder = slash ? (int)(slash - demo->program) : 1;
    for (size_t i = 0; i < sizeof beside / sizeof *beside; i++) {
        const char *before = slash ? demo->program : ".";
        snprintf(demo->fleet, sizeof demo->fleet, "%.*s/%s/fleet.yaml", folder, before, beside[i]);
        snprintf(demo->messages, sizeof demo->messages, "%.*s/%s/messages.log", folder, before, beside[i]);
        if (access(demo->fleet, R_OK) == 0)
            return true;
    }
    ind_complain("the demo's fleet.yaml is neither in %.*s/%s nor in %.*s/%s; is the installation whole?",
                 folder, slash ? demo->program : ".", beside[0], folder, slash ? demo->program : ".",
                 beside[1]);
    return false;
}

static bool make_folder(struct demo *demo)
{
    if (given_folder) {
        if (mkdir(given_folder, 0755) != 0 && errno != EEXIST) {
            ind_complain("cannot make %s: %s", given_folder, strerror(errno));
            return false;
        }
        char *whole = realpath(given_folder, NULL);
        bool good = whole && strlen(whole) < sizeof demo->folder;
        if (good)
            memcpy(demo->folder, whole, strlen(whole) + 1);
        else
            ind_complain("cannot use %s: %s", given_folder, strerror(whole ? ENAMETOOLONG : errno));
        free(whole);
        return good;
    }
    const char *temporary = getenv("TMPDIR");
    snprintf(demo->folder, sizeof demo->folder, "%s/indagator-demo-XXXXXX", temporary ? temporary : "/tmp");
    if (!mkdtemp(demo->folder)) {
        ind_complain("cannot make %s: %s", demo->folder, strerror(errno));
        return false;
    }
    return true;
}

/* The rules, and the same without edits, to compare with. */
static bool write_configs(struct demo *demo)
{
    char before[4096];
    snprintf(demo->config, sizeof demo->config, "%s/indagator.yaml", demo->folder);
    snprintf(before, sizeof before, "%s/before.yaml", demo->folder);
    ind_demo_config_print();
    return ind_demo_config_write(demo->config, true) && ind_demo_config_write(before, false);
}

/* Starts the program with arguments; its standard error goes to `errors` unless that is -1. */
static pid_t start(const struct demo *demo, const char *const *arguments, int errors)
{
    fflush(stdout);
    pid_t child = fork();
    if (child != 0)
        return child;
    if (errors >= 0)
        dup2(errors, STDERR_FILENO);
    execv(demo->program, (char *const *)(uintptr_t)arguments);
    _exit(127);
}

static int wait_for(pid_t child)
{
    int status = 0;
    while (waitpid(child, &status, 0) < 0 && errno == EINTR)
        ;
    return WIFEXITED(status) ? WEXITSTATUS(status) : IND_EXIT_FAILED;
}

/* Shows the call as one would type it, then runs it. */
static int show(const struct demo *demo, const char *const *arguments)
{
    printf("\n$ indagator");
    for (size_t i = 1; arguments[i]; i++) {
        bool quote = strpbrk(arguments[i], " {}\"*<") != NULL;
        const char *below = strstr(arguments[i], "/before.yaml");
        const char *shown = below                                       ? below + 1
                            : strcmp(arguments[i], demo->config) == 0   ? "indagator.yaml"
                            : strcmp(arguments[i], demo->fleet) == 0    ? "fleet.yaml"
                            : strcmp(arguments[i], demo->messages) == 0 ? "messages.log"
                                                                        : arguments[i];
        printf(" %s%s%s", quote ? "'" : "", shown, quote ? "'" : "");
    }
    printf("\n");
    return wait_for(start(demo, arguments, -1));
}

static unsigned reported_port(const char *reported, const char *what)
{
    const char *said = strstr(reported, what);
    return said && strchr(said, '\n') ? (unsigned)strtoul(said + strlen(what), NULL, 10) : 0;
}

/* Reads what the collector tells until it says where it listens. */
static bool wait_for_ports(struct demo *demo)
{
    char text[4096];
    size_t length = 0;
    struct pollfd ready = {demo->errors, POLLIN, 0};
    while (length < sizeof text - 1 && poll(&ready, 1, PATIENCE_MILLISECONDS) == 1) {
        ssize_t got = read(demo->errors, text + length, sizeof text - 1 - length);
        if (got <= 0)
            break;
        length += (size_t)got;
        text[length] = '\0';
        demo->udp = reported_port(text, "listening on udp 127.0.0.1:");
        demo->tcp = reported_port(text, "listening on tcp 127.0.0.1:");
        if (demo->udp && demo->tcp)
            return true;
    }
    ind_complain("the collector did not start: %.*s", (int)length, text);
    return false;
}

static bool start_collector(struct demo *demo)
{
    int ends[2];
    const char *arguments[] = {"indagator", "collect", "-c", demo->config, NULL};
    if (pipe(ends) != 0)
        return false;
    (void)fcntl(ends[0], F_SETFD, FD_CLOEXEC);
    printf("\n$ indagator collect -c indagator.yaml &\n");
    demo->collector = start(demo, arguments, ends[1]);
    close(ends[1]);
    demo->errors = ends[0];
    return demo->collector > 0 && wait_for_ports(demo);
}

static bool add_size(void *context, const char *path)
{
    struct stat facts;
    char whole[8192];
    const void **both = context;
    const char *folder = both[0];
    uint64_t *total = (uint64_t *)(uintptr_t)both[1];
    snprintf(whole, sizeof whole, "%s/log/%s", folder, path);
    if (stat(whole, &facts) == 0)
        *total += (uint64_t)facts.st_size;
    return true;
}

static uint64_t stored_bytes(const struct demo *demo)
{
    char path[4096];
    uint64_t total = 0;
    const void *both[] = {demo->folder, &total};
    snprintf(path, sizeof path, "%s/log", demo->folder);
    int folder = open(path, O_RDONLY | O_DIRECTORY);
    if (folder >= 0) {
        (void)ind_walk(folder, add_size, both, NULL);
        close(folder);
    }
    return total;
}

/* Until the files have stopped growing: nothing is on its way any more. */
static void wait_until_stored(const struct demo *demo)
{
    uint64_t last = 0;
    for (int waited = 0, still = 0; waited < PATIENCE_MILLISECONDS && still < 4; waited += 150) {
        struct timespec pause = {0, 150000000};
        nanosleep(&pause, NULL);
        uint64_t now = stored_bytes(demo);
        still = now > 0 && now == last ? still + 1 : 0;
        last = now;
    }
}

static int by_name(const void *left, const void *right)
{
    return strcmp(*(char *const *)left, *(char *const *)right);
}

struct names {
    char *list[MOST_FILES];
    size_t count;
};

static bool add_name(void *context, const char *path)
{
    struct names *names = context;
    if (names->count < MOST_FILES)
        names->list[names->count++] = strdup(path);
    return true;
}

static void show_files(const struct demo *demo)
{
    char path[8192], size[32];
    struct names names = {{NULL}, 0};
    struct stat facts;
    snprintf(path, sizeof path, "%s/log", demo->folder);
    int folder = open(path, O_RDONLY | O_DIRECTORY);
    if (folder < 0)
        return;
    (void)ind_walk(folder, add_name, &names, NULL);
    qsort(names.list, names.count, sizeof *names.list, by_name);
    for (size_t i = 0; i < names.count; i++) {
        if (names.list[i] && fstatat(folder, names.list[i], &facts, 0) == 0)
            printf("  %10s  log/%s\n", ind_size_text((uint64_t)facts.st_size, size), names.list[i]);
        free(names.list[i]);
    }
    close(folder);
}

static bool count_plain(void *context, const char *path)
{
    size_t length = strlen(path);
    *(size_t *)context += length > 4 && strcmp(path + length - 4, ".log") == 0;
    return true;
}

/* Until the collector has compressed what it rotated. */
static void wait_until_compressed(const struct demo *demo)
{
    char path[8192];
    struct timespec pause = {0, 100000000};
    size_t plain = 1;
    snprintf(path, sizeof path, "%s/log", demo->folder);
    int folder = open(path, O_RDONLY | O_DIRECTORY);
    for (int waited = 0; folder >= 0 && plain > 0 && waited < PATIENCE_MILLISECONDS; waited += 100) {
        plain = 0;
        nanosleep(&pause, NULL);
        (void)ind_walk(folder, count_plain, &plain, NULL);
    }
    if (folder >= 0)
        close(folder);
}

static void end_collector(struct demo *demo)
{
    if (demo->collector > 0) {
        fflush(stdout);
        kill(demo->collector, SIGTERM);
        demo->collector = -wait_for(demo->collector);
    }
}

static bool play_fleet(const struct demo *demo)
{
    char udp[64], tcp[64];
    snprintf(udp, sizeof udp, "udp:127.0.0.1:%u", demo->udp);
    snprintf(tcp, sizeof tcp, "tcp:127.0.0.1:%u", demo->tcp);
    const char *emit[] = {"indagator", "emit", "--to", udp, "--to", tcp, "--fleet", demo->fleet, NULL};
    if (show(demo, emit) != IND_EXIT_DONE)
        return false;
    wait_until_stored(demo);
    return true;
}

static bool show_counts(const struct demo *demo)
{
    const char *severities[] = {"indagator", "search", "-c", demo->config, "--by", "severity", NULL};
    const char *devices[] = {"indagator", "search", "-c", demo->config, "--by", "device", "--top", "6", NULL};
    return show(demo, severities) == IND_EXIT_DONE && show(demo, devices) == IND_EXIT_DONE;
}

static bool show_searches(const struct demo *demo)
{
    const char *guesses[] = {
        "indagator",  "search",          "-c",
        demo->config, "--when",          "app is \"sshd\" and text contains \"Failed password\"",
        "--by",       "device,severity", NULL};
    const char *pier[] = {"indagator", "search",
                          "-c",        demo->config,
                          "--when",    "device starts with \"pier3\" and severity at least error",
                          "--layout",  "{time} {device} {severity} {text}",
                          NULL};
    const char *note[] = {"indagator",  "search", "-c",
                          demo->config, "--when", "facility is mail and text contains \"mv-tern\"",
                          NULL};
    return show(demo, guesses) == IND_EXIT_DONE && show(demo, pier) == IND_EXIT_DONE &&
           show(demo, note) == IND_EXIT_DONE;
}

static bool show_patterns(const struct demo *demo)
{
    const char *fits[] = {
        "indagator",
        "fit",
        "-c",
        demo->config,
        "<84>Nov 23 04:45:00 harbour-fw sshd[811]: Failed password for root from 203.0.113.66 port 4022 ssh2",
        NULL};
    const char *stops[] = {
        "indagator", "fit", "-c", demo->config, "Failed password for oper from pier3-sw2 port 4022 ssh2",
        NULL};
    const char *guesses[] = {"indagator", "search",
                             "-c",        demo->config,
                             "--when",    "pattern is \"login-failed\"",
                             "--by",      "field user,field peer",
                             NULL};
    const char *links[] = {"indagator", "search",
                           "-c",        demo->config,
                           "--when",    "pattern is \"link-state\"",
                           "--by",      "device,field interface,field state",
                           NULL};
    return show(demo, fits) == IND_EXIT_DONE && show(demo, stops) == IND_EXIT_NO &&
           show(demo, guesses) == IND_EXIT_DONE && show(demo, links) == IND_EXIT_DONE;
}

static bool show_explanations(const struct demo *demo)
{
    static const char *const messages[][2] = {
        {"127.0.2.9", "<164>Nov 23 04:45:00 harbour-fw kernel: DROP IN=ge0 OUT= SRC=198.51.100.7 DPT=23"},
        {"127.0.11.1",
         "<189>29: *Mar  1 00:04:10.123: %LINK-3-UPDOWN: Interface ge0/1, changed state to down"},
        {"127.0.99.1", "<007>Nov 23 04:45:00 pier4-ups: on battery"}};
    for (size_t i = 0; i < sizeof messages / sizeof *messages; i++) {
        const char *explain[] = {"indagator",    "explain",
                                 "-c",           demo->config,
                                 "--sender",     messages[i][0],
                                 "--received",   "2026-11-23T04:45:02Z",
                                 messages[i][1], NULL};
        if (show(demo, explain) != IND_EXIT_DONE)
            return false;
    }
    return true;
}

/* A day's messages through the rules, and through those without edits. */
static bool rehearse(const struct demo *demo)
{
    char before[4096];
    snprintf(before, sizeof before, "%s/before.yaml", demo->folder);
    const char *alone[] = {"indagator",    "rehearse",   "-c",
                           demo->config,   "--received", "2026-11-24T00:00:00Z",
                           demo->messages, NULL};
    const char *against[] = {
        "indagator", "rehearse", "-c",           demo->config, "--received", "2026-11-24T00:00:00Z",
        "--against", before,     demo->messages, NULL};
    return show(demo, alone) == IND_EXIT_DONE && show(demo, against) == IND_EXIT_NO;
}

/* The call is what was sent; the answer is what is kept of it. */
static bool show_edits(const struct demo *demo)
{
    static const char note[] =
        "<21>1 2026-11-23T04:45:00Z hq-mail smtpd 4022 NOTE - bounced note to deck crew: "
        "call the bosun of mv-tern on +351 555 0142";
    const char *mail[] = {"indagator", "explain", "-c", demo->config, "--sender", "127.0.2.25", note, NULL};
    return show(demo, mail) == IND_EXIT_DONE;
}

static bool show_reported(const struct demo *demo)
{
    const char *reported[] = {"indagator", "search",
                              "-c",        demo->config,
                              "--when",    "app is \"indagator\"",
                              "--layout",  "{time} {severity} {text}",
                              NULL};
    return show(demo, reported) == IND_EXIT_DONE;
}

static int play(struct demo *demo)
{
    heading("1. A configuration: where to listen, who the devices are, which file takes what");
    if (!write_configs(demo))
        return IND_EXIT_FAILED;
    heading(
        "2. Rehearsed before it counts: what would become of a day's messages, and what the edits change");
    if (!rehearse(demo))
        return IND_EXIT_FAILED;
    heading("3. A collector on loopback, and ten seconds of a day at Skerry Line, a ferry operator");
    if (!start_collector(demo) || !play_fleet(demo))
        return IND_EXIT_FAILED;
    heading("4. Trouble by device, all else by facility and severity");
    show_files(demo);
    heading("5. How much of what, while the collector goes on");
    if (!show_counts(demo))
        return IND_EXIT_FAILED;
    heading("6. Three questions: who guesses passwords, what is wrong at pier 3, what was that mail about "
            "mv-tern?");
    if (!show_searches(demo))
        return IND_EXIT_FAILED;
    heading("7. What was sent, and what is kept of it");
    if (!show_edits(demo))
        return IND_EXIT_FAILED;
    heading("8. Patterns: one fits, one stops; who was guessed, and which links went up and down?");
    if (!show_patterns(demo))
        return IND_EXIT_FAILED;
    heading("9. How is a message parsed, and where does it go? Three of them, step by step");
    if (!show_explanations(demo))
        return IND_EXIT_FAILED;
    heading("10. The files become archives; the collector is asked to do it");
    const char *rotate[] = {"indagator", "rotate", "-c", demo->config, NULL};
    if (show(demo, rotate) != IND_EXIT_DONE)
        return IND_EXIT_FAILED;
    wait_until_compressed(demo);
    heading("11. What became of every message, whose clock is off, and who is not known yet");
    const char *status[] = {"indagator", "status", "-c", demo->config, NULL};
    if (show(demo, status) != IND_EXIT_DONE)
        return IND_EXIT_FAILED;
    heading("12. Told to end, the collector files what it has and gives account");
    printf("\n$ kill -TERM %ld\n", (long)demo->collector);
    end_collector(demo);
    heading("13. What edits dropped to the end is reported, too");
    if (!show_reported(demo))
        return IND_EXIT_FAILED;
    printf("\nAll of this is in %s. To go on:\n"
           "  cd %s\n"
           "  %s check\n"
           "  %s search --when 'text contains \"DHCP\"' --count\n"
           "  %s collect &\n"
           "  %s follow --when 'severity at least warning'\n",
           demo->folder, demo->folder, demo->program, demo->program, demo->program, demo->program);
    return demo->collector == 0 ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

static int run(struct ind_call *call)
{
    static struct demo demo = {.errors = -1};
    if (*call->rest) {
        ind_complain("demo takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!find_program(&demo, call->program) || !find_fleet(&demo) || !make_folder(&demo))
        return IND_EXIT_FAILED;
    int status = play(&demo);
    end_collector(&demo);
    if (demo.errors >= 0)
        close(demo.errors);
    return status;
}

const struct ind_command ind_command_demo = {
    .name = "demo",
    .summary = "shows the whole thing on made-up data",
    .arguments = "[--folder FOLDER]",
    .about =
        "Starts a collector on loopback, lets the devices of a made-up ferry operator send to it for ten\n"
        "seconds, and shows the files, counts, searches, patterns, a rotation and the ledger. Leaves its "
        "folder\n"
        "and says where it is.\n\n"
        "Example:\n"
        "  indagator demo\n",
    .options = options,
    .run = run,
};
