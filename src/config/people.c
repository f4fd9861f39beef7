/* config/people.c: programs and users, as routes and alerts name them. */
#include "config/load.h"

#include <errno.h>
#include <pwd.h>
#include <stdlib.h>
#include <unistd.h>

enum { MOST_USERS = 32 };

/* A name without a slash is looked for where the system looks for programs; with one it is a path, relative
 * to the file that holds it. */
static char *program_path(struct ind_loader *loader, const struct ind_node *node)
{
    if (!memchr(node->text.at, '/', node->text.length))
        return ind_keep(loader, node->text);
    char *path = ind_resolve_path(loader, node);
    if (path && access(path, X_OK) != 0)
        ind_warn(loader, node, "\"%s\" cannot be run here: %s", path, strerror(errno));
    return path;
}

char **ind_read_program(struct ind_loader *loader, const struct ind_node *value)
{
    bool list = value->kind == IND_NODE_LIST;
    size_t bytes = 0;
    if (!list || value->part_count == 0) {
        ind_wrong(
            loader, value,
            "expected the program and its arguments as a list, such as [/usr/local/bin/page, --urgent]; "
            "no shell reads it");
        return NULL;
    }
    char **program = ind_keep_room(loader, (value->part_count + 1) * sizeof *program);
    for (size_t i = 0; program && i < value->part_count; i++) {
        const struct ind_node *part = value->parts[i];
        if (!ind_expect_text(loader, part, "an argument"))
            return NULL;
        if ((i == 0 && part->text.length == 0) || memchr(part->text.at, '\0', part->text.length)) {
            ind_wrong(loader, part, "no program has such a name");
            return NULL;
        }
        program[i] = i ? ind_keep(loader, part->text) : program_path(loader, part);
        bytes += program[i] ? strlen(program[i]) + 1 : 0;
    }
    if (bytes > IND_PROGRAM_BYTES)
        ind_wrong(loader, value, "a program and its arguments have %d bytes at most; give it a file to read",
                  IND_PROGRAM_BYTES);
    return program;
}

const char *ind_read_users(struct ind_loader *loader, const struct ind_node *value)
{
    char text[MOST_USERS * 33];
    struct ind_buffer users = ind_buffer_on(text, sizeof text);
    const bool list = value->kind == IND_NODE_LIST;
    const size_t count = list ? value->part_count : 1;
    if (count == 0 || count > MOST_USERS) {
        ind_wrong(loader, value, "expected 1 to %d users, such as [oncall, noc]", MOST_USERS);
        return NULL;
    }
    for (size_t i = 0; i < count; i++) {
        const struct ind_node *user = list ? value->parts[i] : value;
        if (!ind_expect_text(loader, user, "the name of a user"))
            return NULL;
        if (user->text.length > 32 || memchr(user->text.at, ',', user->text.length)) {
            ind_wrong(loader, user, "no user has such a name");
            return NULL;
        }
        if (!getpwnam(user->text.at))
            ind_warn(loader, user, "this machine has no user \"%.*s\"", IND_ARG(user->text));
        ind_buffer_text(&users, i ? "," : "");
        ind_buffer_slice(&users, user->text);
    }
    return ind_keep(loader, ind_buffer_view(&users));
}

char **ind_program_copy(char *const *program)
{
    size_t count = 0;
    while (program[count])
        count++;
    char **copy = calloc(count + 1, sizeof *copy);
    for (size_t i = 0; copy && i < count; i++)
        if (!(copy[i] = strdup(program[i]))) {
            ind_program_free(copy);
            return NULL;
        }
    return copy;
}

void ind_program_free(char **program)
{
    for (size_t i = 0; program && program[i]; i++)
        free(program[i]);
    free(program);
}
