/* What each kind looks like. All of it is bounded: a look at one place takes so many steps at most, or steps
 * that no other look takes again. */
#include "core/base/address.h"
#include "core/edit/mask_private.h"

static bool ends_at(const struct ind_mask_text *text, const char *at)
{
    return at == text->end || !ind_mask_is_word(*at);
}

/* ---- Addresses ---- */

/* Longer runs of numbers and points are versions or object identifiers: nothing in them is looked at again
 * (*skip). */
size_t ind_mask_ipv4(const struct ind_mask_text *text, const char *at, const char **skip)
{
    const char *here = at;
    unsigned parts = 0;
    for (;;) {
        size_t count = ind_mask_digits(text, here, 4);
        unsigned number = 0;
        for (size_t i = 0; i < count; i++)
            number = number * 10 + (unsigned)(here[i] - '0');
        if (count == 0 || count > 3 || number > 255)
            return 0;
        here += count;
        if (++parts == 4)
            break;
        if (here == text->end || *here != '.')
            return 0;
        here++;
    }
    if (text->end - here > 1 && *here == '.' && ind_is_digit(here[1])) {
        while (here < text->end && (*here == '.' || ind_is_digit(*here)))
            here++;
        *skip = here;
        return 0;
    }
    return ends_at(text, here) ? (size_t)(here - at) : 0;
}

size_t ind_mask_ipv6(const struct ind_mask_text *text, const char *at)
{
    struct ind_address address;
    size_t length = 0, colons = 0;
    while (length < IND_ADDRESS_WIDTH && at + length < text->end &&
           (ind_is_hex(at[length]) || at[length] == ':' || at[length] == '.'))
        colons += at[length++] == ':';
    if (colons < 2 || (length < IND_ADDRESS_WIDTH && !ends_at(text, at + length)))
        return 0;
    /* What ends a sentence is not the address's: "fe80::1: up", "fe80::1." */
    while (length > 2 && (at[length - 1] == '.' || (at[length - 1] == ':' && at[length - 2] != ':')))
        length--;
    if (length > 3 && at[length - 1] == ':' && at[length - 2] == ':' && at[length - 3] == ':')
        length--;
    return ind_address_read((struct ind_slice){at, length}, &address) ? length : 0;
}

static size_t groups_of_hex(const struct ind_mask_text *text, const char *at, size_t groups, size_t digits,
                            char between)
{
    const char *here = at;
    for (size_t g = 0; g < groups; g++) {
        if (g > 0 && (here == text->end || *here++ != between))
            return 0;
        for (size_t i = 0; i < digits; i++)
            if (here == text->end || !ind_is_hex(*here++))
                return 0;
    }
    bool more = text->end - here > 1 && *here == between && ind_is_hex(here[1]);
    return ends_at(text, here) && !more ? (size_t)(here - at) : 0;
}

size_t ind_mask_mac(const struct ind_mask_text *text, const char *at)
{
    bool inside = at - text->start > 1 && (at[-1] == ':' || at[-1] == '-') && ind_is_hex(at[-2]) &&
                  text->end - at > 2 && at[2] == at[-1];
    if (text->end - at < 14)
        return 0;
    if (at[4] == '.')
        return groups_of_hex(text, at, 3, 4, '.');
    if (inside || (at[2] != ':' && at[2] != '-'))
        return 0;
    size_t length = groups_of_hex(text, at, 6, 2, at[2]);
    /* As packet filters write an Ethernet header: to, from, and the type of what it carries. */
    return length ? length : groups_of_hex(text, at, 14, 2, at[2]);
}

static bool in_name(char c)
{
    return ind_mask_is_word(c) || c == '.' || c == '_' || c == '%' || c == '+' || c == '-' ||
           (unsigned char)c >= 0x80;
}

