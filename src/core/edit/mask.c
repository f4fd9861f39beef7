#include "core/edit/mask_private.h"

static const char *const names[IND_MASK_KINDS] = {"phone", "email", "ipv4", "ipv6", "mac", "card", "secret"};

const char *ind_mask_kind_name(unsigned number)
{
    return names[number];
}

unsigned ind_mask_kind_read(struct ind_slice name)
{
    for (unsigned i = 0; i < IND_MASK_KINDS; i++)
        if (ind_slice_equal(name, ind_slice_of(names[i])))
            return 1u << i;
    return 0;
}

void ind_spans_add(struct ind_spans *spans, size_t from, size_t to)
{
    while (spans->count > 0 && spans->list[spans->count - 1].to >= from) {
        const struct ind_span *last = &spans->list[--spans->count];
        from = last->from < from ? last->from : from;
        to = last->to > to ? last->to : to;
    }
    if (spans->count == spans->room) {
        spans->full = true;
        return;
    }
    spans->list[spans->count++] = (struct ind_span){(uint32_t)from, (uint32_t)to};
}

/* What a byte may be the beginning of. */
enum { WORD = 1, DIGIT = 2, HEX = 4, SIGN = 8, CAPITAL = 16 };
#define L WORD
#define X (WORD | HEX)
#define D (WORD | HEX | DIGIT)
#define S SIGN
static const uint8_t classes[256] = {['0'] = D,           ['1'] = D,           ['2'] = D,
                                     ['3'] = D,           ['4'] = D,           ['5'] = D,
                                     ['6'] = D,           ['7'] = D,           ['8'] = D,
                                     ['9'] = D,           ['a'] = X,           ['b'] = X,
                                     ['c'] = X,           ['d'] = X,           ['e'] = X,
                                     ['f'] = X,           ['g'] = L,           ['h'] = L,
                                     ['i'] = L,           ['j'] = L,           ['k'] = L,
                                     ['l'] = L,           ['m'] = L,           ['n'] = L,
                                     ['o'] = L,           ['p'] = L,           ['q'] = L,
                                     ['r'] = L,           ['s'] = L,           ['t'] = L,
                                     ['u'] = L,           ['v'] = L,           ['w'] = L,
                                     ['x'] = L,           ['y'] = L,           ['z'] = L,
                                     ['A'] = X | CAPITAL, ['B'] = X | CAPITAL, ['C'] = X | CAPITAL,
                                     ['D'] = X | CAPITAL, ['E'] = X | CAPITAL, ['F'] = X | CAPITAL,
                                     ['G'] = L | CAPITAL, ['H'] = L | CAPITAL, ['I'] = L | CAPITAL,
                                     ['J'] = L | CAPITAL, ['K'] = L | CAPITAL, ['L'] = L | CAPITAL,
                                     ['M'] = L | CAPITAL, ['N'] = L | CAPITAL, ['O'] = L | CAPITAL,
                                     ['P'] = L | CAPITAL, ['Q'] = L | CAPITAL, ['R'] = L | CAPITAL,
                                     ['S'] = L | CAPITAL, ['T'] = L | CAPITAL, ['U'] = L | CAPITAL,
                                     ['V'] = L | CAPITAL, ['W'] = L | CAPITAL, ['X'] = L | CAPITAL,
                                     ['Y'] = L | CAPITAL, ['Z'] = L | CAPITAL, ['@'] = S,
                                     ['+'] = S,           ['('] = S,           [':'] = S};
#undef L
#undef X
#undef D
#undef S

static unsigned class_of(char c)
{
    return classes[(unsigned char)c];
}

/* Every kind goes through the text as if it were alone: what one has found does not keep another from looking
 * there. So a set of kinds hides all that any of them would hide. */
struct search {
    unsigned kinds, active; /* bits; active: those that look where the search is now */
    const char *resume[IND_MASK_KINDS];
    const char *next_resume; /* the first of them; the end of the text: all are active */
    struct ind_mask_text text;
    struct ind_spans *spans;
};

/* The kind looks on behind `until`. */
static void rest_until(struct search *search, unsigned kind, const char *until)
{
    unsigned number = 0;
    while (kind >> number != 1)
        number++;
    search->resume[number] = until;
    search->active &= ~kind;
    if (until < search->next_resume)
        search->next_resume = until;
}

static void found(struct search *search, unsigned kind, const char *at, size_t length)
{
    size_t from = (size_t)(at - search->text.start);
    ind_spans_add(search->spans, from, from + length);
    rest_until(search, kind, at + length);
}

/* Those whose rest is over. */
static void resume(struct search *search, const char *at)
{
    search->next_resume = search->text.end;
    search->active = 0;
    for (unsigned i = 0; i < IND_MASK_KINDS; i++) {
        if (!(search->kinds >> i & 1))
            continue;
        if (search->resume[i] <= at)
            search->active |= 1u << i;
        else if (search->resume[i] < search->next_resume)
            search->next_resume = search->resume[i];
    }
}

/* Most numbers are neither, and their first group tells. */
static bool may_be_card(size_t digits, char next)
{
    return digits >= 13 || (digits == 4 && (next == ' ' || next == '-'));
}

static size_t leading_digits(const char *at, const char *end)
{
    const char *stop = at;
    while (stop < end && ind_is_digit(*stop))
        stop++;
    return (size_t)(stop - at);
}

/* A first group, or all of one with what may be an extension glued to it. */
static bool may_be_phone(size_t digits, char next)
{
    return digits >= 7 ||
           (digits <= 6 && (next == ' ' || next == '-' || next == '/' || next == '.' || next == ')'));
}

