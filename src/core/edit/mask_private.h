/* core/edit/mask_private.h: what each kind looks like, for the files of masks only: mask.c asks, mask_kinds.c
 * and mask_phone.c answer. */
#ifndef IND_CORE_EDIT_MASK_PRIVATE_H
#define IND_CORE_EDIT_MASK_PRIVATE_H

#include "core/edit/mask.h"

/* One that `at` begins, or stands in the middle of (an e-mail address at its @); 0: none. */
struct ind_mask_text {
    const char *start, *end;
};
size_t ind_mask_ipv4(const struct ind_mask_text *text, const char *at, const char **skip);
size_t ind_mask_ipv6(const struct ind_mask_text *text, const char *at);
size_t ind_mask_mac(const struct ind_mask_text *text, const char *at);
size_t ind_mask_card(const struct ind_mask_text *text, const char *at);
size_t ind_mask_phone(const struct ind_mask_text *text, const char *at);
bool ind_mask_email(const struct ind_mask_text *text, const char *at, struct ind_slice *found);
/* `word`: letters and digits; what is found is the value behind it. */
bool ind_mask_secret(const struct ind_mask_text *text, struct ind_slice word, struct ind_slice *found);

/* What a word is made of. */
static inline bool ind_mask_is_word(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c);
}

/* How many digits stand at `at`, up to `most`. */
static inline size_t ind_mask_digits(const struct ind_mask_text *text, const char *at, size_t most)
{
    size_t count = 0;
    while (count < most && at + count < text->end && ind_is_digit(at[count]))
        count++;
    return count;
}

#endif
