/* Telephone numbers as people write them: international behind a plus (ITU-T E.123), national with
 * separators, an extension included. What is only digits is one behind a word such as tel or call, and
 * nowhere else; behind vlan, port, serial and the like nothing is. A look at one place takes a bounded number
 * of steps. */
#include "core/edit/mask_private.h"

enum {
    LEAST = 7,
    MOST = 15, /* ITU-T E.164 */
    GROUPS = 8,
    WORD_LONGEST = 16,
    BEFORE_LONGEST = 4, /* signs between a word and the number */
    EXTENSION_MOST = 6
};

struct phone {
    size_t digits, groups, sizes[GROUPS];
    const char *starts[GROUPS];
    const char *end;                                 /* behind its last digit */
    bool opened;                                     /* its first group is in brackets */
    bool spaces, hyphens, points, slashes, brackets; /* between its groups */
};

/* "x22", "ext. 22", ";ext=22", "extension 22", "#22", with a blank or two before: its length; 0: none. */
static size_t extension_at(const struct ind_mask_text *text, const char *at)
{
    static const char *const names[] = {"extension", "ext", "x", "#"};
    const char *here = at;
    while (here < text->end && here - at < 2 && (*here == ' ' || *here == ',' || *here == ';'))
        here++;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        size_t length = strlen(names[i]);
        struct ind_slice rest = {here, (size_t)(text->end - here)};
        if (rest.length <= length || !ind_slice_starts_nocase(rest, ind_slice_of(names[i])))
            continue;
        const char *number = here + length;
        for (int signs = 0; signs < 2 && number < text->end && strchr(".:= ", *number) && *number; signs++)
            number++;
        size_t digits = ind_mask_digits(text, number, EXTENSION_MOST + 1);
        const char *end = number + digits;
        return digits && digits <= EXTENSION_MOST && (end == text->end || !ind_mask_is_word(*end))
                   ? (size_t)(end - at)
                   : 0;
    }
    return 0;
}

static void note_separator(struct phone *phone, char c)
{
    phone->spaces |= c == ' ';
    phone->hyphens |= c == '-';
    phone->points |= c == '.';
    phone->slashes |= c == '/';
    phone->brackets |= c == '(' || c == ')';
}

/* Groups of digits with up to two separators between. */
static void read_groups(const struct ind_mask_text *text, const char *at, struct phone *phone)
{
    const char *here = at;
    *phone = (struct phone){.end = at};
    bool plus = false;
    while (here < text->end && ((*here == '+' && !plus) || (*here == '(' && !phone->opened))) {
        plus |= *here == '+';
        phone->opened |= *here++ == '(';
    }
    while (phone->groups < GROUPS) {
        struct phone before = *phone;
        const char *group = here;
        while (group < text->end && group - here < 3 && strchr(" -./()", *group) && *group &&
               phone->groups > 0) {
            note_separator(phone, *group);
            group++;
        }
        size_t size = group - here < 3 ? ind_mask_digits(text, group, MOST + 1) : 0;
        bool ends = group + size == text->end || !ind_mask_is_word(group[size]) ||
                    extension_at(text, group + size) > 0;
        if (size == 0 || phone->digits + size > MOST || !ends || (phone->groups > 0 && group == here)) {
            *phone = before;
            return;
        }
        phone->starts[phone->groups] = group;
        phone->sizes[phone->groups++] = size;
        phone->digits += size;
        phone->end = here = group + size;
    }
}

/* ---- What stands around ---- */

