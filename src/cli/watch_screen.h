/* cli/watch_screen.h: the terminal, by ncurses: frames are shown, keys read, and it is left as it was. */
#ifndef IND_CLI_WATCH_SCREEN_H
#define IND_CLI_WATCH_SCREEN_H

#include "cli/watch_frame.h"

enum ind_watch_screen_key {
    IND_KEY_NONE = 0, /* below 256: the character */
    IND_KEY_UP = 256,
    IND_KEY_DOWN,
    IND_KEY_PAGE_UP,
    IND_KEY_PAGE_DOWN,
    IND_KEY_BACK,
    IND_KEY_RESIZED,
    IND_KEY_OTHER
};

/* Takes the terminal of standard input and output. False where there is none, or TERM is not known: reported.
 */
bool ind_watch_screen_begin(void);
/* Leaves it as it was. */
void ind_watch_screen_end(void);

void ind_watch_screen_size(size_t *width, size_t *height);
void ind_watch_screen_show(const struct ind_frame *frame);
/* The next key, within so many milliseconds; IND_KEY_NONE: there was none. *gone: there is no terminal any
 * more. */
int ind_watch_screen_key(int milliseconds, bool *gone);

#endif
