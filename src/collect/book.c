#include "collect/book.h"

#include <stdlib.h>

/* An owner is the number of an account with its intake above it, or a token. */
#define OWNER_TOKEN UINT32_C(0x80000000)
#define OWNER_NOBODY UINT32_C(0xffffffff)
enum { ACCOUNT_BITS = 24 };

struct token {
    uint32_t account; /* with its intake; of a free one: the next free one */
    uint32_t left : 31, stored : 1;
};

struct ind_book {
    struct ind_accounts *const *accounts;
    struct token *tokens;
    uint32_t token_room, token_free; /* free: number + 1 */
    /* The token of the last message of the last batch, of each intake: the next batch may go on with it. */
    uint32_t carried[IND_MOST_INTAKES];
    struct ind_route_count *routes;
    size_t route_count;
    uint32_t *place_of_route; /* in `routes`, by route of the present rules */
    size_t rule_count;
};

struct ind_book *ind_book_new(struct ind_accounts *const *accounts)
{
    struct ind_book *book = calloc(1, sizeof *book);
    if (!book)
        return NULL;
    book->accounts = accounts;
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        book->carried[i] = OWNER_NOBODY;
    return book;
}

void ind_book_free(struct ind_book *book)
{
    if (!book)
        return;
    for (size_t i = 0; i < book->route_count; i++)
        free(book->routes[i].name);
    free(book->routes);
    free(book->place_of_route);
    free(book->tokens);
    free(book);
}

static bool place_route(struct ind_book *book, const char *name, uint32_t *place)
{
    for (size_t i = 0; i < book->route_count; i++)
        if (strcmp(book->routes[i].name, name) == 0) {
            *place = (uint32_t)i;
            return true;
        }
    struct ind_route_count *grown = realloc(book->routes, (book->route_count + 1) * sizeof *grown);
    char *copy = strdup(name);
    if (grown)
        book->routes = grown;
    if (!grown || !copy) {
        free(copy);
        return false;
    }
    *place = (uint32_t)book->route_count;
    book->routes[book->route_count++] = (struct ind_route_count){copy, 0, 0};
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

void ind_book_route(struct ind_book *book, uint32_t route, uint64_t lines, uint64_t bytes)
{
    if (route >= book->rule_count)
        return;
    struct ind_route_count *count = &book->routes[book->place_of_route[route]];
    count->lines += lines;
    count->bytes += bytes;
}

void ind_tally_add(struct ind_ledger *ledger, const struct ind_tally *tally)
{
    ledger->received += tally->received;
    ledger->bytes += tally->bytes;
    ledger->malformed += tally->malformed;
    ledger->cut += tally->cut;
    ledger->gave_up += tally->gave_up;
    for (int i = 0; i < IND_FORMS; i++)
        ledger->forms[i] += tally->forms[i];
    for (int i = 0; i < IND_ENDS; i++)
        ledger->ended[i] += tally->ended[i];
}

void ind_book_take(struct ind_book *book, unsigned intake, const struct ind_batch *batch)
{
    for (size_t i = 0; i < batch->tally_count; i++) {
        const struct ind_tally *tally = &batch->tallies[i];
        struct ind_account *account = ind_account_at(book->accounts[intake], tally->account);
        ind_tally_add(&account->ledger, tally);
        if (tally->last == IND_TIME_NONE)
            continue;
        account->last = tally->last;
        ind_lag_add(&account->lag, tally->last, tally->lag, tally->unset);
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
    book->tokens[number] = (struct token){.account = account, .left = count & 0x7fffffffu};
    return number;
}

static struct ind_account *owner_account(const struct ind_book *book, uint32_t owner)
{
    return ind_account_at(book->accounts[owner >> ACCOUNT_BITS], owner & ((1u << ACCOUNT_BITS) - 1));
}

static void settle_token(struct ind_book *book, uint32_t number, uint32_t lines, bool written)
{
    struct token *token = &book->tokens[number];
    struct ind_account *account = owner_account(book, token->account);
    if (written && !token->stored) {
        token->stored = 1;
        account->ledger.ended[IND_END_STORED]++;
    }
    token->left = (token->left - lines) & 0x7fffffffu;
    if (token->left > 0)
        return;
    if (!token->stored)
        account->ledger.ended[IND_END_LOST_DISK]++;
    token->account = book->token_free;
    book->token_free = number + 1;
}

void ind_book_settle(void *context, uint32_t owner, uint32_t lines, bool written)
{
    struct ind_book *book = context;
    if (owner == OWNER_NOBODY)
        return;
    if (owner & OWNER_TOKEN)
        settle_token(book, owner & ~OWNER_TOKEN, lines, written);
    else
        owner_account(book, owner)->ledger.ended[written ? IND_END_STORED : IND_END_LOST_DISK] += lines;
}

uint32_t ind_book_owner(struct ind_book *book, unsigned intake, struct ind_batch *batch,
                        const struct ind_batch_line *line)
{
    if (!(line->owner & IND_OWNER_COPIES))
        return (uint32_t)intake << ACCOUNT_BITS | line->owner;
    struct ind_batch_copies *copies = &batch->copies[line->owner & ~IND_OWNER_COPIES];
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

void ind_book_turn(struct ind_book *book, unsigned intake, const struct ind_batch *batch)
{
    if (batch->copies_count > 0)
        book->carried[intake] = batch->copies[batch->copies_count - 1].token;
}

struct weighing {
    unsigned intake;
    struct ind_ledger *ledgers;
    uint32_t count;
};

static void weigh_run(void *context, uint32_t owner, uint32_t lines)
{
    const struct weighing *weighing = context;
    uint32_t account = owner & ((1u << ACCOUNT_BITS) - 1);
    if (!(owner & OWNER_TOKEN) && owner >> ACCOUNT_BITS == weighing->intake && account < weighing->count)
        weighing->ledgers[account].waiting += lines;
}

void ind_book_weigh(const struct ind_book *book, unsigned intake, struct ind_store *store,
                    struct ind_ledger *ledgers, uint32_t count)
{
    struct weighing weighing = {intake, ledgers, count};
    for (uint32_t i = 0; i < count; i++)
        ledgers[i] = ind_account_at(book->accounts[intake], i)->ledger;
    ind_store_waiting(store, weigh_run, &weighing);
    for (uint32_t i = 0; i < book->token_room; i++)
        if (book->tokens[i].left > 0 && !book->tokens[i].stored)
            weigh_run(&weighing, book->tokens[i].account, 1);
}

void ind_book_close(struct ind_book *book)
{
    for (uint32_t i = 0; i < book->token_room; i++)
        if (book->tokens[i].left > 0)
            settle_token(book, i, book->tokens[i].left, false);
}

const struct ind_route_count *ind_book_routes(const struct ind_book *book, size_t *count)
{
    *count = book->route_count;
    return book->routes;
}
