#include "core/learn/tokens.h"

/* What ends a word: white space, and signs that stand between. */
static const bool ends[256] = {
    ['\t'] = true, ['\n'] = true, ['\v'] = true, ['\f'] = true, ['\r'] = true, [' '] = true, [','] = true,
    [';'] = true,  ['('] = true,  [')'] = true,  ['['] = true,  [']'] = true,  ['{'] = true, ['}'] = true,
    ['<'] = true,  ['>'] = true,  ['"'] = true,  ['\''] = true, ['='] = true,  ['|'] = true};

static bool ends_run(char c)
{
    return ends[(unsigned char)c];
}

/* What belongs to the sentence where it stands behind a word. */
static bool is_stop(char c)
{
    return c == '.' || c == ':' || c == '!' || c == '?';
}

/* "Nov 23 …" */
static bool is_month(const char *at, const char *end)
{
    return end - at > 3 && *at >= 'A' && *at <= 'S' && ind_is_alpha(at[1]) && ind_is_alpha(at[2]) &&
           at[3] == ' ';
}

/* Whether something that takes a value may end there: the sentence goes on, or a sign that separates. */
static bool is_end(const char *start, const char *at, const char *end)
{
    if (at == end || ends_run(*at))
        return true;
    return is_stop(*at) && (at + 1 == end || ends_run(at[1])) && ind_type_boundary(start, at, end);
}

/* An address with a port, "192.0.2.9:514", is two values with a colon between. */
static bool is_before_port(enum ind_type type, const char *at, const char *end)
{
    return type == IND_TYPE_IP && end - at > 1 && (*at == ':' || *at == '/') && ind_is_digit(at[1]);
}

static bool has_letter(const char *at, const char *end)
{
    while (at < end && !ind_is_alpha(*at))
        at++;
    return at < end;
}

/* What a run of bytes holds. */
enum {
    HAS_DIGIT = 1,
    HAS_SIGN = 2, /* of an address of mail, or of what a mask has put there */
    HAS_POINT = 4,
    HAS_COLON = 8,
    HAS_DASH = 16
};
static const unsigned char holds[256] = {
    ['0'] = 1, ['1'] = 1, ['2'] = 1, ['3'] = 1, ['4'] = 1, ['5'] = 1, ['6'] = 1, ['7'] = 1,
    ['8'] = 1, ['9'] = 1, ['@'] = 2, ['*'] = 2, ['.'] = 4, [':'] = 8, ['-'] = 16};

static bool is_plain_name(const char *at, const char *end)
{
    while (at < end && (ind_is_alpha(*at) || ind_is_digit(*at)))
        at++;
    return at == end;
}

/* Values that are worth a type; a span and a time may go on behind a space. Where several take all of it, the
 * narrowest. */
static const char *find_value(const char *at, const char *end, const char *run, unsigned has, uint8_t *type)
{
    static const enum ind_type types[] = {IND_TYPE_TIME, IND_TYPE_IP,      IND_TYPE_MAC, IND_TYPE_DURATION,
                                          IND_TYPE_INT,  IND_TYPE_DECIMAL, IND_TYPE_HEX, IND_TYPE_INTERFACE,
                                          IND_TYPE_PATH, IND_TYPE_HOST};
    /* What such a type always has: a look at it is quicker than a try. A date with the name of a month has
     * none. */
    static const unsigned char needs[IND_TYPES] = {[IND_TYPE_TIME] = HAS_COLON | HAS_DASH,
                                                   [IND_TYPE_IP] = HAS_POINT | HAS_COLON,
                                                   [IND_TYPE_MAC] = HAS_COLON | HAS_DASH | HAS_POINT,
                                                   [IND_TYPE_DECIMAL] = HAS_POINT,
                                                   [IND_TYPE_HOST] = HAS_POINT};
    for (size_t i = 0; i < sizeof types / sizeof *types; i++) {
        if (needs[types[i]] && !(has & needs[types[i]]) && (types[i] != IND_TYPE_TIME || ind_is_digit(*at)))
            continue;
        const char *stop = ind_type_scan(types[i], at, end);
        if (!stop || stop == at || !(is_end(at, stop, end) || is_before_port(types[i], stop, end)))
            continue;
        if (types[i] == IND_TYPE_DURATION && !has_letter(at, stop) && !memchr(at, ':', (size_t)(stop - at)))
            continue; /* a number alone */
        if (types[i] == IND_TYPE_HEX && stop - at < 4)
            continue;
        if (types[i] == IND_TYPE_HOST && (!memchr(at, '.', (size_t)(stop - at)) || !has_letter(at, stop)))
            continue;
        if (stop < run && types[i] != IND_TYPE_IP)
            continue; /* only the beginning of what stands there */
        if (types[i] == IND_TYPE_INTERFACE && is_plain_name(at, stop))
            continue; /* "eth0", but "ssh2" too */
        *type = (uint8_t)types[i];
        return stop;
    }
    return NULL;
}

static bool is_one_of(struct ind_slice word, const char *const *words)
{
    for (const char first = word.length ? ind_lower(word.at[0]) : '\0'; *words; words++)
        if (**words == first && ind_slice_equal_nocase(word, ind_slice_of(*words)))
            return true;
    return false;
}

bool ind_is_small_word(struct ind_slice word)
{
    static const char *const words[] = {"a",    "an",   "the",  "of",    "is",   "was",  "are",   "has",
                                        "been", "in",   "on",   "at",    "by",   "for",  "with",  "and",
                                        "or",   "to",   "from", "after", "via",  "as",   "be",    "had",
                                        "have", "were", "will", "not",   "than", "over", "under", "into",
                                        "out",  "up",   "down", "no",    "it",   "its",  "this",  NULL};
    return is_one_of(word, words);
}

