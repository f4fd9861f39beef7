/* collect/account/book.h: the ledger as the writer keeps it, exact to the message.
 *
 * The writer alone writes in it; where each file system of the store has a writer of its own these do, too,
 * and then whoever uses it has it locked. A message is stored when the first of its lines is written to a
 * file; it is handed on when the last of them is settled, none was written and one was taken by standard
 * output or a program; and it is lost when all of them are. One with several lines has a token, which knows
 * how many of them are still to come. */
#ifndef IND_COLLECT_ACCOUNT_BOOK_H
#define IND_COLLECT_ACCOUNT_BOOK_H

#include "collect/account/ledger_snapshot.h"
#include "collect/account/tally.h"
#include "config/config.h"

enum { IND_MOST_INTAKES = 64 }; /* receivers, or those who take files apart */

/* The owner of a line whose message has others: IND_OWNER_COPIES + the number of its entry in the copies of
 * its batch; any other owner is the number of an account. */
#define IND_OWNER_COPIES UINT32_C(0x80000000)

struct ind_book;

/* New; borrows the accounts of each intake. NULL where memory is out. */
struct ind_book *ind_book_new(struct ind_accounts *const *accounts);
void ind_book_free(struct ind_book *book);

void ind_book_lock(struct ind_book *book);
void ind_book_unlock(struct ind_book *book);

/* The rules whose route numbers the batches have from now on; false where memory is out (what is then not
 * counted are routes only). */
bool ind_book_adopt(struct ind_book *book, const struct ind_config *config);

/* Takes over tallies of an intake. */
void ind_book_add(struct ind_book *book, unsigned intake, const struct ind_tallies *tallies);

/* The owner under which the store and the sinks are to know a line of the intake. `copies`: those of its
 * batch. */
uint32_t ind_book_owner(struct ind_book *book, unsigned intake, uint32_t owner, struct ind_copies *copies);
/* A batch is through; `last`: its last message with several lines, which the next batch may go on with, or
 * NULL. */
void ind_book_carry(struct ind_book *book, unsigned intake, const struct ind_copies *last);
void ind_book_route(struct ind_book *book, uint32_t route, uint64_t lines, uint64_t bytes, uint64_t cut);

/* For the store: `book` as context. */
void ind_book_settle(void *book, uint32_t owner, uint32_t lines, bool written);
/* A line goes on to the writer of its file system; and that one has settled lines. */
void ind_book_set_aside(struct ind_book *book, uint32_t owner);
void ind_book_settle_aside(struct ind_book *book, uint32_t owner, uint32_t lines, bool written);
/* For what goes into no file: a line was taken, or never will be. */
void ind_book_settle_handed_on(void *book, uint32_t owner, bool taken);

/* The ledgers of the first `count` accounts of an intake, while they are weighed: what waits is counted by
 * whoever holds it. */
struct ind_weighing {
    unsigned intake;
    struct ind_ledger *ledgers;
    uint32_t count;
};

/* Copies the ledgers, with the messages that have several lines and wait for all of them, and those whose
 * line was set aside; then each line that waits in the store and the sinks is to be given to ind_weigh_lines.
 */
void ind_book_weigh(const struct ind_book *book, struct ind_weighing *weighing);
/* For ind_store_waiting and ind_sinks_waiting: `weighing` as context. */
void ind_weigh_lines(void *weighing, uint32_t owner, uint32_t lines);

/* Any thread: messages of a listener, by its number, of which nothing is to be written or handed on any more,
 * since the start; and of these, those that were lost. */
void ind_book_settled(const struct ind_book *book, uint16_t listener, uint64_t *settled, uint64_t *lost);

/* At the end, once the store is closed: messages of which no line was written, and none ever will be. */
void ind_book_close(struct ind_book *book);

/* What edits did to the messages of one intake. */
const struct ind_edit_count *ind_book_edits(const struct ind_book *book, unsigned intake);

const struct ind_route_count *ind_book_routes(const struct ind_book *book, size_t *count);

#endif
