#include "collect/intake/trap_rules.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { MOST_PASSWORD = 1024 };

/* The first line of the file. False with `why` filled in. */
static bool read_password(const char *path, char password[MOST_PASSWORD], struct ind_slice *text, char *why,
                          size_t room)
{
    struct stat facts;
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    const bool known = file >= 0 && fstat(file, &facts) == 0;
    const bool alone = known && S_ISREG(facts.st_mode) && (facts.st_mode & 077) == 0;
    const ssize_t got = alone ? read(file, password, MOST_PASSWORD) : -1;
    const int error = errno;
    if (file >= 0)
        close(file);
    if (known && !alone) {
        snprintf(why, room, "can be read by others: take that right away with \"chmod go= %s\"", path);
        return false;
    }
    if (got < 0) {
        snprintf(why, room, "cannot be read: %s", strerror(error));
        return false;
    }
    struct ind_slice rest = {password, (size_t)got};
    (void)ind_slice_line(&rest, text);
    while (text->length && (text->at[text->length - 1] == '\r' || text->at[text->length - 1] == ' '))
        text->length--;
    if (text->length >= IND_USM_PASSWORD_LEAST)
        return true;
    snprintf(why, room, "begins with a line of %zu bytes; a password has %d at least (RFC 3414 section 11.2)",
             text->length, IND_USM_PASSWORD_LEAST);
    return false;
}

static bool read_key(const struct ind_trap_user *user, const struct ind_key_file *file,
                     unsigned char key[IND_USM_KEY], char *why, size_t room)
{
    char password[MOST_PASSWORD];
    struct ind_slice text;
    if (!file->path)
        return true;
    bool good = read_password(file->path, password, &text, why, room);
    if (good && !(good = ind_usm_key_of(user->authentication, text, key)))
        snprintf(why, room, "cannot be made a key: the TLS library refuses to");
    ind_usm_forget(password, sizeof password);
    return good;
}

/* *fault is the file with which something is wrong: `why`. */
static bool read_user(const struct ind_trap_user *rule, struct ind_usm_user *user,
                      const struct ind_key_file **fault, char *why, size_t room)
{
    snprintf(user->name, sizeof user->name, "%s", rule->name);
    user->authentication = rule->authentication;
    user->privacy = rule->privacy;
    *fault = &rule->key;
    if (!read_key(rule, &rule->key, user->key, why, room))
        return false;
    *fault = &rule->privacy_key;
    return read_key(rule, &rule->privacy_key, user->privacy_key, why, room);
}

static void write_reason(const struct ind_key_file *file, const char *why, char *reason, size_t room)
{
    struct ind_place place = {0};
    ind_place_find(&place, file->source, file->offset);
    snprintf(reason, room, "%s:%zu:%zu: %s %s", place.source->path, place.line, place.column, file->path,
             why);
}

struct ind_trap_rules *ind_trap_rules_new(const struct ind_listen_item *item, char *reason, size_t room)
{
    char why[600];
    const struct ind_key_file *fault;
    struct ind_trap_rules *rules = calloc(1, sizeof *rules);
    if (rules)
        rules->users = calloc(item->traps->user_count + 1, sizeof *rules->users);
    if (!rules || !rules->users) {
        snprintf(reason, room, "out of memory");
        ind_trap_rules_free(rules);
        return NULL;
    }
    rules->traps = item->traps;
    for (size_t i = 0; i < item->traps->user_count; i++) {
        if (!read_user(&item->traps->users[i], &rules->users[i], &fault, why, sizeof why)) {
            write_reason(fault, why, reason, room);
            ind_trap_rules_free(rules);
            return NULL;
        }
        rules->user_count++;
    }
    return rules;
}

void ind_trap_rules_free(struct ind_trap_rules *rules)
{
    if (!rules)
        return;
    if (rules->users)
        ind_usm_forget(rules->users, rules->user_count * sizeof *rules->users);
    free(rules->users);
    free(rules);
}

bool ind_trap_rules_readable(const struct ind_config *config, char *reason, size_t room)
{
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_traps *traps = config->listeners[i].traps;
        for (size_t j = 0; traps && j < traps->user_count; j++) {
            const struct ind_key_file *files[] = {&traps->users[j].key, &traps->users[j].privacy_key};
            for (int k = 0; k < 2; k++)
                if (files[k]->path && access(files[k]->path, R_OK) != 0) {
                    write_reason(files[k],
                                 "can be read by root, but not by the user that is taken on; a reload could "
                                 "not read it again: give that user the right to read it",
                                 reason, room);
                    return false;
                }
        }
    }
    return true;
}

void ind_trap_rules_check(const struct ind_config *config, struct ind_diagnostics *diagnostics)
{
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_traps *traps = config->listeners[i].traps;
        for (size_t j = 0; traps && j < traps->user_count; j++) {
            struct ind_usm_user user;
            char why[600];
            const struct ind_key_file *fault;
            if (!read_user(&traps->users[j], &user, &fault, why, sizeof why))
                ind_diagnostic_add(diagnostics, false, fault->source, fault->offset, fault->length, "%s %s",
                                   fault->path, why);
            ind_usm_forget(&user, sizeof user);
        }
    }
}
