/* The links that a running store makes. One mutex for all series: of two lines of a series the first must be
 * in the journal before the second is made. It is held while one line is written, and never longer. */
#include "store/disk/chain_private.h"

#include <errno.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <uthash.h>

struct head {
    UT_hash_handle hh;
    char *series;
    struct ind_link link; /* number 0: there is none yet */
};

struct key {
    UT_hash_handle hh;
    char *path;
    EVP_PKEY *key;
};

struct ind_chain {
    struct ind_mutex mutex;
    struct head *heads IND_GUARDED_BY(mutex);
    struct key *keys IND_GUARDED_BY(mutex);
};

static struct head *new_head(const char *series)
{
    struct head *head = calloc(1, sizeof *head);
    if (head && !(head->series = strdup(series))) {
        free(head);
        head = NULL;
    }
    return head;
}

/* ---- At a start ---- */

struct finding {
    struct ind_chain *chain;
    struct ind_link link;
    bool out_of_memory;
};

IND_NOT_SHARED static void note_link(void *context, const struct ind_journal_record *record)
{
    struct finding *finding = context;
    struct head *head;
    HASH_FIND_STR(finding->chain->heads, record->series, head);
    if (!head) {
        head = new_head(record->series);
        if (head)
            HASH_ADD_KEYPTR(hh, finding->chain->heads, head->series, strlen(head->series), head);
    }
    finding->out_of_memory |= !head;
    if (!head)
        return;
    head->link = finding->link;
    (void)ind_link_handed_on(record, &head->link);
}

static void look_at_line(void *context, char *line, size_t length)
{
    struct finding *finding = context;
    if (ind_link_read((struct ind_slice){line, length}, &finding->link))
        (void)ind_record_read(line, length, note_link, finding);
}

bool ind_chain_open(struct ind_disk *disk)
{
    struct finding finding = {.chain = calloc(1, sizeof *finding.chain)};
    disk->chain = finding.chain;
    if (!disk->chain)
        return false;
    ind_mutex_begin(&disk->chain->mutex);
    (void)ind_journal_lines(disk->folder, 0, look_at_line, &finding);
    return !finding.out_of_memory;
}

IND_NOT_SHARED void ind_chain_close(struct ind_disk *disk)
{
    struct ind_chain *chain = disk->chain;
    if (!chain)
        return;
    struct head *head, *next;
    HASH_ITER(hh, chain->heads, head, next)
    {
        HASH_DEL(chain->heads, head);
        free(head->series);
        free(head);
    }
    struct key *key, *after;
    HASH_ITER(hh, chain->keys, key, after)
    {
        HASH_DEL(chain->keys, key);
        EVP_PKEY_free(key->key);
        free(key->path);
        free(key);
    }
    ind_mutex_end(&chain->mutex);
    free(chain);
    disk->chain = NULL;
}

bool ind_chain_load_key(struct ind_disk *disk, const char *path, char *reason, size_t room)
{
    struct ind_chain *chain = disk->chain;
    struct key *fresh = calloc(1, sizeof *fresh), *key = NULL;
    if (!fresh || !(fresh->path = strdup(path))) {
        free(fresh);
        snprintf(reason, room, "out of memory");
        return false;
    }
    fresh->key = ind_key_open(path, true, reason, room);
    if (fresh->key) {
        ind_mutex_lock(&chain->mutex);
        HASH_FIND_STR(chain->keys, path, key);
        if (key)
            HASH_DEL(chain->keys, key);
        HASH_ADD_KEYPTR(hh, chain->keys, fresh->path, strlen(fresh->path), fresh);
        ind_mutex_unlock(&chain->mutex);
    }
    struct key *old = fresh->key ? key : fresh;
    const bool good = fresh->key != NULL;
    if (old) {
        EVP_PKEY_free(old->key);
        free(old->path);
        free(old);
    }
    return good;
}

/* ---- While it runs ---- */

static struct head *find_head(struct ind_chain *chain, const char *series) IND_REQUIRES(chain->mutex)
{
    struct head *head;
    HASH_FIND_STR(chain->heads, series, head);
    return head;
}

