/* key=value, bare or quoted, as firewalls and kernels write it. */
#include "core/base/mask.h"
#include "core/payload/payload_private.h"

static bool is(char c, unsigned kind)
{
    return (ind_byte_kinds[(unsigned char)c] & kind) != 0;
}

static bool ends_value(const char *at, const char *end)
{
    return at == end || is(*at, IND_BEFORE_KEY) || *at == ')' || *at == ']' || *at == '}';
}

/* Behind the quote that closes what begins at `at`; NULL where none does. */
static const char *skip_quoted(const char *at, const char *end)
{
    char quote = *at++;
    for (;;) {
        at = ind_scan_either(at, end, quote, '\\');
        if (at == end)
            return NULL;
        if (*at == quote)
            return ends_value(at + 1, end) ? at + 1 : NULL;
        at += end - at > 1 ? 2 : 1;
    }
}

static bool key_follows(const char *at, const char *end)
{
    const char *stop = at;
    while (stop < end && is(*stop, IND_IN_KEY))
        stop++;
    return stop > at && stop < end && *stop == '=' && is(*at, IND_BEGINS_KEY);
}

static bool ends_word(char c)
{
    return c == ' ' || c == '\t';
}

/* Up to a space or tab, or to a comma or semicolon that another key follows; one at the end is no part of it,
 * nor is a bracket that was not opened in it. */
static const char *skip_bare(const char *at, const char *end)
{
    const char *stop = ind_scan_three(at, end, ' ', ',', ';');
    const char *tab = memchr(at, '\t', (size_t)(stop - at));
    if (tab) /* nothing behind it counts */
        stop = end = tab;
    while (stop < end && *stop != ' ' && stop + 1 < end && !ends_word(stop[1]) &&
           !key_follows(stop + 1, end)) {
        const char *from = stop + 1;
        stop = ind_scan_three(from, end, ' ', ',', ';');
        if ((tab = memchr(from, '\t', (size_t)(stop - from))) != NULL)
            stop = end = tab;
    }
    if (stop == at || is(stop[-1], IND_IN_KEY))
        return stop;
    static const char closing[] = ")]}", opening[] = "([{";
    const char *bracket = stop[-1] ? strchr(closing, stop[-1]) : NULL;
    if (bracket && !memchr(at, opening[bracket - closing], (size_t)(stop - at)))
        stop--;
    return stop;
}

const char *ind_pairs_end(const char *at, const char *end)
{
    enum { LONGEST_KEY = 128 }; /* bounds what is looked at in vain */
    const char *last = NULL;
    if (at >= end || !memchr(at, '=', end - at > LONGEST_KEY ? LONGEST_KEY + 1 : (size_t)(end - at)))
        return NULL;
    while (key_follows(at, end)) {
        const char *value = (const char *)memchr(at, '=', (size_t)(end - at)) + 1;
        bool quoted = value < end && (*value == '"' || *value == '\'');
        last = quoted ? skip_quoted(value, end) : NULL;
        last = last ? last : skip_bare(value, end);
        for (at = last; at < end && (ends_word(*at) || *at == ',' || *at == ';');)
            at++;
    }
    return last;
}

/* "prefix.name" in the scratch memory; the name itself where there is no room. */
static IND_COLD struct ind_slice prefixed(struct ind_slice prefix, struct ind_slice name,
                                          struct ind_payload *payload)
{
    struct ind_buffer *scratch = &payload->scratch;
    size_t start = scratch->length;
    if (!ind_buffer_room(scratch, prefix.length + 1 + name.length))
        return name;
    ind_buffer_slice(scratch, prefix);
    ind_buffer_byte(scratch, '.');
    ind_buffer_slice(scratch, name);
    return (struct ind_slice){scratch->at + start, scratch->length - start};
}

/* The next `:"`, or the end. */
static const char *find_colon(const char *at, const char *end)
{
    for (const char *quote = at; quote < end; quote++) {
        quote = memchr(quote, '"', (size_t)(end - quote));
        if (!quote)
            break;
        if (quote > at && quote[-1] == ':')
            return quote - 1;
    }
    return end;
}

/* Whether the text begins with key:"; only then colons are looked for. */
static bool begins_with_colon(const char *at, const char *end)
{
    while (at < end && (*at == '[' || *at == ' '))
        at++;
    while (at < end && is(*at, IND_IN_KEY))
        at++;
    return end - at > 1 && at[0] == ':' && at[1] == '"';
}

/* The value behind the sign at `sign`, and where it ends; NULL where there is none: behind a colon it is
 * quoted, and a semicolon follows. */
static const char *read_value(const char *sign, const char *end, struct ind_slice *value,
                              struct ind_payload *payload)
{
    const char *at = sign + 1;
    bool quoted = at < end && (*at == '"' || *at == '\'');
    const char *stop = quoted ? skip_quoted(at, end) : NULL;
    if (*sign == ':' && (!stop || stop == end || *stop != ';'))
        return NULL;
    if (stop) {
        *value = (struct ind_slice){at + 1, (size_t)(stop - at) - 2};
        *value = ind_payload_undo(*value, *at == '"' ? "\"\\" : "'\\", payload);
    } else {
        stop = skip_bare(at, end);
        *value = (struct ind_slice){at, (size_t)(stop - at)};
    }
    return stop;
}