bool ind_mask_email(const struct ind_mask_text *text, const char *at, struct ind_slice *found)
{
    const char *from = at, *to = at + 1, *dot = NULL;
    while (from > text->start && in_name(from[-1]))
        from--;
    while (from < at && *from == '.')
        from++;
    while (to < text->end && (ind_mask_is_word(*to) || *to == '-' || *to == '.')) {
        dot = *to == '.' && to + 1 < text->end && ind_is_alpha(to[1]) ? to : dot;
        to++;
    }
    if (from == at || !dot || dot == at + 1)
        return false;
    while (to[-1] == '.' || to[-1] == '-')
        to--;
    if (to - dot < 3)
        return false;
    *found = (struct ind_slice){from, (size_t)(to - from)};
    return true;
}

/* ---- Numbers ---- */

/* The check digit of ISO/IEC 7812-1 annex B. */
static bool checks(const char *digits, size_t count)
{
    unsigned sum = 0;
    for (size_t i = 0; i < count; i++) {
        unsigned digit = (unsigned)(digits[count - 1 - i] - '0') * (i % 2 ? 2 : 1);
        sum += digit > 9 ? digit - 9 : digit;
    }
    return sum % 10 == 0;
}

enum { CARD_LEAST = 13, CARD_MOST = 19 };

/* All in one, or a first group of four with others behind it, by single spaces or hyphens. */
size_t ind_mask_card(const struct ind_mask_text *text, const char *at)
{
    char digits[CARD_MOST];
    size_t count = 0, best = 0;
    const char *here = at;
    bool all_same = true;
    char between = '\0';
    if (at > text->start &&
        (at[-1] == '.' || (at[-1] == '-' && at - text->start > 1 && ind_mask_is_word(at[-2]))))
        return 0;
    for (;;) {
        size_t group = ind_mask_digits(text, here, CARD_MOST + 1);
        if (group == 0 || count + group > CARD_MOST || (count > 0 && group < 2))
            break;
        for (size_t i = 0; i < group; i++) {
            digits[count++] = here[i];
            all_same &= here[i] == digits[0];
        }
        here += group;
        if (!ends_at(text, here))
            break;
        if (count >= CARD_LEAST && !all_same && checks(digits, count))
            best = (size_t)(here - at);
        if (here == text->end || (*here != ' ' && *here != '-') || (between && *here != between) ||
            (count == group && group != 4))
            break;
        between = *here++;
    }
    return best;
}

/* ---- What stands behind password ---- */

struct secret_word {
    struct ind_slice text;
    bool strong; /* also with nothing but a space before its value */
};

#define STRONG(text)                                                                                         \
    {                                                                                                        \
        IND_LITERAL(text), true                                                                              \
    }
#define WEAK(text)                                                                                           \
    {                                                                                                        \
        IND_LITERAL(text), false                                                                             \
    }
static const struct secret_word secret_words[] = {
    STRONG("password"), STRONG("passwd"), STRONG("passphrase"), STRONG("pwd"),      STRONG("secret"),
    STRONG("psk"),      WEAK("pass"),     STRONG("community"),  WEAK("token"),      STRONG("bearer"),
    WEAK("passcode"),   WEAK("key"),      WEAK("apikey"),       WEAK("pin"),        WEAK("secrets"),
    WEAK("passwords"),  WEAK("keys"),     WEAK("credential"),   WEAK("credentials")};

/* Behind a strong word and a space these are the sentence's, not a value. */
static const char *const no_values[] = {"for",         "from",      "is",
                                        "was",         "has",       "not",
                                        "and",         "or",        "to",
                                        "of",          "in",        "on",
                                        "by",          "at",        "with",
                                        "change",      "changed",   "reset",
                                        "expired",     "expires",   "failed",
                                        "failure",     "incorrect", "invalid",
                                        "wrong",       "required",  "accepted",
                                        "rejected",    "mismatch",  "check",
                                        "auth",        "policy",    "length",
                                        "file",        "updated",   "set",
                                        "too",         "must",      "will",
                                        "can",         "cannot",    "attempt",
                                        "attempts",    "prompt",    "does",
                                        "did",         "string",    "that",
                                        "this",        "than",      "authentication",
                                        "verification"};