bool ind_chained(struct ind_disk *disk, const char *series, const struct ind_policy *policy)
{
    if (policy && policy->chain)
        return true;
    ind_mutex_lock(&disk->chain->mutex);
    const bool chained = find_head(disk->chain, series) != NULL;
    ind_mutex_unlock(&disk->chain->mutex);
    return chained;
}

/* Of the line `text`, its closing brace left off, which the link's number and the rest then follow; behind
 * `before`, or as the first (NULL). New; NULL with errno set. */
static char *linked_line(struct ind_chain *chain, const struct ind_link *before, const char *text,
                         size_t length, const char *sign, struct ind_link *link, size_t *whole)
    IND_REQUIRES(chain->mutex)
{
    struct key *key = NULL;
    char *line = malloc(length + IND_LINK_END + 32);
    errno = ENOMEM;
    if (!line)
        return NULL;
    link->is_signed = false;
    link->covered =
        (size_t)sprintf(line, "%.*s,\"link\":%llu", (int)length - 1, text, (unsigned long long)link->number);
    bool good = ind_link_hash(before, (struct ind_slice){line, link->covered}, link->hash);
    if (sign) {
        HASH_FIND_STR(chain->keys, sign, key);
        errno = IND_NO_KEY;
        good = good && key && ind_link_sign(link, key->key);
    }
    if (!good) {
        free(line);
        return NULL;
    }
    *whole = link->covered + ind_link_end(link, line + link->covered);
    return line;
}

char *ind_chain_compacted(struct ind_disk *disk, const struct ind_journal_record *record,
                          const struct ind_link *last, const struct ind_policy *policy, size_t *length)
{
    struct ind_link link = {.number = last->number};
    size_t plain;
    char *text = ind_record_write(record, &plain), *line = NULL;
    const char *sign = policy && last->is_signed ? policy->sign : NULL;
    errno = text ? IND_NO_KEY : ENOMEM;
    if (text && (sign || !last->is_signed)) {
        ind_mutex_lock(&disk->chain->mutex);
        line = linked_line(disk->chain, NULL, text, plain, sign, &link, length);
        ind_mutex_unlock(&disk->chain->mutex);
    }
    free(text);
    return line;
}

static bool add_link(struct ind_disk *disk, struct head *head, const char *text, size_t length,
                     const struct ind_policy *policy) IND_REQUIRES(disk->chain->mutex)
{
    struct ind_link link = {.number = head->link.number + 1};
    size_t whole = 0;
    char *line = linked_line(disk->chain, head->link.number ? &head->link : NULL, text, length,
                             policy ? policy->sign : NULL, &link, &whole);
    const bool good = line && ind_journal_append(&disk->fs, disk->journal, line, whole);
    if (good)
        head->link = link;
    free(line);
    return good;
}

bool ind_chain_journal(struct ind_disk *disk, const struct ind_journal_record *record,
                       const struct ind_policy *policy)
{
    size_t length;
    if (disk->dry_run)
        return true;
    char *text = ind_record_write(record, &length);
    errno = ENOMEM;
    if (!text)
        return false;
    struct head *fresh = policy && policy->chain ? new_head(record->series) : NULL;
    ind_mutex_lock(&disk->chain->mutex);
    struct head *head = find_head(disk->chain, record->series);
    const bool chained = head || (policy && policy->chain);
    if (!head && fresh) {
        HASH_ADD_KEYPTR(hh, disk->chain->heads, fresh->series, strlen(fresh->series), fresh);
        head = fresh;
        fresh = NULL;
    }
    bool good = !chained ? ind_journal_append(&disk->fs, disk->journal, text, length)
                         : head && add_link(disk, head, text, length, policy);
    ind_mutex_unlock(&disk->chain->mutex);
    if (fresh) {
        free(fresh->series);
        free(fresh);
    }
    free(text);
    return good;
}

void ind_chain_heads(struct ind_disk *disk,
                     void (*visit)(void *, const char *, uint64_t, const unsigned char[IND_HASH]),
                     void *context)
{
    ind_mutex_lock(&disk->chain->mutex);
    for (const struct head *head = disk->chain->heads; head; head = head->hh.next)
        if (head->link.number)
            visit(context, head->series, head->link.number, head->link.hash);
    ind_mutex_unlock(&disk->chain->mutex);
}
