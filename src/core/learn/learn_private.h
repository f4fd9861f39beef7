/* core/learn/learn_private.h: shapes and their variants, shared by what collects them (learn.c), takes them
 * apart (divide.c) and writes their layouts (layout.c). */
#ifndef IND_CORE_LEARN_LEARN_PRIVATE_H
#define IND_CORE_LEARN_LEARN_PRIVATE_H

#include "core/learn/learn.h"
#include "core/learn/tokens.h"

/* Texts of one shape with the same words. */
struct ind_variant {
    uint64_t hash;
    uint64_t text_hash; /* of the example: the smallest there was */
    uint32_t next;      /* the next of its shape: index + 1 */
    uint32_t count;
    uint16_t length;
    char *text;      /* the example */
    uint32_t *types; /* of each value: bits of enum ind_type that were seen */
};

struct ind_shape {
    uint64_t hash;
    uint64_t count; /* of all its texts */
    uint32_t first; /* of its variants: index + 1; 0: none */
    uint32_t variants;
    uint8_t level; /* only variants whose hash begins with so many zeros are kept */
    uint8_t app_length;
    uint16_t words, values; /* tokens that are words, and that are values */
    char app[IND_LEARN_APP];
};

/* Variants that are to become one layout. */
struct ind_learned_group {
    const struct ind_shape *shape;
    struct ind_variant **list;
    size_t count;
    uint64_t texts; /* of the variants that are kept */
};

/* ---- divide.c ---- */

/* Takes the variants of a shape apart, and calls `found` for each group; reorders `list`. False where memory
 * is out, or `found` says so. */
bool ind_learn_divide(const struct ind_shape *shape, struct ind_variant **list, size_t count,
                      uint64_t at_least, bool (*found)(void *context, const struct ind_learned_group *group),
                      void *context);

/* ---- layout.c ---- */

/* Writes the layout of a group; false where it would have hardly a word that is always there, or fits no
 * layout. *literals: words in it. */
bool ind_learn_write(const struct ind_learned_group *group, struct ind_buffer *layout, size_t *literals);

#endif
