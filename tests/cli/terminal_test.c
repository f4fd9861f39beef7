/* Every command on a terminal, with messages that would drive it: none does. */
#define _GNU_SOURCE
#include "support/live.h"

#include "core/base/escape.h"
#include <errno.h>
#include <fcntl.h>
#include <sys/wait.h>

/* Colours, titles, C1 controls, overrides of the order of what is shown, a beep, a backspace, a lone CR. */
#define HOSTILE                                                                                              \
    "red \033[31m title \033]0;x\007 c1 \xc2\x9b"                                                            \
    "2J \x9b turned \xe2\x80\xae abc \xe2\x81\xa6 back \b\b\r over \x7f \xff"

static const char messages[] =
    "<34>Nov 23 04:45:00 ho\033[31mst ap\033p[7]: " HOSTILE "\n"
    "<34>1 2026-11-23T04:45:00Z h\xc2\x9bx a\033 \033[2J \b [id@1 p=\"\033[1m\033[5m\"] " HOSTILE "\n"
    "<34>{\"key\033[31m\":\"value \xe2\x80\xae\"}\n"
    "<34>kernel: IN=\033[31m SRC=203.0.113.7\n";

/* What a terminal gets to see of a command line; to be freed. */
static char *on_terminal(const char *format, ...) __attribute__((format(printf, 1, 2)));
static char *on_terminal(const char *format, ...)
{
    char command[2000];
    va_list list;
    va_start(list, format);
    vsnprintf(command, sizeof command, format, list);
    va_end(list);
    int master = posix_openpt(O_RDWR | O_NOCTTY);
    assert_true(master >= 0 && grantpt(master) == 0 && unlockpt(master) == 0);
    char name[100];
    snprintf(name, sizeof name, "%s", ptsname(master));
    pid_t child = fork();
    assert_true(child >= 0);
    if (child == 0) {
        (void)setsid();
        int slave = open(name, O_RDWR);
        for (int i = 0; i < 3; i++)
            (void)dup2(slave, i);
        close(master);
        if (chdir(folder) == 0)
            execl("/bin/sh", "sh", "-c", command, (char *)NULL);
        _exit(127);
    }
    size_t length = 0, room = 1 << 16;
    char *text = malloc(room);
    ssize_t got;
    while ((got = read(master, text + length, room - length - 1)) > 0 || (got < 0 && errno == EINTR)) {
        length += got > 0 ? (size_t)got : 0;
        if (room - length < 4096)
            text = realloc(text, room *= 2);
        assert_non_null(text);
    }
    text[length] = '\0';
    close(master);
    int status;
    assert_int_equal(waitpid(child, &status, 0), child);
    return text;
}

static const char *const ours[] = {"\033[1m",    "\033[0m",    "\r\033[K", "\r\n",    "\033[1;31m",
                                   "\033[1;32m", "\033[1;33m", "\033[36m", "\033[2m", "\033[7m"};

/* The first byte that would drive it; NULL where there is none. */
static const char *drives(const char *text)
{
    for (size_t left = strlen(text); left > 0;) {
        bool control, own = false;
        size_t taken = ind_utf8_character(text, left, &control);
        for (size_t i = 0; i < sizeof ours / sizeof *ours && !own; i++)
            if (strncmp(text, ours[i], strlen(ours[i])) == 0) {
                taken = strlen(ours[i]);
                own = true;
            }
        if (!own && (taken == 0 || (control && *text != '\n' && *text != '\t')))
            return text;
        text += taken;
        left -= taken;
    }
    return NULL;
}

static void expect_harmless(const char *command, const char *holding)
{
    char *text = on_terminal("%s", command);
    const char *at = drives(text);
    if (at)
        print_error("%s: byte 0x%02x in: %.300s\n", command, (unsigned char)*at,
                    at > text + 40 ? at - 40 : text);
    assert_null(at);
    if (!strstr(text, holding))
        print_error("%s: %s\n", command, text);
    assert_non_null(strstr(text, holding));
    free(text);
}

#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\npatterns:\n  - {name: red, text: [{layout: \"red "                 \
    "{:remainder}\"}]}\n"                                                                                    \
    "edits:\n  - {name: seen, label: {l: \"{app}\"}}\nroutes:\n"