static bool is_one_of(struct ind_slice word, const char *const *words, size_t count)
{
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

#define ONE_OF(word, list) is_one_of(word, list, sizeof(list) / sizeof *(list))

/* The word before *at, which is set to its beginning; a few signs may stand between. */
static struct ind_slice word_before(const struct ind_mask_text *text, const char **at)
{
    const char *end = *at;
    while (end > text->start && *at - end < BEFORE_LONGEST && end[-1] != '\0' &&
           strchr(" :=#.\t\"'([\\_-", end[-1]))
        end--;
    const char *from = end;
    while (from > text->start && end - from < WORD_LONGEST && ind_is_alpha(from[-1]))
        from--;
    *at = from;
    return (struct ind_slice){from, (size_t)(end - from)};
}

enum before { NOTHING, PHONE, OTHER };

static enum before what_is_before(const struct ind_mask_text *text, const char *at)
{
    static const char *const phones[] = {
        "tel",       "tels",    "telephone", "phone",    "phones",  "phonenumber", "call", "calls",
        "called",    "caller",  "calling",   "callback", "mobile",  "mob",         "cell", "cellular",
        "cellphone", "fax",     "dial",      "dialed",   "dialled", "dialing",     "sms",  "msisdn",
        "landline",  "hotline", "ring",      "texted",   "telefon", "handset"};
    static const char *const others[] = {
        "vlan",     "vlans", "port",    "ports",    "range",  "ranges",  "serial",  "sn",      "seq",
        "sequence", "id",    "ids",     "pid",      "uid",    "gid",     "byte",    "bytes",   "octets",
        "packets",  "count", "counter", "counters", "offset", "offsets", "oid",     "version", "ver",
        "line",     "lines", "lease",   "channel",  "ticket", "order",   "invoice", "slot",    "unit",
        "ifindex",  "index", "mtu",     "key",      "hash",   "isbn",    "part",    "model",   "build",
        "revision", "rev",   "release", "firmware", "image",  "delta",   "drift",   "skew",    "adjusted",
        "asn",      "as",    "vni",     "vrf",      "label",  "frame",   "frames",  "sector",  "block"};
    static const char *const between[] = {"no", "nr", "num", "number", "numbers", "is",
                                          "to", "on", "at",  "me",     "us"};
    for (int words = 0; words < 3; words++) {
        struct ind_slice word = word_before(text, &at);
        if (ONE_OF(word, phones))
            return PHONE;
        if (ONE_OF(word, others))
            return OTHER;
        if (word.length == 0 || !ONE_OF(word, between))
            break;
    }
    return NOTHING;
}

/* "called 1234567 times" counts. */
static bool counts_something(const struct ind_mask_text *text, const char *end)
{
    static const char *const units[] = {"times", "bytes",    "byte",   "octets", "packets",  "errors",
                                        "ms",    "seconds",  "s",      "us",     "ns",       "kb",
                                        "mb",    "messages", "frames", "flows",  "sessions", "minutes"};
    const char *from = end;
    while (from < text->end && *from == ' ' && from - end < 2)
        from++;
    const char *to = from;
    while (to < text->end && to - from < WORD_LONGEST && ind_is_alpha(*to))
        to++;
    return to > from &&
           is_one_of((struct ind_slice){from, (size_t)(to - from)}, units, sizeof units / sizeof *units);
}

/* It goes on from a time, a date, a fraction, a name. */
static bool goes_on(const struct ind_mask_text *text, const char *at)
{
    if (at == text->start)
        return false;
    char before = at[-1], second = at - text->start > 1 ? at[-2] : ' ';
    if (before == '+' || before == '$' || before == '%' || before == '@' || before == '\\')
        return true;
    if (before == '.' || before == ':' || before == ',')
        return ind_is_digit(second) || (before == ':' && second == ':');
    return before == '-' ||
           ((before == '/' || before == '_') && (ind_mask_is_word(second) || second == ')' || second == ']'));
}

/* What follows is of the same number, of a name, or of something that is counted. */
static bool is_cut_off(const struct ind_mask_text *text, const char *end)
{
    if (end == text->end)
        return false;
    char next = *end, second = text->end - end > 1 ? end[1] : ' ';
    if (next == '_' || next == '%' || next == '=' || next == '@' || (next == '+' && ind_mask_is_word(second)))
        return true;
    return (next == '-' || next == '/' || next == ':' || next == '.' || next == ',') &&
           ind_mask_is_word(second) && !(next == ',' && !ind_is_digit(second)) &&
           !(next == '.' && !ind_is_digit(second));
}

static bool is_hex_pair(const char *at, const char *end)
{
    for (int i = 0; i < 2; i++)
        if (at + i >= end || !ind_is_hex(at[i]))
            return false;
    return at + 2 == end || !ind_mask_is_word(at[2]);
}

/* Bytes in hexadecimal, of which some happen to be digits. */
static bool is_dump(const struct ind_mask_text *text, const struct phone *phone)
{
    const char *first = phone->starts[0], *end = phone->end;
    bool before = first - text->start > 2 && first[-1] == ' ' && is_hex_pair(first - 3, first - 1) &&
                  (first - text->start == 3 || !ind_mask_is_word(first[-4]));
    return before || (text->end - end > 2 && *end == ' ' && is_hex_pair(end + 1, text->end));
}

/* A bracket around all of it, or one that is never closed, is none of its own. */
static bool is_closed(const struct ind_mask_text *text, const struct phone *phone)
{
    const char *behind = phone->groups ? phone->starts[0] + phone->sizes[0] : text->end;
    return behind < text->end && *behind == ')' && phone->groups > 1;
}

/* ---- Which it is ---- */

static bool has_sizes(const struct phone *phone, size_t from, size_t a, size_t b, size_t c)
{
    return phone->groups == from + 3 && phone->sizes[from] == a && phone->sizes[from + 1] == b &&
           phone->sizes[from + 2] == c;
}

static bool is_year(const char *at)
{
    return (at[0] == '1' && at[1] == '9') || (at[0] == '2' && at[1] == '0');
}

static bool is_date(const struct phone *phone)
{
    return (has_sizes(phone, 0, 2, 2, 4) && is_year(phone->starts[2])) ||
           (phone->groups >= 3 && phone->sizes[0] == 4 && is_year(phone->starts[0]) && phone->sizes[1] == 2 &&
            phone->sizes[2] == 2);
}

/* An area and an exchange of the North American plan begin with 2 to 9. */
static bool is_north_american(const struct phone *phone)
{
    size_t area = phone->groups == 4 && phone->sizes[0] == 1 && *phone->starts[0] == '1';
    if (!has_sizes(phone, area, 3, 3, 4))
        return false;
    return *phone->starts[area] >= '2' && *phone->starts[area + 1] >= '2' &&
           (phone->hyphens || phone->points || phone->opened || phone->brackets);
}

/* "0049 30 1234567" */
static bool is_behind_two_zeros(const struct phone *phone)
{
    if (phone->groups < 2 || phone->sizes[0] < 3 || phone->sizes[0] > 6 || phone->starts[0][2] == '0' ||
        phone->digits < 10)
        return false;
    for (size_t i = 1; i < phone->groups; i++)
        if (phone->sizes[i] < 2 || (phone->starts[i][0] == '0' && phone->starts[i][1] == '0'))
            return false;
    return true;
}

/* "020 7946 0123", "(020) 7946 0123", "01 23 45 67 89" */
static bool is_behind_a_zero(const struct ind_mask_text *text, const struct phone *phone)
{
    const size_t *sizes = phone->sizes;
    if (phone->groups < 2 || sizes[0] < 2 || sizes[0] > 5 || phone->digits < 9 || phone->digits > 11)
        return false;
    for (size_t i = 1; i < phone->groups; i++)
        if (sizes[i] < 2)
            return false;
    if (phone->groups == 2 && sizes[0] == sizes[1] && *phone->starts[1] == '0')
        return false; /* a range */
    return !has_sizes(phone, 0, 3, 2, 4) && !(sizes[0] == 2 && sizes[1] == 2 && is_dump(text, phone));
}

static bool is_national(const struct ind_mask_text *text, const struct phone *phone)
{
    const char *first = phone->starts[0];
    if (phone->groups < 2 || is_date(phone))
        return false;
    if (is_north_american(phone))
        return true;
    if (phone->groups == 2 && phone->sizes[0] == 3 && phone->sizes[1] == 4)
        return phone->hyphens && !phone->spaces && *first >= '2' && *phone->starts[1] == '0';
    return *first == '0' && (first[1] == '0' ? is_behind_two_zeros(phone) : is_behind_a_zero(text, phone));
}

/* Behind a plus there is a country, which does not begin with 0: "+0100 2026" is an offset and a year. */
static bool is_international(const struct phone *phone)
{
    bool offset =
        phone->groups > 1 && phone->sizes[0] == 4 && phone->sizes[1] == 4 && is_year(phone->starts[1]);
    return *phone->starts[0] != '0' && !offset && (phone->digits > LEAST || phone->groups > 1);
}

size_t ind_mask_phone(const struct ind_mask_text *text, const char *at)
{
    struct phone phone;
    if (goes_on(text, at))
        return 0;
    read_groups(text, at, &phone);
    size_t extension = phone.groups ? extension_at(text, phone.end) : 0;
    if (*at == '(' && !is_closed(text, &phone))
        return 0;
    if (phone.digits < LEAST || (!extension && is_cut_off(text, phone.end)))
        return 0;
    const bool plus = *at == '+' || (*at == '(' && at + 1 < text->end && at[1] == '+');
    const enum before before = what_is_before(text, at);
    bool is_one = before == OTHER   ? false
                  : plus            ? is_international(&phone)
                  : before == PHONE ? !is_date(&phone) && !counts_something(text, phone.end)
                                    : is_national(text, &phone);
    return is_one ? (size_t)(phone.end - at) + extension : 0;
}
