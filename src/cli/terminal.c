#define _GNU_SOURCE /* fopencookie */
#include "cli/terminal.h"

#include "core/base/escape.h"
#include "store/disk/fs.h"
#include <stdlib.h>
#include <unistd.h>

/* One of the two, with what may be the beginning of a character or of a sequence of ours. */
struct screen {
    int file;
    char held[8];
    size_t held_length;
};

static const char *const ours[] = {IND_BOLD,  IND_RED,          IND_GREEN,     IND_YELLOW,
                                   IND_PLAIN, IND_CLEAR_SCREEN, IND_CLEAR_LINE};

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

bool ind_goes_to_terminal(const FILE *out)
{
    return out == stdout && isatty(STDOUT_FILENO) == 1;
}

void ind_print_json(const json_t *object, FILE *out)
{
    json_dumpf(object, out,
               JSON_COMPACT | JSON_PRESERVE_ORDER | JSON_REAL_PRECISION(15) |
                   (ind_goes_to_terminal(out) ? JSON_ENSURE_ASCII : 0));
}
