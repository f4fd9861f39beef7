/* cli/cmd_demo.c: the whole thing on made-up data, with the program's own commands as a user would call them.
 */
#include "cli/cli.h"
#include "cli/demo_config.h"
#include "cli/demo_run.h"
#include "cli/demo_ship.h"
#include "cli/demo_tamper.h"
#include "collect/runtime/clock.h"
#include "store/disk/walk.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

enum { MOST_FILES = 200, FILES_SHOWN = 5, SUMMARY_LINES = 6 };

static char *given_folder;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"folder", '\0', POPT_ARG_STRING, &given_folder, 0,
         "where to put its files: an empty one; a new one under /tmp where none is given", "FOLDER"},
        POPT_TABLEEND};
    return table;
}

/* What the demo is made of stands beside the program as it was built, or where it is installed. */
static const char *const files[] = {"fleet.yaml", "messages.log"};
enum { FILES = sizeof files / sizeof *files };

static bool find_program(struct ind_demo *demo, const char *called)
{
    ssize_t length = readlink("/proc/self/exe", demo->program, sizeof demo->program - 1);
    if (length > 0)
        demo->program[length] = '\0';
    else
        snprintf(demo->program, sizeof demo->program, "%s", called);
    return true;
}

static bool find_data(struct ind_demo *demo)
{
    static const char *const beside[] = {"demo", "../share/indagator/demo"};
    char path[8192];
    const char *slash = strrchr(demo->program, '/');
    int folder = slash ? (int)(slash - demo->program) : 1;
    for (size_t i = 0; i < sizeof beside / sizeof *beside; i++) {
        snprintf(demo->data, sizeof demo->data, "%.*s/%s", folder, slash ? demo->program : ".", beside[i]);
        snprintf(path, sizeof path, "%s/%s", demo->data, files[0]);
        if (access(path, R_OK) == 0)
            return true;
    }
    ind_complain("the demo's %s is neither in %.*s/%s nor in %.*s/%s; is the installation whole?", files[0],
                 folder, slash ? demo->program : ".", beside[0], folder, slash ? demo->program : ".",
                 beside[1]);
    return false;
}

/* What is there already may be somebody's: nothing is written over. */
static bool is_unused(const char *folder)
{
    DIR *stream = opendir(folder);
    const struct dirent *entry;
    bool unused = stream != NULL;
    if (!stream)
        ind_complain("cannot use %s: %s", folder, strerror(errno));
    while (stream && unused && (entry = readdir(stream)) != NULL)
        unused = strcmp(entry->d_name, ".") == 0 || strcmp(entry->d_name, "..") == 0;
    if (stream && !unused)
        ind_complain("%s is not empty; name a folder that is, or one that is not there yet", folder);
    if (stream)
        closedir(stream);
    return unused;
}

