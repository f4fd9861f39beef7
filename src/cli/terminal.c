#define _GNU_SOURCE /* fopencookie */
#include "cli/terminal.h"

#include "cli/cli.h"
#include "core/base/escape.h"
#include "store/disk/fs.h"
#include <errno.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <unistd.h>

/* One of the two, with what may be the beginning of a character or of a sequence of ours. */
struct screen {
    int file;
    char held[8];
    size_t held_length;
};

static const char *const ours[] = {IND_BOLD, IND_RED,     IND_GREEN, IND_YELLOW,       IND_CYAN,
                                   IND_DIM,  IND_REVERSE, IND_PLAIN, IND_CLEAR_SCREEN, IND_CLEAR_LINE};

/* The length of a sequence of ours at `at`; 0: none; *part: it may become one with what follows. */
static size_t own_sequence(const char *at, size_t length, bool *part)
{
    *part = false;
    for (size_t i = 0; i < sizeof ours / sizeof *ours; i++) {
        size_t whole = strlen(ours[i]), common = whole < length ? whole : length;
        if (memcmp(at, ours[i], common) != 0)
            continue;
        if (common == whole)
            return whole;
        *part = true;
    }
    return 0;
}

/* A UTF-8 character whose end has not come yet. */
static bool is_part_of_character(const char *at, size_t length)
{
    unsigned char lead = (unsigned char)*at;
    size_t need = lead >= 0xF0 && lead <= 0xF4 ? 4 : lead >= 0xE0 ? 3 : lead >= 0xC2 ? 2 : 0;
    if (lead < 0xC2 || lead > 0xF4 || length >= need)
        return false;
    for (size_t i = 1; i < length; i++)
        if (((unsigned char)at[i] & 0xC0) != 0x80)
            return false;
    return true;
}

/* Adds what may be shown of `text`; what may go on later stays in `held`. */
static void filter(struct screen *screen, struct ind_slice text, struct ind_buffer *out)
{
    for (size_t at = 0; at < text.length;) {
        const char *here = text.at + at;
        size_t left = text.length - at, run = ind_printable_run(here, left), taken = run;
        bool part, control;
        if (run > 0) {
            ind_buffer_add(out, here, run);
        } else if (*here == '\n' || *here == '\t') {
            ind_buffer_byte(out, *here);
            taken = 1;
        } else if ((taken = own_sequence(here, left, &part)) > 0) {
            ind_buffer_add(out, here, taken);
        } else if (left < sizeof screen->held && (part || is_part_of_character(here, left))) {
            memcpy(screen->held, here, left);
            screen->held_length = left;
            return;
        } else {
            taken = ind_utf8_character(here, left, &control);
            taken = taken ? taken : 1;
            ind_escape_shown(out, (struct ind_slice){here, taken});
        }
        at += taken;
    }
}

static bool show(struct screen *screen, const char *bytes, size_t length)
{
    const size_t room = length + screen->held_length;
    char *text = malloc(room), *shown = malloc(4 * room);
    bool good = text && shown;
    if (good) {
        struct ind_buffer out = ind_buffer_on(shown, 4 * room);
        memcpy(text, screen->held, screen->held_length);
        memcpy(text + screen->held_length, bytes, length);
        screen->held_length = 0;
        filter(screen, (struct ind_slice){text, room}, &out);
        good = ind_fs_write_all(&ind_fs_posix, screen->file, shown, out.length);
    }
    free(text);
    free(shown);
    return good;
}

#ifdef IND_HAS_FOPENCOOKIE
static ssize_t write_screen(void *cookie, const char *bytes, size_t length)
{
    return length == 0 || show(cookie, bytes, length) ? (ssize_t)length : 0;
}

static FILE *open_screen(struct screen *screen)
{
    return fopencookie(screen, "w", (cookie_io_functions_t){.write = write_screen});
}
#elif defined(IND_HAS_FUNOPEN)
static int write_screen(void *cookie, const char *bytes, int length)
{
    return show(cookie, bytes, (size_t)length) ? length : -1;
}

