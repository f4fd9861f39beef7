/* collect/book.h: the ledger as the writer keeps it, exact to the message.
 *
 * The writer alone writes in it. A message is stored when the first of its lines is written to a file; it is
 * handed on when the last of them is settled, none was written and one was taken by standard output or a
 * program; and it is lost when all of them are. One with several lines has a token, which knows how many of
 * them are still to come. */
#ifndef IND_COLLECT_BOOK_H
#define IND_COLLECT_BOOK_H

#include "collect/batch.h"
#include "collect/edit_counts.h"

enum { IND_MOST_INTAKES = 64 }; /* receivers, or the one reader of files */

/* What the routes took: a message that two routes take counts twice here. */
struct ind_route_count {
    char *name;
    uint64_t lines, bytes;
    uint64_t cut; /* of these lines: too long to be written whole */
};

struct ind_book;

/* New; borrows the accounts of each intake. NULL where memory is out. */
struct ind_book *ind_book_new(struct ind_accounts *const *accounts);
void ind_book_free(struct ind_book *book);

/* The rules whose route numbers the batches have from now on; false where memory is out (what is then not
 * counted are routes only). */
bool ind_book_adopt(struct ind_book *book, const struct ind_config *config);

void ind_tally_add(struct ind_ledger *ledger, const struct ind_tally *tally);

/* Takes over the tallies of a batch. */
void ind_book_take(struct ind_book *book, unsigned intake, const struct ind_batch *batch);

/* The owner under which the store is to know a line, or the next line, of a batch. */
uint32_t ind_book_owner(struct ind_book *book, unsigned intake, struct ind_batch *batch,
                        const struct ind_batch_line *line);
/* The batch is through. */
void ind_book_turn(struct ind_book *book, unsigned intake, const struct ind_batch *batch);
void ind_book_route(struct ind_book *book, uint32_t route, const struct ind_batch_group *group);

/* For the store: `book` as context. */
void ind_book_settle(void *book, uint32_t owner, uint32_t lines, bool written);
/* For what goes into no file: a line was taken, or never will be. */
void ind_book_settle_taken(void *book, uint32_t owner, bool taken);

/* Copies the ledgers of the first `count` accounts of an intake into `ledgers`, with what waits in the
 * store and (unless NULL) for the takers. */
void ind_book_weigh(const struct ind_book *book, unsigned intake, struct ind_store *store,
                    const struct ind_sinks *takers, struct ind_ledger *ledgers, uint32_t count);

/* At the end, once the store is closed: messages of which no line was written, and none ever will be. */
void ind_book_close(struct ind_book *book);

/* What edits did to the messages of one intake. */
const struct ind_edit_count *ind_book_edits(const struct ind_book *book, unsigned intake);

const struct ind_route_count *ind_book_routes(const struct ind_book *book, size_t *count);

#endif