/* Whether a key stands in front of `sign`, from `key` on. */
static IND_INLINE bool is_key(const char *key, const char *sign, const char *floor)
{
    return key < sign && is(*key, IND_BEGINS_KEY) && (key == floor || is(key[-1], IND_BEFORE_KEY));
}

/* False where there is no room for more. */
static IND_INLINE bool add_pair(struct ind_slice prefix, struct ind_slice name, struct ind_slice value,
                                struct ind_payload *payload)
{
    if (!ind_payload_add(payload, prefix.length ? prefixed(prefix, name, payload) : name, value))
        return false;
    payload->kinds |= IND_PAYLOAD_PAIRS;
    return true;
}

/* The plain way; `colons`: there are some in front of quoted values among them. */
static void read_signs(bool colons, const char *at, const char *end, struct ind_slice prefix,
                       struct ind_payload *payload)
{
    const char *floor = at; /* no key reaches back behind the value before it */
    const char *equals = NULL, *colon = colons ? NULL : end;
    while (at < end) {
        if (!equals || equals < at) {
            equals = memchr(at, '=', (size_t)(end - at));
            equals = equals ? equals : end;
        }
        colon = !colon || colon < at ? find_colon(at, end) : colon;
        const char *sign = equals < colon ? equals : colon, *key = sign;
        if (sign == end)
            return;
        while (key > floor && is(key[-1], IND_IN_KEY))
            key--;
        at = sign + 1;
        struct ind_slice value;
        if (!is_key(key, sign, floor))
            continue;
        const char *stop = read_value(sign, end, &value, payload);
        if (!stop)
            continue;
        if (!add_pair(prefix, (struct ind_slice){key, (size_t)(sign - key)}, value, payload))
            return;
        at = floor = stop;
    }
}

#ifdef IND_SSE2
/* A block of 64 bytes and what stands in it; behind the end of the text nothing does. */
struct block {
    const char *base;
    struct ind_pair_masks masks;
};

static void look(struct block *block, const char *at, const char *end)
{
    char padded[IND_BLOCK] = {0};
    block->base = at;
    if (end - at < IND_BLOCK) {
        memcpy(padded, at, (size_t)(end - at));
        at = padded;
    }
    ind_mask_pairs(at, &block->masks);
}

/* The next sign at or behind `at`, in a block that is then looked at; `end`: there is none. */
static const char *find_equals(struct block *block, const char *at, const char *end)
{
    for (;;) {
        if (at - block->base >= IND_BLOCK)
            look(block, at, end);
        const uint64_t equals = block->masks.equals >> (at - block->base);
        if (equals)
            return at + ind_lowest_bit(equals);
        if (end - block->base <= IND_BLOCK)
            return end;
        at = block->base + IND_BLOCK;
    }
}

/* Where the key in front of `sign`, which is in the block, begins: not before `floor`. */
static const char *find_key(const struct block *block, const char *sign, const char *floor)
{
    const uint64_t before = ~block->masks.in_key & ((UINT64_C(1) << (sign - block->base)) - 1);
    const char *key = before ? block->base + ind_highest_bit(before) + 1 : block->base;
    if (key <= floor)
        return floor;
    while (!before && key > floor && is(key[-1], IND_IN_KEY))
        key--;
    return key;
}

/* The end of a bare value as most have it, up to a blank; NULL where skip_bare must look. */
static const char *find_end(struct block *block, const char *at, const char *end)
{
    uint64_t ends = at - block->base < IND_BLOCK ? block->masks.ends >> (at - block->base) : 0;
    if (!ends && end - block->base > IND_BLOCK) {
        look(block, at, end);
        ends = block->masks.ends;
    }
    if (!ends)
        return NULL;
    const char *stop = at + ind_lowest_bit(ends);
    return ends_word(*stop) && (stop == at || is(stop[-1], IND_IN_KEY)) ? stop : NULL;
}

/* The texts that have only equals signs, as nearly all do: the same, by masks. */
static void read_equals(const char *at, const char *end, struct ind_slice prefix, struct ind_payload *payload)
{
    struct block block;
    const char *floor = at;
    look(&block, at, end);
    for (;;) {
        const char *sign = find_equals(&block, at, end);
        if (sign == end)
            return;
        const char *key = find_key(&block, sign, floor);
        at = sign + 1;
        struct ind_slice value;
        if (!is_key(key, sign, floor))
            continue;
        const char *stop = at < end && *at != '"' && *at != '\'' ? find_end(&block, at, end) : NULL;
        if (stop)
            value = (struct ind_slice){at, (size_t)(stop - at)};
        else
            stop = read_value(sign, end, &value, payload);
        if (!add_pair(prefix, (struct ind_slice){key, (size_t)(sign - key)}, value, payload))
            return;
        at = floor = stop;
    }
}
#endif

void ind_payload_read_pairs(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload)
{
    const char *end = text.at + text.length;
    if (text.length == 0)
        return;
    const bool colons = memchr(text.at, '"', text.length) && begins_with_colon(text.at, end);
    if (!colons && !memchr(text.at, '=', text.length))
        return;
#ifdef IND_SSE2
    if (!colons) {
        read_equals(text.at, end, prefix, payload);
        return;
    }
#endif
    read_signs(colons, text.at, end, prefix, payload);
}