static FILE *open_screen(struct screen *screen)
{
    return funopen(screen, NULL, write_screen, NULL, NULL);
}
#else
/* What strangers send is escaped where it is printed; here is no second look at it. */
static FILE *open_screen(struct screen *screen)
{
    (void)screen;
    (void)show;
    return NULL;
}
#endif

/* The two live as long as the process. */
void ind_terminal_begin(void)
{
    static struct screen screens[2] = {{.file = STDOUT_FILENO}, {.file = STDERR_FILENO}};
    FILE **streams[] = {&stdout, &stderr};
    for (int i = 0; i < 2; i++) {
        FILE *stream = isatty(screens[i].file) == 1 ? open_screen(&screens[i]) : NULL;
        if (!stream)
            continue;
        (void)setvbuf(stream, NULL, _IOLBF, BUFSIZ);
        *streams[i] = stream;
    }
}

/* ---- Pages ---- */

static struct {
    pid_t process;
    int terminal; /* what standard output was */
} pager = {-1, -1};

bool ind_pages(void)
{
    return pager.process > 0;
}

bool ind_goes_to_terminal(const FILE *out)
{
    return out == stdout && (ind_pages() || isatty(STDOUT_FILENO) == 1);
}

/* In the child: what it is given on standard input, on the terminal. */
static void become_pager(const char *program, const int ends[2])
{
    (void)dup2(ends[0], STDIN_FILENO);
    close(ends[0]);
    close(ends[1]);
    (void)setenv("LESS", "-R", 0); /* colours are ours, and all else is harmless by then */
    (void)signal(SIGPIPE, SIG_DFL);
    (void)execl("/bin/sh", "sh", "-c", program, (char *)NULL);
    _exit(127);
}

void ind_page_begin(void)
{
    const char *program = getenv("PAGER");
    int ends[2];
    if (ind_pages() || !program || !*program || isatty(STDOUT_FILENO) != 1 || fflush(stdout) != 0 ||
        pipe(ends) != 0)
        return;
    pager.process = fork();
    if (pager.process == 0)
        become_pager(program, ends);
    if (pager.process > 0) {
        pager.terminal = dup(STDOUT_FILENO);
        (void)dup2(ends[1], STDOUT_FILENO);
        (void)signal(SIGINT, SIG_IGN); /* it is the pager's now */
    }
    close(ends[0]);
    close(ends[1]);
}

void ind_page_end(void)
{
    int status;
    if (!ind_pages())
        return;
    (void)fflush(stdout);
    (void)dup2(pager.terminal, STDOUT_FILENO);
    close(pager.terminal);
    while (waitpid(pager.process, &status, 0) < 0 && errno == EINTR)
        continue;
    pager.process = -1;
    (void)signal(SIGINT, SIG_DFL);
}

/* USUAL: of a terminal that does not say, and for what goes elsewhere; LEAST: where less is told, it is not
 * believed. */
enum { USUAL_ROWS = 24, USUAL_WIDTH = 100, LEAST_WIDTH = 40 };

/* Both 0 where standard output is no terminal. */
static void find_size(size_t *rows, size_t *columns)
{
    const int terminal = ind_pages() ? pager.terminal : STDOUT_FILENO;
    *rows = *columns = 0;
#ifdef TIOCGWINSZ
    struct winsize size;
    if (isatty(terminal) == 1 && ioctl(terminal, TIOCGWINSZ, &size) == 0) {
        *rows = size.ws_row ? size.ws_row : USUAL_ROWS;
        *columns = size.ws_col;
    }
#else
    (void)terminal;
#endif
}

size_t ind_terminal_rows(void)
{
    size_t rows, columns;
    find_size(&rows, &columns);
    return rows;
}

size_t ind_terminal_width(void)
{
    size_t rows, columns;
    find_size(&rows, &columns);
    return columns >= LEAST_WIDTH ? columns : USUAL_WIDTH;
}

void ind_print_json(const json_t *object, FILE *out)
{
    json_dumpf(object, out,
               JSON_COMPACT | JSON_PRESERVE_ORDER | JSON_REAL_PRECISION(15) |
                   (ind_goes_to_terminal(out) ? JSON_ENSURE_ASCII : 0));
}
