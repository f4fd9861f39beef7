/* tests/support/screen.h: what a terminal shows of the bytes that came to it: as much of ECMA-48 as programs
 * write that go by terminfo's xterm. What is not ASCII is shown as '~'; what is not known is kept in `odd`.
 */
#ifndef IND_TESTS_SCREEN_H
#define IND_TESTS_SCREEN_H

#include <ctype.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

enum { IND_SCREEN_WIDTH = 220, IND_SCREEN_HEIGHT = 80 };

struct ind_test_screen {
    int width, height, row, column;
    int top, bottom; /* the rows that scroll: from, and up to; bottom 0: all */
    char rows[IND_SCREEN_HEIGHT][IND_SCREEN_WIDTH + 1];
    char last;       /* the last character */
    bool other, odd; /* other: the alternate screen is shown */
    char sequence[64];
    size_t length; /* of a sequence that has begun; 0: none has */
};

static inline void ind_screen_clear(struct ind_test_screen *screen)
{
    for (int row = 0; row < IND_SCREEN_HEIGHT; row++) {
        memset(screen->rows[row], ' ', IND_SCREEN_WIDTH);
        screen->rows[row][IND_SCREEN_WIDTH] = '\0';
    }
}

static inline void ind_screen_put(struct ind_test_screen *screen, char c)
{
    if (screen->row < IND_SCREEN_HEIGHT && screen->column < IND_SCREEN_WIDTH)
        screen->rows[screen->row][screen->column] = c;
    screen->last = c;
    if (screen->column < screen->width - 1)
        screen->column++;
}

static inline void ind_screen_blank(struct ind_test_screen *screen, int row, int from, int to)
{
    for (int i = from; i < to && i < IND_SCREEN_WIDTH; i++)
        screen->rows[row][i] = ' ';
}

static inline void ind_screen_erase(struct ind_test_screen *screen, int how, bool all)
{
    const int width = IND_SCREEN_WIDTH;
    ind_screen_blank(screen, screen->row, how == 0 ? screen->column : 0,
                     how == 1 ? screen->column + 1 : width);
    for (int row = 0; all && row < IND_SCREEN_HEIGHT; row++)
        if ((how != 1 && row > screen->row) || (how != 0 && row < screen->row))
            ind_screen_blank(screen, row, 0, width);
}

static inline int ind_screen_bound(int number, int end)
{
    return number < 0 ? 0 : number >= end ? end - 1 : number;
}

/* Rows `from` up to the last that scrolls go up by `count`, or down where that is below 0. */
static inline void ind_screen_scroll(struct ind_test_screen *screen, int from, int count)
{
    const int height = screen->height < IND_SCREEN_HEIGHT ? screen->height : IND_SCREEN_HEIGHT;
    const int end = screen->bottom > 0 && screen->bottom < height ? screen->bottom : height;
    for (int i = 0; i < end - from; i++) {
        const int to = count > 0 ? from + i : end - 1 - i, row = to + count;
        if (row >= from && row < end)
            memcpy(screen->rows[to], screen->rows[row], IND_SCREEN_WIDTH);
        else
            ind_screen_blank(screen, to, 0, IND_SCREEN_WIDTH);
    }
}

/* Down a row, and back up one: what is at the edge of the rows that scroll moves them. */
static inline void ind_screen_feed(struct ind_test_screen *screen)
{
    if (screen->row + 1 == (screen->bottom > 0 ? screen->bottom : screen->height))
        ind_screen_scroll(screen, screen->top, 1);
    else
        screen->row = ind_screen_bound(screen->row + 1, screen->height);
}

static inline void ind_screen_reverse(struct ind_test_screen *screen)
{
    if (screen->row == screen->top)
        ind_screen_scroll(screen, screen->top, -1);
    else
        screen->row = ind_screen_bound(screen->row - 1, screen->height);
}

