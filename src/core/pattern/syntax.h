/* core/pattern/syntax.h: how a text is laid out: literal text with typed fields in it
 * (docs/pattern-language.md).
 *
 *     layout := { literal | "{" [NAME] ":" TYPE "}" }        "{{" and "}}" are literal braces
 *
 * Reading a layout takes it apart; core/pattern/pattern.h puts many of them into one tree. */
#ifndef IND_CORE_PATTERN_SYNTAX_H
#define IND_CORE_PATTERN_SYNTAX_H

#include "core/base/mistake.h"
#include "core/pattern/type.h"

enum { IND_SYNTAX_BYTES = 2000, IND_SYNTAX_FIELDS = 32, IND_SYNTAX_PIECES = 2 * IND_SYNTAX_FIELDS + 1 };

/* A literal, in which each run of white space is one space, or a field. */
struct ind_syntax_piece {
    bool field;
    enum ind_type type;
    struct ind_slice text; /* a literal's bytes; the expression of re(…) */
    struct ind_slice name; /* of a field; empty: nothing is kept */
    size_t at, length;     /* where it stands in the source */
};

struct ind_syntax_text {
    struct ind_syntax_piece
        pieces[IND_SYNTAX_PIECES]; /* their texts borrowed from `literals` and the source */
    size_t count, fields;
    char literals[IND_SYNTAX_BYTES];
};

/* Takes `source` (borrowed) apart. False with *mistake made, which tells what could stand there instead. */
bool ind_syntax_parse(struct ind_slice source, struct ind_syntax_text *layout, struct ind_mistake *mistake);

#endif