/* What stands behind a word that has a secret. */
static bool may_lead_to_secret(const char *at)
{
    return *at == ' ' || *at == '=' || *at == ':' || *at == '"' || *at == '\'' || *at == ']' || *at == '\\' ||
           *at == '\t';
}

/* A run that begins with a digit, or of hexadecimal digits only, ends at `end`. */
static void look_at_number(struct search *search, const char *at, const char *end, unsigned common)
{
    const struct ind_mask_text *text = &search->text;
    const unsigned kinds = search->active;
    const char next = end < text->end ? *end : '\0', *skip = end;
    size_t length;
    bool digits = (common & DIGIT) != 0, hex = (common & HEX) != 0;
    if (digits && next == '.' && kinds & IND_MASK_IPV4) {
        if ((length = ind_mask_ipv4(text, at, &skip)) > 0)
            found(search, IND_MASK_IPV4, at, length);
        else if (skip != end)
            rest_until(search, IND_MASK_IPV4, skip);
    }
    if (hex && (next == ':' || next == '-' || next == '.') && kinds & IND_MASK_MAC &&
        (length = ind_mask_mac(text, at)) > 0)
        found(search, IND_MASK_MAC, at, length);
    if (hex && next == ':' && kinds & IND_MASK_IPV6 && (length = ind_mask_ipv6(text, at)) > 0)
        found(search, IND_MASK_IPV6, at, length);
    if (digits && kinds & IND_MASK_CARD && may_be_card((size_t)(end - at), next) &&
        (length = ind_mask_card(text, at)) > 0)
        found(search, IND_MASK_CARD, at, length);
    if (kinds & IND_MASK_PHONE && class_of(*at) & DIGIT && may_be_phone(leading_digits(at, end), next) &&
        (length = ind_mask_phone(text, at)) > 0)
        found(search, IND_MASK_PHONE, at, length);
}

/* Words that begin and end so, or have a capital in them, may be one behind which a secret stands. */
static bool may_be_secret(struct ind_slice word, bool capitals)
{
    const uint32_t begins = 1u << ('p' - 'a') | 1u << ('s' - 'a') | 1u << ('c' - 'a') | 1u << ('t' - 'a') |
                            1u << ('b' - 'a') | 1u << ('k' - 'a') | 1u << 0;
    char c = ind_lower(word.at[0]);
    if (word.length < 3 || word.length > 64 ||
        (!capitals && !(c >= 'a' && c <= 'z' && begins >> (c - 'a') & 1)))
        return false;
    c = word.at[word.length - 1];
    const uint32_t ends = 1u << ('d' - 'a') | 1u << ('e' - 'a') | 1u << ('l' - 'a') | 1u << ('t' - 'a') |
                          1u << ('n' - 'a') | 1u << ('y' - 'a') | 1u << ('s' - 'a') | 1u << ('k' - 'a') |
                          1u << ('r' - 'a');
    c = ind_lower(c);
    return c >= 'a' && c <= 'z' && (ends >> (c - 'a') & 1) != 0;
}

static const char *look_at_word(struct search *search, const char *at)
{
    const char *end = at;
    unsigned common = WORD | DIGIT | HEX, any = 0;
    for (unsigned class; end < search->text.end && (class = class_of(*end)) & WORD; end++) {
        common &= class;
        any |= class;
    }
    struct ind_slice word = {at, (size_t)(end - at)}, value;
    if ((common & HEX) != 0 || class_of(*at) & DIGIT)
        look_at_number(search, at, end, common);
    if (search->active & IND_MASK_SECRET && end < search->text.end &&
        may_be_secret(word, (any & CAPITAL) != 0) && may_lead_to_secret(end) &&
        ind_mask_secret(&search->text, word, &value))
        found(search, IND_MASK_SECRET, value.at, value.length);
    return end;
}

static void look_at_sign(struct search *search, const char *at)
{
    const struct ind_mask_text *text = &search->text;
    const unsigned kinds = search->active;
    struct ind_slice address;
    size_t length;
    bool begins = at == text->start || !(class_of(at[-1]) & WORD);
    if (*at == '@' && kinds & IND_MASK_EMAIL && ind_mask_email(text, at, &address))
        found(search, IND_MASK_EMAIL, address.at, address.length);
    if ((*at == '+' || *at == '(') && begins && kinds & IND_MASK_PHONE &&
        (length = ind_mask_phone(text, at)) > 0)
        found(search, IND_MASK_PHONE, at, length);
    if (*at == ':' && begins && kinds & IND_MASK_IPV6 && (length = ind_mask_ipv6(text, at)) > 0)
        found(search, IND_MASK_IPV6, at, length);
}

void ind_mask_find(unsigned kinds, struct ind_slice text, struct ind_spans *spans)
{
    struct search search = {.kinds = kinds,
                            .active = kinds,
                            .next_resume = text.at + text.length,
                            .text = {text.at, text.at + text.length},
                            .spans = spans};
    const char *at = text.at, *end = text.at + text.length;
    for (unsigned i = 0; i < IND_MASK_KINDS; i++)
        search.resume[i] = at;
    while (at < end) {
        unsigned class = class_of(*at);
        if (at >= search.next_resume)
            resume(&search, at);
        if (class & WORD) {
            at = look_at_word(&search, at);
            continue;
        }
        if (class & SIGN)
            look_at_sign(&search, at);
        at++;
    }
}