static bool same_word(struct ind_slice word, const char *text)
{
    return ind_slice_equal_nocase(word, ind_slice_of(text));
}

/* The word itself, or the end of one written likeThis. */
static const struct secret_word *secret_word(struct ind_slice word)
{
    for (size_t i = 0; i < sizeof secret_words / sizeof *secret_words; i++) {
        struct ind_slice text = secret_words[i].text;
        if (word.length < text.length)
            continue;
        struct ind_slice tail = ind_slice_from(word, word.length - text.length);
        bool camel = word.length > text.length && tail.at[0] >= 'A' && tail.at[0] <= 'Z' &&
                     tail.at[-1] >= 'a' && tail.at[-1] <= 'z';
        if ((camel || word.length == text.length) && ind_lower(tail.at[0]) == text.at[0] &&
            ind_slice_equal_nocase(tail, text))
            return &secret_words[i];
    }
    return NULL;
}

static const char *behind_blanks(const struct ind_mask_text *text, const char *at)
{
    while (at < text->end && (*at == ' ' || *at == '\t'))
        at++;
    return at;
}

/* In quotes all that is in them; otherwise up to a space or what separates values. */
static bool find_value(const struct ind_mask_text *text, const char *at, struct ind_slice *found)
{
    char quote = '\0';
    bool nested = text->end - at > 1 && at[0] == '\\' && at[1] == '"'; /* {\"password\":\"…\"} in a text */
    at += nested;
    if (at < text->end && (*at == '"' || *at == '\''))
        quote = *at++;
    const char *end = at;
    while (end < text->end && (quote ? *end != quote : *end == '\0' || !strchr(" \t\r\n,;&)]}\"'<>", *end)))
        end += quote && !nested && *end == '\\' && text->end - end > 1 ? 2 : 1;
    if (nested && end > at && end < text->end && end[-1] == '\\')
        end--;
    *found = (struct ind_slice){at, (size_t)(end - at)};
    return end > at;
}

static struct ind_slice word_at(const struct ind_mask_text *text, const char *at)
{
    const char *end = at;
    while (end < text->end && ind_mask_is_word(*end) && end - at < 40)
        end++;
    return (struct ind_slice){at, (size_t)(end - at)};
}

static bool is_no_value(struct ind_slice word)
{
    for (size_t i = 0; i < sizeof no_values / sizeof *no_values; i++)
        if (same_word(word, no_values[i]))
            return true;
    return false;
}

/* "password 7 9F2B61E0C4D7", "secret tern4", "password is tern4" */
static bool find_bare_value(const struct ind_mask_text *text, const char *at, bool strong,
                            struct ind_slice *found)
{
    struct ind_slice word = word_at(text, at);
    const char *next = behind_blanks(text, word.at + word.length);
    bool alone = next > word.at + word.length && next < text->end;
    if (word.length == 1 && ind_is_digit(*word.at) && alone)
        return find_value(text, next, found);
    if (!strong)
        return false;
    if (same_word(word, "is") && alone)
        return !is_no_value(word_at(text, next)) && find_value(text, next, found);
    return !is_no_value(word) && find_value(text, at, found);
}

bool ind_mask_secret(const struct ind_mask_text *text, struct ind_slice word, struct ind_slice *found)
{
    const struct secret_word *known = secret_word(word);
    const char *at = word.at + word.length, *behind;
    if (!known || at == text->end)
        return false;
    if (*at == '\\' && text->end - at > 1)
        at++;
    if (at < text->end && (*at == '"' || *at == '\'' || *at == ']'))
        at++;
    behind = behind_blanks(text, at);
    if (behind < text->end && (*behind == '=' || *behind == ':')) {
        while (behind < text->end && (*behind == '=' || *behind == ':' || *behind == '>'))
            behind++;
        return find_value(text, behind_blanks(text, behind), found);
    }
    return behind > word.at + word.length && behind < text->end &&
           find_bare_value(text, behind, known->strong, found);
}
