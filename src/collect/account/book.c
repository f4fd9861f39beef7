#include "collect/account/book.h"

#include "thread/mutex.h"
#include <stdatomic.h>
#include <stdlib.h>
#include <uthash.h>

/* An owner is the number of an account with its intake above it, or a token. */
#define OWNER_TOKEN UINT32_C(0x80000000)
#define OWNER_NOBODY UINT32_C(0xffffffff)
enum { ACCOUNT_BITS = 24, MOST_LEFT = (1 << 28) - 1 };

struct token {
    uint32_t account; /* with its intake; of a free one: the next free one */
    uint32_t left : 28, stored : 1, handed : 1, lost_on_disk : 1;
};

_Static_assert((uint64_t)IND_MOST_INTAKES << ACCOUNT_BITS <= OWNER_TOKEN, "no account is taken for a token");
_Static_assert((uint64_t)IND_ACCOUNT_CHUNK *IND_ACCOUNT_CHUNKS <= UINT64_C(1) << ACCOUNT_BITS,
               "each account has a number");
_Static_assert(sizeof(struct token) == 8, "28 bits for lines, three for what became of them");

struct route_place {
    UT_hash_handle hh; /* by the name in `routes` */
    uint32_t place;
};

struct ind_book {
    struct ind_mutex mutex; /* all of it, see book.h */
    struct ind_accounts *const *accounts;
    struct ind_edit_count *edits[IND_MOST_INTAKES];
    struct token *tokens;
    uint32_t token_room, token_free; /* free: number + 1 */
    /* The token of the last message of the last batch, of each intake: the next batch may go on with it. */
    uint32_t carried[IND_MOST_INTAKES];
    struct ind_route_count *routes;
    size_t route_count;
    struct route_place *places;
    /* By listener: read by any thread. */
    atomic_uint_fast64_t settled[IND_LISTENER_NAMES], lost[IND_LISTENER_NAMES];
    uint32_t *place_of_route; /* in `routes`, by route of the present rules */
    size_t rule_count;
};

struct ind_book *ind_book_new(struct ind_accounts *const *accounts)
{
    struct ind_book *book = calloc(1, sizeof *book);
    if (!book)
        return NULL;
    book->accounts = accounts;
    ind_mutex_begin(&book->mutex);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        book->carried[i] = OWNER_NOBODY;
    return book;
}

void ind_book_free(struct ind_book *book)
{
    struct route_place *place, *next;
    if (!book)
        return;
    HASH_ITER(hh, book->places, place, next)
    {
        HASH_DEL(book->places, place);
        free(place);
    }
    for (size_t i = 0; i < book->route_count; i++)
        free(book->routes[i].name);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        ind_edit_counts_free(&book->edits[i]);
    free(book->routes);
    free(book->place_of_route);
    free(book->tokens);
    ind_mutex_end(&book->mutex);
    free(book);
}

/* The compiler cannot follow a lock that callers take. */
IND_NOT_SHARED void ind_book_lock(struct ind_book *book)
{
    ind_mutex_lock(&book->mutex);
}

IND_NOT_SHARED void ind_book_unlock(struct ind_book *book)
{
    ind_mutex_unlock(&book->mutex);
}

void ind_book_settled(const struct ind_book *book, uint16_t listener, uint64_t *settled, uint64_t *lost)
{
    *settled = atomic_load(&book->settled[listener]);
    *lost = atomic_load(&book->lost[listener]);
}

/* Of whoever writes in the book, of whom there is one at a time: nobody else's addition can be lost. */
static void add_to(atomic_uint_fast64_t *sum, uint64_t more)
{
    atomic_store_explicit(sum, atomic_load_explicit(sum, memory_order_relaxed) + more, memory_order_relaxed);
}

static void note_settled(struct ind_book *book, const struct ind_account *account, uint64_t messages,
                         bool lost)
{
    add_to(&book->settled[account->listener], messages);
    if (lost)
        add_to(&book->lost[account->listener], messages);
}

static bool place_route(struct ind_book *book, const char *name, uint32_t *place)
{
    struct route_place *known;
    HASH_FIND_STR(book->places, name, known);
    if (known) {
        *place = known->place;
        return true;
    }
    struct ind_route_count *grown = realloc(book->routes, (book->route_count + 1) * sizeof *grown);
    char *copy = strdup(name);
    known = calloc(1, sizeof *known);
    if (grown)
        book->routes = grown;
    if (!grown || !copy || !known) {
        free(copy);
        free(known);
        return false;
    }
    known->place = (uint32_t)book->route_count;
    HASH_ADD_KEYPTR(hh, book->places, copy, strlen(copy), known);
    *place = (uint32_t)book->route_count;
    book->routes[book->route_count++] = (struct ind_route_count){.name = copy};
    return true;
}

