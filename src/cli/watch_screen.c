#include "cli/watch_screen.h"

#include "cli/cli.h"

#include <fcntl.h>
#include <locale.h>
#include <poll.h>
#include <stdlib.h>
#include <unistd.h>

/* Its wide characters are X/Open's. */
#define NCURSES_WIDECHAR 1
#include <curses.h>

static struct {
    SCREEN *screen;
    FILE *out, *in;
    int errors; /* standard error as it was: nothing is written between frames */
} kept;

static void begin_colours(void)
{
    static const short colours[] = {
        [IND_LOOK_GOOD] = COLOR_GREEN, [IND_LOOK_BAD] = COLOR_RED, [IND_LOOK_CARE] = COLOR_YELLOW};
    if (!ind_colour() || !has_colors() || start_color() != OK || use_default_colors() != OK)
        return;
    for (short i = 0; i < (short)(sizeof colours / sizeof *colours); i++)
        if (colours[i])
            init_pair(i, colours[i], -1);
}

static void close_streams(void)
{
    if (kept.out)
        fclose(kept.out);
    if (kept.in)
        fclose(kept.in);
    kept.out = kept.in = NULL;
}

bool ind_watch_screen_begin(void)
{
    if (!isatty(STDIN_FILENO) || !isatty(STDOUT_FILENO)) {
        ind_complain("watch needs a terminal; --once prints what it would show");
        return false;
    }
    setlocale(LC_CTYPE, "");
    kept.out = fdopen(dup(STDOUT_FILENO), "w");
    kept.in = fdopen(dup(STDIN_FILENO), "r");
    const char *name = getenv("TERM");
    kept.screen = kept.out && kept.in && name && *name ? newterm(name, kept.out, kept.in) : NULL;
    if (!kept.screen) {
        close_streams();
        ind_complain("the terminal \"%s\" is not known here; --once prints what watch would show",
                     name ? name : "");
        return false;
    }
    kept.errors = dup(STDERR_FILENO);
    const int nowhere = open("/dev/null", O_WRONLY | O_CLOEXEC);
    if (nowhere >= 0) {
        (void)dup2(nowhere, STDERR_FILENO);
        close(nowhere);
    }
    cbreak();
    noecho();
    nonl();
    keypad(stdscr, TRUE);
    (void)typeahead(-1); /* a frame is drawn whole, also where keys wait */
    set_escdelay(50);
    curs_set(0);
    begin_colours();
    return true;
}

void ind_watch_screen_end(void)
{
    if (!kept.screen)
        return;
    endwin();
    delscreen(kept.screen);
    kept.screen = NULL;
    close_streams();
    if (kept.errors >= 0) {
        (void)dup2(kept.errors, STDERR_FILENO);
        close(kept.errors);
    }
}

void ind_watch_screen_size(size_t *width, size_t *height)
{
    *width = (size_t)COLS;
    *height = (size_t)LINES;
}

static attr_t attribute_of(uint8_t look)
{
    const bool coloured = ind_colour() && has_colors();
    switch (look) {
    case IND_LOOK_HEAD:
        return A_REVERSE;
    case IND_LOOK_BAD:
        return A_BOLD | (coloured ? (attr_t)COLOR_PAIR(IND_LOOK_BAD) : 0);
    case IND_LOOK_GOOD:
    case IND_LOOK_CARE:
        return coloured ? (attr_t)COLOR_PAIR(look) : A_NORMAL;
    case IND_LOOK_DIM:
        return A_DIM;
    default:
        return A_NORMAL;
    }
}

void ind_watch_screen_show(const struct ind_frame *frame)
{
    for (size_t row = 0; row < frame->height; row++)
        for (size_t column = 0; column < frame->width; column++) {
            const struct ind_frame_cell *cell = &frame->cells[row * frame->width + column];
            const wchar_t text[2] = {cell->character, 0};
            const attr_t attribute = attribute_of(cell->look);
            cchar_t shown;
            if (!cell->character)
                continue;
            if (setcchar(&shown, text, attribute, (short)PAIR_NUMBER(attribute), NULL) == OK)
                mvadd_wch((int)row, (int)column, &shown);
        }
    refresh();
}

int ind_watch_screen_key(int milliseconds, bool *gone)
{
    struct pollfd input = {.fd = STDIN_FILENO, .events = POLLIN};
    wint_t key;
    *gone = poll(&input, 1, 0) > 0 && (input.revents & (POLLHUP | POLLERR | POLLNVAL)) != 0;
    timeout(milliseconds);
    const int result = get_wch(&key);
    if (result == ERR)
        return IND_KEY_NONE;
    if (result != KEY_CODE_YES)
        return key == 127 || key == 8 ? IND_KEY_BACK : key < 256 ? (int)key : IND_KEY_OTHER;
    switch (key) {
    case KEY_UP:
        return IND_KEY_UP;
    case KEY_DOWN:
        return IND_KEY_DOWN;
    case KEY_PPAGE:
        return IND_KEY_PAGE_UP;
    case KEY_NPAGE:
        return IND_KEY_PAGE_DOWN;
    case KEY_BACKSPACE:
        return IND_KEY_BACK;
    case KEY_ENTER:
        return '\r';
    case KEY_RESIZE:
        (void)clearok(curscr, TRUE); /* what the terminal has made of the old one is not known */
        return IND_KEY_RESIZED;
    default:
        return IND_KEY_OTHER;
    }
}