/* Letters and digits together are names of devices and the like, but for the names of protocols. */
static bool is_protocol(struct ind_slice word)
{
    static const char *const protocols[] = {"ssh1", "ssh2",  "ipv4",  "ipv6",    "md5", "sha1", "sha256",
                                            "x509", "dot1x", "http2", "v1",      "v2",  "v3",   "v4",
                                            "l2",   "l3",    "utf-8", "ieee802", NULL};
    return word.at[0] == '%' || is_one_of(word, protocols);
}

/* What follows is a name or a secret. */
static bool is_in_front_of_names(struct ind_slice word)
{
    static const char *const words[] = {"user",   "username", "login",      "account",   "password",
                                        "passwd", "secret",   "passphrase", "community", "key",
                                        "token",  "pin",      NULL};
    static const bool first[256] = {['u'] = true, ['l'] = true, ['a'] = true, ['p'] = true,
                                    ['s'] = true, ['c'] = true, ['k'] = true, ['t'] = true};
    return word.length && first[(unsigned char)ind_lower(word.at[0])] && is_one_of(word, words);
}

/* Names, secrets and addresses of people are never literal text. */
static bool is_never_literal(struct ind_slice word, unsigned has, struct ind_slice before)
{
    return has & HAS_SIGN || word.length > 40 || (has & HAS_DIGIT && !is_protocol(word)) ||
           (is_in_front_of_names(before) && !ind_is_small_word(word));
}

struct reading {
    struct ind_slice text;
    struct ind_token *tokens;
    size_t count;
    struct ind_slice word; /* the last one */
    bool full;
};

static void add(struct reading *reading, enum ind_token_kind kind, unsigned type, const char *at,
                const char *end)
{
    if (reading->count == IND_LEARN_TOKENS) {
        reading->full = true;
        return;
    }
    reading->tokens[reading->count++] = (struct ind_token){
        (uint8_t)kind, (uint8_t)type, (uint16_t)(at - reading->text.at), (uint16_t)(end - at)};
}

static void add_word(struct reading *reading, const char *at, const char *end, unsigned has)
{
    const struct ind_slice word = {at, (size_t)(end - at)};
    const bool secret = is_never_literal(word, has, reading->word);
    add(reading, secret ? IND_TOKEN_SECRET : IND_TOKEN_WORD, 0, at, end);
    reading->word = word;
}

/* Two or more keys with values. */
static const char *find_pairs(const char *at, const char *end)
{
    const char *stop = ind_type_scan(IND_TYPE_PAIRS, at, end);
    size_t equals = 0;
    for (const char *next = at; stop && next < stop; next++)
        equals += *next == '=';
    return equals > 1 ? stop : NULL;
}

/* From a byte that is no white space: a token or two, and the place behind. */
static const char *read_token(struct reading *reading, const char *at, const char *end)
{
    const char *run = at, *stop;
    uint8_t type;
    unsigned has = 0;
    while (run < end && !ends_run(*run))
        has |= holds[(unsigned char)*run++];
    if (*at == ':' ||
        (*at == '/' && reading->count && reading->tokens[reading->count - 1].type == IND_TYPE_IP &&
         reading->tokens[reading->count - 1].kind == IND_TOKEN_VALUE)) {
        add(reading, IND_TOKEN_SIGN, 0, at, at + 1); /* in front of a port, or of a prefix */
        return at + 1;
    }
    if (is_stop(*at) && (at + 1 == end || ends_run(at[1]) || is_stop(at[1]))) {
        add(reading, IND_TOKEN_SIGN, 0, at, at + 1);
        return at + 1;
    }
    if (run == at) {
        if (*at == '{' && (stop = ind_type_scan(IND_TYPE_JSON, at, end)) != NULL) {
            add(reading, IND_TOKEN_JSON, IND_TYPE_JSON, at, stop);
            return stop;
        }
        if ((*at == '"' || *at == '\'') && (stop = ind_type_scan(IND_TYPE_QUOTED, at, end)) != NULL &&
            is_end(at, stop, end)) {
            add(reading, IND_TOKEN_QUOTED, IND_TYPE_QUOTED, at, stop);
            return stop;
        }
        add(reading, IND_TOKEN_SIGN, 0, at, at + 1);
        return at + 1;
    }
    if (run < end && *run == '=' && (stop = find_pairs(at, end)) != NULL) {
        add(reading, IND_TOKEN_PAIRS, IND_TYPE_PAIRS, at, stop);
        return stop;
    }
    while (run > at + 1 && is_stop(run[-1]))
        run--;
    if ((has & HAS_DIGIT || *at == '/' || is_month(at, end)) &&
        (stop = find_value(at, end, run, has, &type)) != NULL) {
        add(reading, IND_TOKEN_VALUE, type, at, stop);
        reading->word = IND_NOTHING;
        return stop;
    }
    /* A sign in front of a word, as in "-c" or "%LINK", is part of it. */
    add_word(reading, at, run, has);
    return run;
}

size_t ind_tokens_read(struct ind_slice text, struct ind_token tokens[IND_LEARN_TOKENS])
{
    struct reading reading = {.text = text, .tokens = tokens};
    const struct ind_slice trimmed = ind_type_trim(text);
    if (text.length > IND_LEARN_TEXT || trimmed.length == 0)
        return 0;
    for (const char *at = trimmed.at, *end = at + trimmed.length; at < end && !reading.full;) {
        const char *next = ind_type_past_blanks(at, end);
        if (next > at)
            add(&reading, IND_TOKEN_BLANK, 0, at, next);
        at = next < end ? read_token(&reading, next, end) : next;
    }
    return reading.full ? 0 : reading.count;
}
