#include "collect/taking/seen.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

/* KEPT: of the last ids, after the file was written anew; it is as soon as MOST are in it. */
enum { SLOTS = 1 << 18, MOST = 100000, KEPT = 50000, LONGEST = 200 };

struct ind_seen {
    char *path;
    FILE *file;
    uint64_t slots[SLOTS]; /* hashes; 0: free */
    char **ids;            /* in their order */
    size_t count;
};

uint64_t ind_seen_hash(const char *id)
{
    const uint64_t hash = XXH3_64bits(id, strlen(id));
    return hash ? hash : 1;
}

static void put(struct ind_seen *seen, const char *id)
{
    const uint64_t hash = ind_seen_hash(id);
    size_t at = hash % SLOTS;
    while (seen->slots[at] && seen->slots[at] != hash)
        at = (at + 1) % SLOTS;
    seen->slots[at] = hash;
}

bool ind_seen_has(const struct ind_seen *seen, const char *id)
{
    const uint64_t hash = ind_seen_hash(id);
    size_t at = hash % SLOTS;
    while (seen->slots[at] && seen->slots[at] != hash)
        at = (at + 1) % SLOTS;
    return seen->slots[at] == hash;
}

static bool keep(struct ind_seen *seen, const char *id)
{
    char *copy = strdup(id);
    if (!copy)
        return false;
    seen->ids[seen->count++] = copy;
    put(seen, id);
    return true;
}

static void forget_first(struct ind_seen *seen, size_t count)
{
    for (size_t i = 0; i < count; i++)
        free(seen->ids[i]);
    seen->count -= count;
    memmove(seen->ids, seen->ids + count, seen->count * sizeof *seen->ids);
    memset(seen->slots, 0, sizeof seen->slots);
    for (size_t i = 0; i < seen->count; i++)
        put(seen, seen->ids[i]);
}

static bool is_flushed(FILE *file)
{
    return fflush(file) == 0 && fdatasync(fileno(file)) == 0;
}

/* A name that is not on disk is the old file after a power failure, without the ids that came since. */
static bool is_name_flushed(const char *path)
{
    char folder[4200];
    snprintf(folder, sizeof folder, "%s", path);
    char *slash = strrchr(folder, '/');
    if (slash)
        *slash = '\0';
    const int opened = open(!slash ? "." : folder[0] ? folder : "/", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    const bool flushed = opened >= 0 && fsync(opened) == 0;
    if (opened >= 0)
        close(opened);
    return flushed;
}

/* Whole or not at all: beside it first. */
static bool write_anew(struct ind_seen *seen)
{
    char beside[4200];
    snprintf(beside, sizeof beside, "%s.part", seen->path);
    const int made = open(beside, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600);
    FILE *file = made >= 0 ? fdopen(made, "w") : NULL;
    if (!file) {
        if (made >= 0)
            close(made);
        return false;
    }
    for (size_t i = 0; i < seen->count; i++)
        fprintf(file, "%s\n", seen->ids[i]);
    if (!is_flushed(file) || rename(beside, seen->path) != 0 || !is_name_flushed(seen->path)) {
        const int error = errno;
        (void)fclose(file);
        errno = error;
        return false;
    }
    if (seen->file)
        (void)fclose(seen->file);
    seen->file = file;
    return true;
}

/* A line that a crash has cut short is none. */
static void read_file(struct ind_seen *seen)
{
    char line[LONGEST];
    FILE *file = fopen(seen->path, "re");
    while (file && fgets(line, sizeof line, file)) {
        char *end = strchr(line, '\n');
        if (!end || end == line)
            continue;
        *end = '\0';
        if (seen->count == MOST)
            forget_first(seen, MOST - KEPT);
        if (!keep(seen, line))
            break;
    }
    if (file)
        (void)fclose(file);
}

struct ind_seen *ind_seen_open(const char *path)
{
    struct ind_seen *seen = calloc(1, sizeof *seen);
    if (!seen)
        return NULL;
    seen->path = strdup(path);
    seen->ids = malloc(MOST * sizeof *seen->ids);
    if (seen->path && seen->ids) {
        read_file(seen);
        if (seen->count > KEPT)
            forget_first(seen, seen->count - KEPT);
        if (write_anew(seen))
            return seen;
    }
    const int error = errno;
    ind_seen_close(seen);
    errno = error;
    return NULL;
}

void ind_seen_close(struct ind_seen *seen)
{
    if (!seen)
        return;
    if (seen->file)
        (void)fclose(seen->file);
    for (size_t i = 0; i < seen->count; i++)
        free(seen->ids[i]);
    free(seen->ids);
    free(seen->path);
    free(seen);
}

bool ind_seen_add(struct ind_seen *seen, const char *id)
{
    if (seen->count == MOST) {
        forget_first(seen, MOST - KEPT);
        (void)write_anew(seen); /* otherwise it grows on, and is written anew at the next start */
    }
    if (strlen(id) + 2 > LONGEST || strpbrk(id, "\n\r"))
        return true; /* none of ours: it is not remembered */
    if (!keep(seen, id))
        return false;
    fprintf(seen->file, "%s\n", id);
    return true;
}

bool ind_seen_flush(struct ind_seen *seen)
{
    return is_flushed(seen->file);
}