bool ind_book_adopt(struct ind_book *book, const struct ind_config *config)
{
    uint32_t *places = calloc(config->route_count, sizeof *places);
    bool good = places != NULL;
    for (size_t i = 0; good && i < config->route_count; i++)
        good = place_route(book, config->routes[i].name, &places[i]);
    free(book->place_of_route);
    book->place_of_route = places;
    book->rule_count = good ? config->route_count : 0;
    return good;
}

void ind_book_route(struct ind_book *book, uint32_t route, uint64_t lines, uint64_t bytes, uint64_t cut)
{
    if (route >= book->rule_count)
        return;
    struct ind_route_count *count = &book->routes[book->place_of_route[route]];
    count->lines += lines;
    count->bytes += bytes;
    count->cut += cut;
}

const struct ind_edit_count *ind_book_edits(const struct ind_book *book, unsigned intake)
{
    return book->edits[intake];
}

/* Of those that are too many, or for which there is no memory, only the sum is known. */
static void add_account_route(struct ind_account *account, uint32_t place, uint32_t messages)
{
    enum { STEP = 4 };
    uint32_t i = 0;
    while (i < account->route_count && account->routes[i].place != place)
        i++;
    if (i == account->route_count) {
        struct ind_account_route *grown = account->routes;
        if (i < IND_ACCOUNT_ROUTES && i % STEP == 0)
            grown = realloc(account->routes, (i + STEP) * sizeof *grown);
        if (i == IND_ACCOUNT_ROUTES || !grown) {
            account->other_routes += messages;
            return;
        }
        account->routes = grown;
        account->routes[account->route_count++] = (struct ind_account_route){.place = place};
    }
    account->routes[i].messages += messages;
}

static void add_account_routes(const struct ind_book *book, struct ind_account *account,
                               const struct ind_tally *tally)
{
    account->other_routes += tally->other_routes;
    for (int i = 0; i < IND_TALLY_ROUTES && tally->routes[i].messages > 0; i++)
        if (tally->routes[i].route < book->rule_count)
            add_account_route(account, book->place_of_route[tally->routes[i].route],
                              tally->routes[i].messages);
        else
            account->other_routes += tally->routes[i].messages;
}

void ind_book_add(struct ind_book *book, unsigned intake, const struct ind_tallies *tallies)
{
    for (size_t i = 0; i < tallies->edit_count; i++)
        ind_edit_counts_add_tally(&book->edits[intake], &tallies->edits[i]);
    for (size_t i = 0; i < tallies->account_count; i++) {
        const struct ind_tally *tally = &tallies->accounts[i];
        struct ind_account *account = ind_account_at(book->accounts[intake], tally->account);
        ind_tally_add(&account->ledger, tally);
        uint64_t ended = 0;
        for (int end = 0; end < IND_ENDS; end++)
            ended += tally->ended[end];
        if (ended)
            note_settled(book, account, ended, false);
        add_account_routes(book, account, tally);
        if (tally->last == IND_TIME_NONE)
            continue;
        account->last = tally->last;
        ind_clock_offset_add(&account->offset, tally->last, tally->lag, tally->unset);
    }
}

/* ---- Tokens ---- */

static uint32_t new_token(struct ind_book *book, uint32_t account, uint32_t count)
{
    if (book->token_free == 0) {
        uint32_t room = book->token_room ? book->token_room * 2 : 1024;
        struct token *grown = realloc(book->tokens, room * sizeof *grown);
        if (!grown)
            return OWNER_NOBODY;
        book->tokens = grown;
        for (uint32_t i = room; i-- > book->token_room;) {
            grown[i] = (struct token){.account = book->token_free};
            book->token_free = i + 1;
        }
        book->token_room = room;
    }
    uint32_t number = book->token_free - 1;
    book->token_free = book->tokens[number].account;
    book->tokens[number] = (struct token){.account = account, .left = count & MOST_LEFT};
    return number;
}

static struct ind_account *owner_account(const struct ind_book *book, uint32_t owner)
{
    return ind_account_at(book->accounts[owner >> ACCOUNT_BITS], owner & ((1u << ACCOUNT_BITS) - 1));
}