static bool make_folder(struct ind_demo *demo)
{
    if (given_folder) {
        if (mkdir(given_folder, 0755) != 0 && errno != EEXIST) {
            ind_complain("cannot make %s: %s", given_folder, strerror(errno));
            return false;
        }
        if (!is_unused(given_folder))
            return false;
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

static bool copy_file(const struct ind_demo *demo, const char *name)
{
    char from[8192], to[8192], room[8192];
    snprintf(from, sizeof from, "%s/%s", demo->data, name);
    snprintf(to, sizeof to, "%s/%s", demo->folder, name);
    FILE *in = fopen(from, "r"), *out = in ? fopen(to, "w") : NULL;
    bool good = out != NULL;
    for (size_t got; good && (got = fread(room, 1, sizeof room, in)) > 0;)
        good = fwrite(room, 1, got, out) == got;
    good = good && !ferror(in);
    if (out && fclose(out) != 0)
        good = false;
    if (!good)
        ind_complain("cannot copy %s to %s: %s", from, to, strerror(errno));
    if (in)
        fclose(in);
    return good;
}

/* The rules, the same without edits to compare with, and what is sent and rehearsed. */
static bool fill_folder(const struct ind_demo *demo)
{
    char path[4096];
    bool good = true;
    for (int edits = 0; edits < 2; edits++) {
        snprintf(path, sizeof path, "%s/%s", demo->folder, edits ? "indagator.yaml" : "before.yaml");
        good = good && ind_demo_config_write(path, edits);
    }
    for (size_t i = 0; i < FILES; i++)
        good = good && copy_file(demo, files[i]);
    return good;
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

static uint64_t stored_bytes(const struct ind_demo *demo)
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
static void wait_until_stored(const struct ind_demo *demo)
{
    uint64_t last = 0;
    for (int waited = 0, still = 0; waited < IND_DEMO_PATIENCE && still < 4; waited += 150) {
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

static void show_files(const struct ind_demo *demo)
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
        if (i < FILES_SHOWN && names.list[i] && fstatat(folder, names.list[i], &facts, 0) == 0)
            printf("  %10s  log/%s\n", ind_size_text((uint64_t)facts.st_size, size), names.list[i]);
        free(names.list[i]);
    }
    if (names.count > FILES_SHOWN)
        printf("  and %zu more: a file for each device in trouble, all else by facility and severity\n",
               names.count - FILES_SHOWN);
    close(folder);
}

static bool count_plain(void *context, const char *path)
{
    size_t length = strlen(path);
    *(size_t *)context += length > 4 && strcmp(path + length - 4, ".log") == 0;
    return true;
}

/* Until the collector has compressed what it rotated. */
static void wait_until_compressed(const struct ind_demo *demo)
{
    char path[8192];
    struct timespec pause = {0, 100000000};
    size_t plain = 1;
    snprintf(path, sizeof path, "%s/log", demo->folder);
    int folder = open(path, O_RDONLY | O_DIRECTORY);
    for (int waited = 0; folder >= 0 && plain > 0 && waited < IND_DEMO_PATIENCE; waited += 100) {
        plain = 0;
        nanosleep(&pause, NULL);
        (void)ind_walk(folder, count_plain, &plain, NULL);
    }
    if (folder >= 0)
        close(folder);
}

static bool play_fleet(const struct ind_demo *demo)
{
    char udp[64], tcp[64];
    snprintf(udp, sizeof udp, "udp:127.0.0.1:%u", demo->udp);
    snprintf(tcp, sizeof tcp, "tcp:127.0.0.1:%u", demo->tcp);
    const char *emit[] = {"indagator", "emit", "--to", udp, "--to", tcp, "--fleet", files[0], NULL};
    if (ind_demo_show(demo, emit, 0) != IND_EXIT_DONE)
        return false;
    wait_until_stored(demo);
    return true;
}

static void introduce(const struct ind_demo *demo)
{
    printf(
        "Skerry Line, a made-up ferry operator, has devices at a head office, at four piers and on ships. "
        "In\n"
        "%s are now\n\n"
        "  indagator.yaml  where to listen, who the devices are, patterns, edits, and which file takes what\n"
        "  before.yaml     the same without edits, to compare with\n"
        "  messages.log    a day's messages of Skerry Line, to rehearse the rules on\n"
        "  fleet.yaml      what the devices send in the next ten seconds\n",
        demo->folder);
}

static bool rehearse(const struct ind_demo *demo)
{
    static const char *const call[] = {"indagator", "rehearse", "messages.log", NULL};
    ind_demo_heading(
        "2. Rehearsed before it counts: what would become of a day's messages? Nothing is stored");
    return ind_demo_show(demo, call, 8) == IND_EXIT_DONE;
}

static bool search(const struct ind_demo *demo)
{
    static const char *const severities[] = {"indagator", "search", "--by", "severity", NULL};
    static const char *const pier[] = {
        "indagator", "search",
        "--when",    "device starts with \"pier3\" and severity at least error",
        "--layout",  "{time} {device} {severity} {text}",
        NULL};
    static const char *const guesses[] = {
        "indagator", "search", "--when", "pattern is \"login-failed\"", "--by", "field user,field peer",
        NULL};
    ind_demo_heading("4. How much of what, what is wrong at pier 3, and who guesses passwords?");
    return ind_demo_show(demo, severities, 0) == IND_EXIT_DONE &&
           ind_demo_show(demo, pier, 0) == IND_EXIT_DONE && ind_demo_show(demo, guesses, 0) == IND_EXIT_DONE;
}

/* The call is what was sent; the answer is what is kept of it. */
static bool explain(const struct ind_demo *demo)
{
    static const char *const call[] = {
        "indagator",
        "explain",
        "--sender",
        "127.0.2.25",
        "<21>1 2026-11-23T04:45:00Z hq-mail smtpd 4022 NOTE - call the bosun of mv-tern on +1 202 555 0142",
        NULL};
    ind_demo_heading(
        "5. What was sent, and what is kept of it; explain tells what is read, and why it goes where it "
        "goes");
    return ind_demo_show(demo, call, 3) == IND_EXIT_DONE;
}

static bool rotate(const struct ind_demo *demo)
{
    static const char *const call[] = {"indagator", "rotate", NULL};
    ind_demo_heading("6. The files become archives");
    if (ind_demo_show(demo, call, 0) != IND_EXIT_DONE)
        return false;
    wait_until_compressed(demo);
    show_files(demo);
    return true;
}

static bool account(struct ind_demo *demo)
{
    static const char *const status[] = {"indagator", "status", NULL};
    static const char *const list[] = {"indagator", "alerts", "list", NULL};
    static const char *const ack[] = {"indagator", "alerts", "ack", "guessing", "--note", "blocked", NULL};
    ind_demo_heading("7. Whether all is well, what became of every message, and what has to be looked at");
    if (ind_demo_show(demo, status, 12) != IND_EXIT_DONE || ind_demo_show(demo, list, 0) != IND_EXIT_DONE ||
        ind_demo_show(demo, ack, 0) != IND_EXIT_DONE)
        return false;
    ind_demo_heading("8. Told to end, the collector files what it has");
    printf("\n$ kill -TERM %ld\n", (long)demo->collector);
    ind_demo_end(demo);
    ind_demo_show_lines(demo->summary, SUMMARY_LINES);
    demo->summary = -1;
    printf("Received is what was sent and what the collector itself reports: of what edits have dropped. "
           "There are\n"
           "more lines than messages stored, since two routes took some; a search counts each once, and says "
           "so.\n");
    return demo->collector == 0;
}

static bool prove(const struct ind_demo *demo)
{
    static const char *const list[] = {"indagator", "archives", "list", "guesses/", NULL};
    static const char *const verify[] = {"indagator", "archives", "verify", "guesses/", NULL};
    char store[8192], name[1200];
    ind_demo_heading("9. What is kept, and until when; and whether what may be evidence is what it was");
    if (ind_demo_show(demo, list, 8) != IND_EXIT_DONE || ind_demo_show(demo, verify, 0) != IND_EXIT_DONE)
        return false;
    snprintf(store, sizeof store, "%s/log", demo->folder);
    if (!ind_demo_tamper(store, "guesses/", name, sizeof name))
        return false;
    printf("\nSomebody unpacks log/%s, makes\none address another, and puts it back.\n", name);
    return ind_demo_show(demo, verify, 0) == IND_EXIT_NO;
}

static bool report(const struct ind_demo *demo)
{
    static const char *const page[] = {"indagator", "report",      "--for", "today",
                                       "--html",    "report.html", NULL};
    ind_demo_heading("13. What stands out in a day, with charts on a page that needs no network");
    if (ind_demo_show(demo, page, 0) != IND_EXIT_DONE)
        return false;
    printf("The page: %s/report.html\n", demo->folder);
    return true;
}

static bool play(struct ind_demo *demo)
{
    introduce(demo);
    ind_demo_heading("1. Which file takes what; the whole of it is in indagator.yaml");
    printf("\n");
    ind_demo_routes_print();
    if (!rehearse(demo))
        return false;
    ind_demo_heading("3. A collector on loopback, and ten seconds of a day at Skerry Line");
    if (!ind_demo_collect(demo, NULL) || !play_fleet(demo) || !search(demo) || !explain(demo) ||
        !rotate(demo) || !account(demo) || !prove(demo))
        return false;
    if (!ind_demo_play_ship(demo) || !report(demo))
        return false;
    printf("\nTo go on:\n"
           "  cd %s\n"
           "  %s check --order                       # the rules, in the order in which they act\n"
           "  %s rehearse --against before.yaml messages.log\n"
           "  %s search --since 1h pier3             # a word, anywhere\n"
           "  %s collect &                           # then status, and follow --when 'severity at least "
           "warning'\n",
           demo->folder, demo->program, demo->program, demo->program, demo->program);
    return true;
}

static int run(struct ind_call *call)
{
    struct ind_demo demo = {.reports = -1, .summary = -1};
    if (*call->rest) {
        ind_complain("demo takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!find_program(&demo, call->program) || !find_data(&demo))
        return IND_EXIT_FAILED;
    if (!make_folder(&demo))
        return given_folder ? IND_EXIT_CALL : IND_EXIT_FAILED;
    bool good = fill_folder(&demo) && play(&demo);
    ind_demo_end(&demo);
    if (demo.reports >= 0)
        close(demo.reports);
    if (demo.summary >= 0)
        close(demo.summary);
    return good ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

const struct ind_command ind_command_demo = {
    .name = "demo",
    .summary = "shows the whole thing on made-up data",
    .arguments = "[--folder FOLDER]",
    .about =
        "Rehearses rules on a day's messages, starts a collector on loopback, lets the devices of a made-up\n"
        "ferry operator send to it for ten seconds, and shows searches, what is kept of a message, a "
        "rotation,\n"
        "the ledger, an archive that somebody has changed, and a ship that loses its link. Leaves its "
        "folder, says what is in it, and "
        "how to go on.\n\n"
        "Example:\n"
        "  indagator demo\n",
    .options = options,
    .run = run,
};
