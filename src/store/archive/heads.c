/* What concerns whole chains: how far they go, and what the clock did. */
#include "store/archive/keeper_private.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* ---- How far they go ---- */

static void add_head(void *context, const char *series, uint64_t number, const unsigned char hash[IND_HASH])
{
    char text[IND_HASH_TEXT + 1];
    ind_hash_write(hash, text);
    fprintf(context, "%llu %s %s\n", (unsigned long long)number, text, series);
}

/* New; NULL where memory is out. */
static char *heads_text(struct ind_keeper *keeper, size_t *length)
{
    char *text = NULL;
    FILE *stream = open_memstream(&text, length);
    if (!stream)
        return NULL;
    ind_chain_heads(keeper->disk, add_head, stream);
    const bool failed = ferror(stream) != 0;
    if (fclose(stream) == 0 && !failed)
        return text;
    free(text);
    return NULL;
}

static bool write_heads(const struct ind_disk *disk, const char *text, size_t length)
{
    const struct ind_fs *fs = &disk->fs;
    const int file = fs->open(fs->context, disk->state, IND_CHAIN_HEADS ".new",
                              O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0640);
    if (file < 0)
        return false;
    const bool good = ind_fs_write_all(fs, file, text, length) && fs->sync(fs->context, file) == 0 &&
                      fs->rename(fs->context, disk->state, IND_CHAIN_HEADS ".new", IND_CHAIN_HEADS) == 0;
    close(file);
    return good;
}

void ind_keeper_keep_heads(struct ind_keeper *keeper)
{
    const struct ind_disk *disk = keeper->disk;
    size_t length = 0;
    if (!keeper->heads_moved || disk->dry_run)
        return;
    /* The text first: it is to go no farther than what is then flushed. */
    char *text = heads_text(keeper, &length);
    if (text && length == 0)
        keeper->heads_moved = false;
    else if (text && disk->fs.sync(disk->fs.context, disk->journal) == 0 && write_heads(disk, text, length))
        keeper->heads_moved = false;
    free(text);
}

/* ---- The clock ---- */

struct names {
    char **list;
    size_t count;
};

static void add_name(void *context, const char *series, uint64_t number, const unsigned char hash[IND_HASH])
{
    struct names *names = context;
    char **grown = realloc(names->list, (names->count + 1) * sizeof(char *));
    (void)number;
    (void)hash;
    if (grown)
        names->list = grown;
    if (grown && (grown[names->count] = strdup(series)) != NULL)
        names->count++;
}

static const struct ind_policy *policy_of(const struct ind_keeper *keeper, const char *series)
{
    for (size_t i = 0; i < keeper->archive_count; i++)
        if (strcmp(keeper->archives[i].series, series) == 0)
            return ind_keeper_policy(keeper, &keeper->archives[i]);
    return NULL;
}

void ind_keeper_link_clock(struct ind_keeper *keeper, enum ind_event event, ind_time now)
{
    struct names names = {0};
    ind_chain_heads(keeper->disk, add_name, &names);
    for (size_t i = 0; i < names.count; i++) {
        const struct ind_journal_record record = {.event = event, .at = now, .series = names.list[i]};
        (void)ind_chain_journal(keeper->disk, &record, policy_of(keeper, names.list[i]));
        free(names.list[i]);
    }
    keeper->heads_moved |= names.count > 0;
    free(names.list);
}
