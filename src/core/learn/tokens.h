/* core/learn/tokens.h: a text taken apart into what a layout may be made of: words, values that a type of the
 * pattern language takes (core/pattern/type.h), and what stands between them. */
#ifndef IND_CORE_LEARN_TOKENS_H
#define IND_CORE_LEARN_TOKENS_H

#include "core/pattern/type.h"

#include <stdint.h>

enum ind_token_kind {
    IND_TOKEN_BLANK,  /* a run of white space: one space */
    IND_TOKEN_SIGN,   /* a byte of punctuation */
    IND_TOKEN_WORD,   /* may be literal text, or a word that varies */
    IND_TOKEN_SECRET, /* a word that is never literal text: behind "user", "password", an address of mail */
    IND_TOKEN_VALUE,  /* `type` is the narrowest that takes it */
    IND_TOKEN_QUOTED,
    IND_TOKEN_PAIRS,
    IND_TOKEN_JSON
};

struct ind_token {
    uint8_t kind, type;
    uint16_t at, length; /* in the text */
};

/* Longer texts, or with more tokens or words that vary, have no layout that is worth keeping. */
enum { IND_LEARN_TEXT = 600, IND_LEARN_TOKENS = 96 };

/* Without the white space around the text. How many there are; 0: it is empty, too long, or of too many.
 * Steps are linear in its length. */
size_t ind_tokens_read(struct ind_slice text, struct ind_token tokens[IND_LEARN_TOKENS]);

/* "the", "from", …: a word that tells nothing of what follows. */
bool ind_is_small_word(struct ind_slice word);

#endif
