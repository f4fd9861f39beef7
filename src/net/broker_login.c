#include "net/broker_login.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>
#include <unistd.h>

enum { LOGIN_BYTES = 8192 };

static bool keep(struct ind_slice value, char *to, size_t room)
{
    if (value.length == 0 || value.length >= room || to[0] || memchr(value.at, '\0', value.length))
        return false;
    memcpy(to, value.at, value.length);
    to[value.length] = '\0';
    return true;
}

static struct ind_slice trimmed(struct ind_slice text)
{
    while (text.length && (text.at[0] == ' ' || text.at[0] == '\t'))
        text = ind_slice_from(text, 1);
    while (text.length && memchr(" \t\r", text.at[text.length - 1], 3))
        text.length--;
    return text;
}

static bool read_line(struct ind_slice line, struct ind_broker_login *login)
{
    const struct {
        const char *name;
        char *to;
        size_t room;
    } keys[] = {{"user:", login->user, sizeof login->user},
                {"password:", login->password, sizeof login->password},
                {"token:", login->token, sizeof login->token},
                {"nkey:", login->nkey, sizeof login->nkey},
                {"seed:", login->seed, sizeof login->seed}};
    if (line.length == 0 || line.at[0] == '#')
        return true;
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++)
        if (ind_slice_starts(line, ind_slice_of(keys[i].name)))
            return keep(trimmed(ind_slice_from(line, strlen(keys[i].name))), keys[i].to, keys[i].room);
    return false;
}

bool ind_broker_login_parse(struct ind_slice text, struct ind_broker_login *login, unsigned *line)
{
    struct ind_slice one;
    *login = (struct ind_broker_login){.user = ""};
    *line = 0;
    while (text.length) {
        const char *end = memchr(text.at, '\n', text.length);
        one = (struct ind_slice){text.at, end ? (size_t)(end - text.at) : text.length};
        text = ind_slice_from(text, one.length + (end != NULL));
        ++*line;
        if (!read_line(trimmed(one), login))
            return false;
    }
    *line = 0;
    const int ways = (login->user[0] != '\0') + (login->token[0] != '\0') + (login->nkey[0] != '\0');
    return ways == 1 && !login->user[0] == !login->password[0] && !login->nkey[0] == !login->seed[0];
}

static bool resolve_seed(const char *path, struct ind_broker_login *login)
{
    char whole[sizeof login->seed];
    const char *slash = strrchr(path, '/');
    if (!login->seed[0] || login->seed[0] == '/' || !slash)
        return true;
    const int length = snprintf(whole, sizeof whole, "%.*s/%s", (int)(slash - path), path, login->seed);
    if (length < 0 || (size_t)length >= sizeof whole)
        return false;
    memcpy(login->seed, whole, (size_t)length + 1);
    return true;
}

bool ind_broker_login_read(const char *path, struct ind_broker_login *login, char *reason, size_t room)
{
    char bytes[LOGIN_BYTES];
    struct stat facts;
    unsigned line = 0;
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    const bool known = file >= 0 && fstat(file, &facts) == 0;
    const bool alone = known && S_ISREG(facts.st_mode) && (facts.st_mode & 077) == 0;
    const ssize_t got = alone ? read(file, bytes, sizeof bytes) : -1;
    const int error = errno;
    if (file >= 0)
        close(file);
    if (known && !alone)
        snprintf(reason, room, "%s: others may read it: take that right away with \"chmod go= %s\"", path,
                 path);
    else if (got < 0)
        snprintf(reason, room, "%s: %s", path, strerror(error));
    else if (ind_broker_login_parse((struct ind_slice){bytes, (size_t)got}, login, &line) &&
             resolve_seed(path, login))
        return true;
    else if (line)
        snprintf(
            reason, room,
            "%s:%u: expected user: NAME and password: WORD, or token: WORD, or nkey: PUBLIC and seed: FILE",
            path, line);
    else
        snprintf(reason, room,
                 "%s: expected user: and password:, or token:, or nkey: and seed:, each once, and no other",
                 path);
    return false;
}
