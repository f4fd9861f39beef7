#include "collect/account/accounts.h"

#include <stdlib.h>
#include <uthash.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

enum { KEY = 640, LISTENERS = 256 };

struct entry {
    UT_hash_handle hh;
    uint32_t number;
    size_t length;
    char key[];
};

struct ind_accounts {
    struct ind_account *chunks[IND_ACCOUNT_CHUNKS];
    uint32_t count, strangers, refused;
    struct entry *known;
    uint32_t others[LISTENERS]; /* number + 1 */
};

struct ind_accounts *ind_accounts_new(void)
{
    struct ind_accounts *accounts = calloc(1, sizeof *accounts);
    if (accounts && (accounts->chunks[0] = calloc(IND_ACCOUNT_CHUNK, sizeof **accounts->chunks)))
        return accounts;
    free(accounts);
    return NULL;
}

void ind_accounts_free(struct ind_accounts *accounts)
{
    struct entry *entry, *next;
    if (!accounts)
        return;
    HASH_ITER(hh, accounts->known, entry, next)
    {
        HASH_DEL(accounts->known, entry);
        free(entry);
    }
    for (uint32_t i = 0; i < accounts->count; i++) {
        struct ind_account *account = ind_account_at(accounts, i);
        free((char *)(uintptr_t)account->device.at);
        free(account->routes);
    }
    for (size_t i = 0; i < IND_ACCOUNT_CHUNKS; i++)
        free(accounts->chunks[i]);
    free(accounts);
}

struct ind_account *ind_account_at(const struct ind_accounts *accounts, uint32_t number)
{
    return &accounts->chunks[number / IND_ACCOUNT_CHUNK][number % IND_ACCOUNT_CHUNK];
}

uint32_t ind_accounts_count(const struct ind_accounts *accounts)
{
    return accounts->count;
}

/* One block of memory holds both texts. UINT32_MAX where there is none, or no number left. */
static uint32_t add(struct ind_accounts *accounts, uint16_t listener, enum ind_account_kind kind,
                    struct ind_slice device, struct ind_slice sender)
{
    uint32_t number = accounts->count;
    if (number == IND_ACCOUNT_CHUNK * IND_ACCOUNT_CHUNKS)
        return UINT32_MAX;
    struct ind_account **chunk = &accounts->chunks[number / IND_ACCOUNT_CHUNK];
    char *texts = malloc(device.length + sender.length + 2);
    if (!texts || (!*chunk && !(*chunk = calloc(IND_ACCOUNT_CHUNK, sizeof **chunk)))) {
        free(texts);
        return UINT32_MAX;
    }
    struct ind_buffer buffer = ind_buffer_on(texts, device.length + sender.length + 2);
    ind_buffer_slice(&buffer, device);
    ind_buffer_byte(&buffer, '\0');
    ind_buffer_slice(&buffer, sender);
    ind_buffer_byte(&buffer, '\0');
    struct ind_account *account = &(*chunk)[number % IND_ACCOUNT_CHUNK];
    *account = (struct ind_account){
        .listener = listener,
        .kind = (uint8_t)kind,
        .device = {texts, device.length},
        .sender = {texts + device.length + 1, sender.length},
        .last = IND_TIME_NONE,
    };
    accounts->count++;
    return number;
}

/* The one for all who find no other. Where even this cannot be made, the first account there is: a message
 * counted in a wrong row is better than one not counted. */
static uint32_t others(struct ind_accounts *accounts, uint16_t listener)
{
    uint32_t *known = &accounts->others[listener % LISTENERS];
    if (*known == 0)
        *known = add(accounts, listener, IND_ACCOUNT_OTHERS, IND_SLICE("(others)"), IND_NOTHING) + 1;
    return *known ? *known - 1 : 0;
}

static bool is_stranger(enum ind_account_kind kind)
{
    return kind == IND_ACCOUNT_STRANGER || kind == IND_ACCOUNT_CLAIMANT;
}

static bool may_add(const struct ind_accounts *accounts, enum ind_account_kind kind)
{
    return kind == IND_ACCOUNT_DEVICE || (is_stranger(kind) && accounts->strangers < IND_STRANGERS) ||
           (kind == IND_ACCOUNT_REFUSED && accounts->refused < IND_REFUSED);
}

uint32_t ind_account_for(struct ind_accounts *accounts, uint16_t listener, enum ind_account_kind kind,
                         struct ind_slice device, struct ind_slice sender)
{
    char key[KEY];
    struct entry *entry;
    struct ind_buffer buffer = ind_buffer_on(key, sizeof key);
    ind_buffer_add(&buffer, (const char *)&listener, sizeof listener);
    ind_buffer_byte(&buffer, (char)kind);
    if (is_stranger(kind))
        ind_buffer_slice(&buffer, sender);
    ind_buffer_byte(&buffer, ' ');
    device.length = device.length < 512 ? device.length : 512;
    ind_buffer_slice(&buffer, device);
    unsigned hash = (unsigned)XXH3_64bits(key, buffer.length);
    HASH_FIND_BYHASHVALUE(hh, accounts->known, key, (unsigned)buffer.length, hash, entry);
    if (entry)
        return entry->number;
    uint32_t number = UINT32_MAX;
    if (may_add(accounts, kind) && (entry = malloc(sizeof *entry + buffer.length)))
        number = add(accounts, listener, kind, device, sender);
    if (number == UINT32_MAX) {
        free(entry);
        return others(accounts, listener);
    }
    accounts->strangers += is_stranger(kind);
    accounts->refused += kind == IND_ACCOUNT_REFUSED;
    entry->number = number;
    entry->length = buffer.length;
    memcpy(entry->key, key, buffer.length);
    HASH_ADD_KEYPTR_BYHASHVALUE(hh, accounts->known, entry->key, (unsigned)buffer.length, hash, entry);
    return number;
}
