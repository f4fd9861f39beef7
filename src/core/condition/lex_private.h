/* core/condition/lex_private.h: words, texts and signs of a condition, shared by its readers. Internal to
 * core/. */
#ifndef IND_CORE_CONDITION_LEX_PRIVATE_H
#define IND_CORE_CONDITION_LEX_PRIVATE_H

#include "core/condition/condition_private.h"

enum ind_token_kind {
    IND_TOKEN_END,
    IND_TOKEN_WORD,
    IND_TOKEN_TEXT,
    IND_TOKEN_OPEN,
    IND_TOKEN_CLOSE,
    IND_TOKEN_COMMA,
    IND_TOKEN_OTHER
};

struct ind_token {
    enum ind_token_kind kind;
    size_t at, length;     /* in the source, quotes included */
    struct ind_slice text; /* a text's value, or the token as written */
};

enum { IND_CONDITION_DEEPEST = 50, IND_CONDITION_VALUES = 1000 };

struct ind_condition_reader {
    struct ind_conditions *set;
    struct ind_slice source;
    const struct ind_named *named;
    uint32_t kept; /* the source, in set->kept */
    struct ind_mistake *mistake;
    struct ind_token now;
    size_t next;     /* where the token after `now` starts to be looked for */
    size_t last_end; /* where the token before `now` ended */
    int depth;
    bool broken; /* a named condition is: nothing more to tell */
};

/* Makes the mistake, at the token. */
void ind_lex_wrong(struct ind_condition_reader *reader, const struct ind_token *token, const char *before,
                   struct ind_slice quoted, const char *after);
bool ind_lex_stopped(const struct ind_condition_reader *reader);
/* `now` becomes the next token. */
void ind_lex_advance(struct ind_condition_reader *reader);
bool ind_lex_word_is(const struct ind_condition_reader *reader, const char *word);
bool ind_lex_accept_word(struct ind_condition_reader *reader, const char *word);

/* What people write who know other languages, and what this one has instead. */
struct ind_instead {
    const char *written, *remedy;
};
const char *ind_lex_remedy(const struct ind_instead *table, size_t count, struct ind_slice written);
#define IND_COUNT(table) (sizeof(table) / sizeof *(table))

/* test.c: FIELD, at which the reader stands, OPERATOR and VALUE. Returns the node; 0 with a mistake
 * made. */
uint32_t ind_condition_read_test(struct ind_condition_reader *reader, unsigned field);

#endif