static void settle_token(struct ind_book *book, uint32_t number, uint32_t lines, enum ind_end end)
{
    struct token *token = &book->tokens[number];
    struct ind_account *account = owner_account(book, token->account);
    if (end == IND_END_STORED && !token->stored) {
        token->stored = 1;
        account->ledger.ended[IND_END_STORED]++;
    }
    token->handed |= end == IND_END_HANDED;
    token->lost_on_disk |= end == IND_END_LOST_DISK;
    token->left = (token->left - lines) & MOST_LEFT;
    if (token->left > 0)
        return;
    note_settled(book, account, 1, token->lost_on_disk);
    if (!token->stored)
        account->ledger.ended[token->handed         ? IND_END_HANDED
                              : token->lost_on_disk ? IND_END_LOST_DISK
                                                    : IND_END_LOST_SINK]++;
    token->account = book->token_free;
    book->token_free = number + 1;
}

static void settle(struct ind_book *book, uint32_t owner, uint32_t lines, enum ind_end end)
{
    if (owner == OWNER_NOBODY)
        return;
    if (owner & OWNER_TOKEN)
        settle_token(book, owner & ~OWNER_TOKEN, lines, end);
    else {
        struct ind_account *account = owner_account(book, owner);
        account->ledger.ended[end] += lines;
        note_settled(book, account, lines, end == IND_END_LOST_DISK || end == IND_END_LOST_SINK);
    }
}

void ind_book_settle(void *context, uint32_t owner, uint32_t lines, bool written)
{
    settle(context, owner, lines, written ? IND_END_STORED : IND_END_LOST_DISK);
}

/* Of a message with several lines its token knows how many are to come. */
void ind_book_set_aside(struct ind_book *book, uint32_t owner)
{
    if (!(owner & OWNER_TOKEN))
        owner_account(book, owner)->aside++;
}

void ind_book_settle_aside(struct ind_book *book, uint32_t owner, uint32_t lines, bool written)
{
    if (!(owner & OWNER_TOKEN))
        owner_account(book, owner)->aside -= lines;
    ind_book_settle(book, owner, lines, written);
}

void ind_book_settle_handed_on(void *context, uint32_t owner, bool taken)
{
    settle(context, owner, 1, taken ? IND_END_HANDED : IND_END_LOST_SINK);
}

uint32_t ind_book_owner(struct ind_book *book, unsigned intake, uint32_t owner, struct ind_copies *of_batch)
{
    if (!(owner & IND_OWNER_COPIES))
        return (uint32_t)intake << ACCOUNT_BITS | owner;
    struct ind_copies *copies = &of_batch[owner & ~IND_OWNER_COPIES];
    if (copies->token == UINT32_MAX) {
        uint32_t account = (uint32_t)intake << ACCOUNT_BITS | copies->account;
        copies->token = copies->continued ? book->carried[intake] : new_token(book, account, copies->count);
        if (copies->token == OWNER_NOBODY && !copies->continued) {
            copies->token = OWNER_NOBODY - 1; /* without memory its first line stands for all */
            return account;
        }
    }
    return copies->token >= OWNER_NOBODY - 1 ? OWNER_NOBODY : OWNER_TOKEN | copies->token;
}

void ind_book_carry(struct ind_book *book, unsigned intake, const struct ind_copies *last)
{
    if (last)
        book->carried[intake] = last->token;
}

void ind_weigh_lines(void *context, uint32_t owner, uint32_t lines)
{
    const struct ind_weighing *weighing = context;
    uint32_t account = owner & ((1u << ACCOUNT_BITS) - 1);
    if (!(owner & OWNER_TOKEN) && owner >> ACCOUNT_BITS == weighing->intake && account < weighing->count)
        weighing->ledgers[account].waiting += lines;
}

void ind_book_weigh(const struct ind_book *book, struct ind_weighing *weighing)
{
    for (uint32_t i = 0; i < weighing->count; i++) {
        const struct ind_account *account = ind_account_at(book->accounts[weighing->intake], i);
        weighing->ledgers[i] = account->ledger;
        weighing->ledgers[i].waiting += account->aside;
    }
    for (uint32_t i = 0; i < book->token_room; i++)
        if (book->tokens[i].left > 0 && !book->tokens[i].stored)
            ind_weigh_lines(weighing, book->tokens[i].account, 1);
}

void ind_book_close(struct ind_book *book)
{
    for (uint32_t i = 0; i < book->token_room; i++)
        if (book->tokens[i].left > 0)
            settle_token(book, i, book->tokens[i].left, IND_END_LOST_DISK);
}

const struct ind_route_count *ind_book_routes(const struct ind_book *book, size_t *count)
{
    *count = book->route_count;
    return book->routes;
}