static void no_command_lets_a_message_drive_the_terminal(void **state)
{
    static const char *const layouts[] = {"plain", "json", "rfc5424", "raw", "'{app} {text}'"};
    char command[500];
    (void)state;
    ind_write_file(ind_path(folder, "in"), messages);
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   RULES "  - {name: a, file: a.log}\n  - {name: r, file: r.log, layout: raw}\n");
    ind_write_file(ind_path(folder, "out.yaml"), RULES "  - {name: a, to: output, layout: raw}\n");
    ind_write_file(ind_path(folder, "other.yaml"), RULES "  - {name: a, file: \"{severity}.log\"}\n");
    ind_write_file(
        ind_path(folder, "broken.yaml"),
        "store: log\nst\xe2\x80\xaeore: \"\033[31m\"\nroutes:\n  - {name: \"a\xc2\x9b\", file: \"b\"}\n");
    const char *const commands[] = {
        "collect -c out.yaml --from in",
        "collect --from in",
        "explain --from in",
        "explain --from in --json",
        "explain \"$(head -n 1 in)\"",
        "rehearse in",
        "rehearse in --json",
        "rehearse in --against other.yaml",
        "rehearse in --against other.yaml --json",
        "fit --pattern 'red {:word} title' \"$(head -n 1 in)\" 'red \033[31m title'",
        "fit --json --pattern 'red {:word} title' 'red \033[31m title \xc2\x9b'",
        "check -c broken.yaml",
        "search --by app,host,text",
        "search --by app,text --json",
        "search --fold",
        "search --when 'text contains \"title\"' in",
        "search --columns time,app,host,text",
        "search --columns app,text --json",
        "search --csv",
        "search --every hour --by app,text",
        "search --context 2 --when 'severity at least error'",
        "search --when 'text is \033[31m'",
        "search nowhere\033[31m",
        "emit --to udp:127.0.0.1:9 --facility '\033[31m' x",
        "\033[31m",
    };
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++) {
        snprintf(command, sizeof command, "%s %s", IND_PROGRAM, commands[i]);
        expect_harmless(command, "");
    }
    for (size_t i = 0; i < sizeof layouts / sizeof *layouts; i++) {
        snprintf(command, sizeof command, "%s search --layout %s; %s search --layout %s in", IND_PROGRAM,
                 layouts[i], IND_PROGRAM, layouts[i]);
        expect_harmless(command, "title");
    }
    /* Into a pipe bytes go as they are. */
    struct ind_ran ran = ind_shell(folder, "%s search --layout raw in | grep -c 'red .\\[31m'", IND_PROGRAM);
    assert_string_equal(ran.out, "2\n");
    ind_ran_free(&ran);
}

/* Whoever reads a file is a program, wherever the search is called from. */
static void numbers_have_commas_on_the_terminal_only(void **state)
{
    char lines[1200 * 48], *end = lines;
    (void)state;
    for (int i = 0; i < 1200; i++)
        end += snprintf(end, 48, "<34>Nov 23 04:45:00 pier1-rtr app: number %d\n", i);
    ind_write_file(ind_path(folder, "many"), lines);
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES "  - {name: a, file: a.log}\n");
    char *text = on_terminal("%s search --count many && %s search --by app many", IND_PROGRAM, IND_PROGRAM);
    assert_true(strstr(text, "1,200\r\n") && strstr(text, "1,200  app  "));
    free(text);
    free(on_terminal("%s search --count --to count many && %s search --by app --to table many", IND_PROGRAM,
                     IND_PROGRAM));
    assert_true(ind_file_holds(ind_path(folder, "count"), "1200\n"));
    assert_true(ind_file_holds(ind_path(folder, "table"), "1200  app\n"));
    assert_false(ind_file_holds(ind_path(folder, "table"), ","));
}

static void what_follows_a_running_collector_is_as_harmless(void **state)
{
    static const char *const layouts[] = {"plain", "json", "rfc5424", "raw", "'{app} {text}'"};
    char command[500];
    (void)state;
    begin(RULES "  - {name: a, file: a.log}\nlisten:\n  - udp: 127.0.0.1:0\n");
    ind_write_file(ind_path(folder, "in"), messages);
    for (size_t i = 0; i < sizeof layouts / sizeof *layouts; i++) {
        /* It is sent until it has been seen. */
        snprintf(command, sizeof command,
                 "(while [ ! -e done ]; do %s emit --to udp:127.0.0.1:%u --from in > sent; done) & "
                 "%s follow --count 12 --layout %s; touch done; wait; rm done",
                 IND_PROGRAM, running.port, IND_PROGRAM, layouts[i]);
        expect_harmless(command, "title");
    }
    snprintf(command, sizeof command, "%s status; %s status --json", IND_PROGRAM, IND_PROGRAM);
    expect_harmless(command, "received");
    end();
}

/* What the screen does not take goes through the pager; what it does, and what goes elsewhere, does not. */
static void a_pager_shows_what_does_not_fit(void **state)
{
    char lines[200 * 48], *end = lines;
    (void)state;
    for (int i = 0; i < 200; i++)
        end += snprintf(end, 48, "<34>Nov 23 04:45:00 pier1-rtr app: number %d\n", i);
    ind_write_file(ind_path(folder, "many"), lines);
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES "  - {name: a, file: a.log}\n");
    char *text = on_terminal("PAGER='sed s/number/paged/' %s search many", IND_PROGRAM);
    assert_true(strstr(text, "paged 0") && strstr(text, "paged 199") && !strstr(text, "number"));
    free(text);
    text = on_terminal("PAGER='sed s/number/paged/' %s search --by text many", IND_PROGRAM);
    assert_true(strstr(text, "paged 0") && strstr(text, "200 messages in 200 groups"));
    free(text);
    text = on_terminal("stty rows 50; PAGER='sed s/number/paged/' %s search --first 2 many; PAGER=false %s "
                       "search many | tail -n 1",
                       IND_PROGRAM, IND_PROGRAM);
    assert_true(strstr(text, "number 1") && strstr(text, "number 199") && !strstr(text, "paged"));
    free(text);
    text = on_terminal("PAGER='head -n 1' %s search many; echo ended $?", IND_PROGRAM);
    assert_non_null(strstr(text, "ended 0")); /* who has seen enough is no mistake */
    free(text);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define in_a_folder(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        in_a_folder(no_command_lets_a_message_drive_the_terminal),
        in_a_folder(numbers_have_commas_on_the_terminal_only),
        in_a_folder(a_pager_shows_what_does_not_fit),
        in_a_folder(what_follows_a_running_collector_is_as_harmless),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
