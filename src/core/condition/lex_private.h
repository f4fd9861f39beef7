/* core/condition/lex_private.h: words, texts and signs of a condition, shared by its readers. Internal to
 * core/. */
#ifndef IND_CORE_CONDITION_LEX_PRIVATE_H
#define IND_CORE_CONDITION_LEX_PRIVATE_H

#include "core/condition/condition_private.h"

enum token_kind { TOKEN_END, TOKEN_WORD, TOKEN_TEXT, TOKEN_OPEN, TOKEN_CLOSE, TOKEN_COMMA, TOKEN_OTHER };

struct token {
    enum token_kind kind;
    size_t at, length;     /* in the source, quotes included */
    struct ind_slice text; /* a text's value, or the token as written */
};

enum { DEEPEST = 50, VALUES = 1000 };

struct reader {
    struct ind_conditions *set;
    struct ind_slice source;
    const struct ind_named *named;
    uint32_t kept; /* the source, in set->kept */
    struct ind_mistake *mistake;
    struct token now;
    size_t next;     /* where the token after `now` starts to be looked for */
    size_t last_end; /* where the token before `now` ended */
    int depth;
    bool broken; /* a named condition is: nothing more to tell */
};

/* Makes the mistake, at the token. */
void ind_lex_wrong(struct reader *reader, const struct token *token, const char *before,
                   struct ind_slice quoted, const char *after);
bool ind_lex_stopped(const struct reader *reader);
/* `now` becomes the next token. */
void ind_lex_advance(struct reader *reader);
bool ind_lex_word_is(const struct reader *reader, const char *word);
bool ind_lex_take_word(struct reader *reader, const char *word);

/* What people write who know other languages, and what this one has instead. */
struct instead {
    const char *written, *remedy;
};
const char *ind_lex_remedy(const struct instead *table, size_t count, struct ind_slice written);
#define COUNT(table) (sizeof(table) / sizeof *(table))

/* condition_test.c: FIELD, at which the reader stands, OPERATOR and VALUE. Returns the node; 0 with a mistake
 * made. */
uint32_t ind_condition_read_test(struct reader *reader, unsigned field);

#endif