/* ESC [ parameters FINAL. */
static inline void ind_screen_obey(struct ind_test_screen *screen)
{
    const char *text = screen->sequence + 2;
    const char final = screen->sequence[screen->length - 1];
    char *end;
    const bool private = *text == '?';
    const int first = (int)strtol(text + private, &end, 10);
    const int second = *end == ';' ? (int)strtol(end + 1, NULL, 10) : 0;
    const int count = first > 0 ? first : 1;
    switch (final) {
    case 'H':
    case 'f':
        screen->row = first - (first > 0);
        screen->column = second - (second > 0);
        break;
    case 'A':
        screen->row -= count;
        break;
    case 'B':
        screen->row += count;
        break;
    case 'C':
        screen->column += count;
        break;
    case 'D':
        screen->column -= count;
        break;
    case 'G':
        screen->column = count - 1;
        break;
    case 'd':
        screen->row = count - 1;
        break;
    case 'I':
        screen->column = (screen->column / 8 + count) * 8;
        break;
    case 'Z':
        screen->column = ((screen->column + 7) / 8 - count) * 8;
        break;
    case 'J':
        ind_screen_erase(screen, first, true);
        break;
    case 'K':
        ind_screen_erase(screen, first, false);
        break;
    case 'X':
        ind_screen_blank(screen, screen->row, screen->column, screen->column + count);
        break;
    case 'P':
        memmove(&screen->rows[screen->row][screen->column],
                &screen->rows[screen->row][screen->column + count],
                (size_t)(IND_SCREEN_WIDTH - screen->column - count));
        break;
    case '@':
        memmove(&screen->rows[screen->row][screen->column + count],
                &screen->rows[screen->row][screen->column],
                (size_t)(IND_SCREEN_WIDTH - screen->column - count));
        ind_screen_blank(screen, screen->row, screen->column, screen->column + count);
        break;
    case 'b':
        for (int i = 0; i < count; i++)
            ind_screen_put(screen, screen->last);
        break;
    case 'h':
    case 'l':
        if (private && first == 1049) {
            screen->other = final == 'h';
            ind_screen_clear(screen);
        }
        break;
    case 'r':
        screen->top = count - 1;
        screen->bottom = second;
        screen->row = screen->column = 0;
        break;
    case 'S':
        ind_screen_scroll(screen, screen->top, count);
        break;
    case 'T':
        ind_screen_scroll(screen, screen->top, -count);
        break;
    case 'M':
        ind_screen_scroll(screen, screen->row, count);
        break;
    case 'L':
        ind_screen_scroll(screen, screen->row, -count);
        break;
    case 'm':
    case 't':
        break;
    default:
        screen->odd = true;
    }
    screen->row = ind_screen_bound(screen->row,
                                   screen->height < IND_SCREEN_HEIGHT ? screen->height : IND_SCREEN_HEIGHT);
    screen->column =
        ind_screen_bound(screen->column, screen->width < IND_SCREEN_WIDTH ? screen->width : IND_SCREEN_WIDTH);
}

static inline void ind_screen_sequence(struct ind_test_screen *screen, char c)
{
    if (screen->length + 1 < sizeof screen->sequence)
        screen->sequence[screen->length++] = c;
    screen->sequence[screen->length] = '\0';
    if (screen->length == 2 && c != '[') {
        /* ESC ( B, ESC ) 0: sets of characters; ESC =, ESC >: the keys beside. */
        if (!strchr("()", c)) {
            screen->odd |= !strchr("=>78M", c);
            screen->length = 0;
            if (c == 'M')
                ind_screen_reverse(screen);
        }
    } else if (screen->length == 3 && screen->sequence[1] != '[') {
        screen->length = 0;
    } else if (screen->length > 2 && (unsigned char)c >= 0x40) {
        ind_screen_obey(screen);
        screen->length = 0;
    }
}

static inline void ind_screen_take(struct ind_test_screen *screen, const char *bytes, size_t length)
{
    for (size_t i = 0; i < length; i++) {
        const unsigned char c = (unsigned char)bytes[i];
        if (screen->length > 0)
            ind_screen_sequence(screen, bytes[i]);
        else if (c == 033)
            ind_screen_sequence(screen, bytes[i]);
        else if (c == '\r')
            screen->column = 0;
        else if (c == '\t')
            screen->column = ind_screen_bound((screen->column / 8 + 1) * 8, screen->width);
        else if (c == '\n')
            ind_screen_feed(screen);
        else if (c == '\b')
            screen->column = ind_screen_bound(screen->column - 1, screen->width);
        else if (c >= 0xc0 || (c >= ' ' && c < 0x7f))
            ind_screen_put(screen, c < 0x80 ? bytes[i] : '~');
        else if (c < 0x80 && c != 016 && c != 017 && c != '\a')
            screen->odd = true;
    }
}

static inline bool ind_screen_shows(const struct ind_test_screen *screen, const char *text)
{
    for (int row = 0; row < screen->height && row < IND_SCREEN_HEIGHT; row++)
        if (strstr(screen->rows[row], text))
            return true;
    return false;
}

#endif
