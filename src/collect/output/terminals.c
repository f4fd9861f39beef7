#include "collect/output/terminals.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utmpx.h>

#ifndef _PATH_UTMPX
#define _PATH_UTMPX "/var/run/utmp"
#endif

enum { MOST_TEXT = 8192, MOST_LOGINS = 256, LINE = sizeof((struct utmpx *)0)->ut_line };

static bool is_named(const char *users, const char *user)
{
    const size_t length = strlen(user);
    for (const char *at = users; at; at = strchr(at, ','), at = at ? at + 1 : NULL)
        if (strncmp(at, user, length) == 0 && (at[length] == ',' || at[length] == '\0'))
            return length > 0;
    return users == NULL;
}

/* LF as a terminal wants it; on a line of its own, whatever stands there. */
static size_t lay_out(struct ind_slice text, char *out)
{
    size_t length = 0;
    out[length++] = '\r';
    out[length++] = '\n';
    for (size_t i = 0; i < text.length && length + 4 < MOST_TEXT; i++) {
        if (text.at[i] == '\n')
            out[length++] = '\r';
        out[length++] = text.at[i];
    }
    out[length++] = '\r';
    out[length++] = '\n';
    return length;
}

/* What is no terminal is not written to, whatever the file says. */
static bool write_to(const char *line, const char *text, size_t length)
{
    char path[LINE + 8];
    struct stat facts;
    snprintf(path, sizeof path, "/dev/%.*s", LINE, line);
    if (strstr(path, ".."))
        return true;
    const int file = open(path, O_WRONLY | O_NOCTTY | O_NONBLOCK | O_CLOEXEC | O_NOFOLLOW);
    if (file < 0)
        return errno == ENOENT || errno == ENXIO || errno == EIO; /* it has just gone */
    if (fstat(file, &facts) == 0 && S_ISCHR(facts.st_mode) && isatty(file))
        (void)!write(file, text, length);
    close(file);
    return true;
}

bool ind_terminals_write(const char *logins, const char *users, struct ind_slice text, char *reason,
                         size_t room)
{
    char out[MOST_TEXT];
    const size_t length = lay_out(text, out);
    struct utmpx login;
    bool good = true;
    FILE *file = fopen(logins ? logins : _PATH_UTMPX, "re");
    if (!file) {
        if (errno == ENOENT) /* nobody is logged in here, ever */
            return true;
        snprintf(reason, room, "it cannot be seen who is logged in: %s", strerror(errno));
        return false;
    }
    for (int i = 0; i < MOST_LOGINS && fread(&login, sizeof login, 1, file) == 1; i++) {
        char user[sizeof login.ut_user + 1] = "";
        memcpy(user, login.ut_user, sizeof login.ut_user);
        if (login.ut_type != USER_PROCESS || !is_named(users, user) || write_to(login.ut_line, out, length))
            continue;
        snprintf(reason, room, "the terminal of %s cannot be written to: %s%s", user, strerror(errno),
                 errno == EACCES ? "; the user of the collector has to be in the group tty" : "");
        good = false;
    }
    (void)fclose(file);
    return good;
}
