/* The layout of a group of variants. */
#include "core/learn/learn_private.h"
#include "core/pattern/syntax.h"

enum { NAME = 32 };

/* What becomes of each token of the group's first text. */
struct part {
    struct ind_token token;
    bool varies;     /* a word that is not always the same */
    bool interfaces; /* all of them are names of interfaces, such as "eth0" */
    unsigned types;
};

struct writing {
    struct ind_slice text; /* of the first variant */
    struct part parts[IND_LEARN_TOKENS];
    size_t count, fields, field_end; /* where the last field ends */
    char names[IND_SYNTAX_FIELDS][NAME];
    struct ind_buffer *out;
    bool wide; /* it has a field that takes several words */
};

static bool is_word(const struct part *part)
{
    return part->token.kind == IND_TOKEN_WORD || part->token.kind == IND_TOKEN_SECRET;
}

static void compare(struct writing *writing, const struct ind_variant *variant)
{
    struct ind_token tokens[IND_LEARN_TOKENS];
    const struct ind_slice text = {variant->text, variant->length};
    const size_t count = ind_tokens_read(text, tokens);
    for (size_t i = 0, value = 0; i < count && i < writing->count; i++) {
        struct part *part = &writing->parts[i];
        const struct ind_slice here = {text.at + tokens[i].at, tokens[i].length},
                               first = {writing->text.at + part->token.at, part->token.length};
        if (is_word(part)) {
            const char *end = ind_type_scan(IND_TYPE_INTERFACE, here.at, here.at + here.length);
            part->interfaces &= end == here.at + here.length;
            part->varies |= tokens[i].kind == IND_TOKEN_SECRET || part->token.kind == IND_TOKEN_SECRET ||
                            !ind_slice_equal(here, first);
        }
        if (part->token.kind == IND_TOKEN_VALUE)
            part->types |= variant->types[value++];
    }
}

/* The narrowest type that takes all that was seen. */
static enum ind_type type_of(unsigned types)
{
    static const struct {
        unsigned seen;
        enum ind_type type;
    } joined[] = {{1u << IND_TYPE_INT | 1u << IND_TYPE_DECIMAL, IND_TYPE_DECIMAL},
                  {1u << IND_TYPE_IP | 1u << IND_TYPE_HOST, IND_TYPE_HOST}};
    for (unsigned type = 0; type < IND_TYPES; type++)
        if (types == 1u << type)
            return (enum ind_type)type;
    for (size_t i = 0; i < sizeof joined / sizeof *joined; i++)
        if ((types & ~joined[i].seen) == 0)
            return joined[i].type;
    return types & (1u << IND_TYPE_TIME | 1u << IND_TYPE_DURATION) ? IND_TYPE_TEXT : IND_TYPE_WORD;
}

/* ---- Names ---- */

static const char *noun_of(enum ind_type type, struct ind_slice before)
{
    static const char *const nouns[IND_TYPES] = {
        [IND_TYPE_TIME] = "time",     [IND_TYPE_IP] = "address",          [IND_TYPE_MAC] = "mac",
        [IND_TYPE_INT] = "number",    [IND_TYPE_DECIMAL] = "value",       [IND_TYPE_HEX] = "id",
        [IND_TYPE_DURATION] = "span", [IND_TYPE_INTERFACE] = "interface", [IND_TYPE_PATH] = "path",
        [IND_TYPE_HOST] = "host",     [IND_TYPE_QUOTED] = "quoted",       [IND_TYPE_WORD] = "name",
        [IND_TYPE_TEXT] = "detail"};
    if ((type == IND_TYPE_IP || type == IND_TYPE_HOST) && ind_slice_equal_nocase(before, IND_SLICE("from")))
        return "peer";
    if ((type == IND_TYPE_IP || type == IND_TYPE_HOST) && ind_slice_equal_nocase(before, IND_SLICE("to")))
        return "target";
    return nouns[type] ? nouns[type] : "value";
}

static struct ind_slice word_at(const struct writing *writing, size_t at)
{
    const struct part *part = &writing->parts[at];
    return is_word(part) && !part->varies
               ? (struct ind_slice){writing->text.at + part->token.at, part->token.length}
               : IND_NOTHING;
}

/* "state to", "reason is": what is meant stands before it. */
static bool is_link(struct ind_slice word)
{
    static const char *const words[] = {"to", "is", "as", "was", "are", "be"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

/* The literal word before a token, with nothing but spaces and signs between; or nothing. */
static struct ind_slice word_before(const struct writing *writing, size_t *at)
{
    while (*at > 0 && (writing->parts[*at - 1].token.kind == IND_TOKEN_BLANK ||
                       writing->parts[*at - 1].token.kind == IND_TOKEN_SIGN))
        --*at;
    if (*at == 0)
        return IND_NOTHING;
    --*at;
    return word_at(writing, *at);
}

/* "48 ports": what is counted stands behind it. */
static struct ind_slice counted(const struct writing *writing, size_t at)
{
    if (at + 2 >= writing->count || writing->parts[at + 1].token.kind != IND_TOKEN_BLANK)
        return IND_NOTHING;
    const struct ind_slice word = word_at(writing, at + 2);
    return word.length > 3 && word.at[word.length - 1] == 's' && ind_is_alpha(word.at[0]) ? word
                                                                                          : IND_NOTHING;
}

static bool is_taken(const struct writing *writing, const char *name)
{
    for (size_t i = 0; i < writing->fields; i++)
        if (strcmp(writing->names[i], name) == 0)
            return true;
    return false;
}

/* Letters, digits, - and _ of a word, in small letters. */
static void make_name(const struct writing *writing, size_t at, enum ind_type type, char name[NAME])
{
    size_t from = at;
    const struct ind_slice first = word_before(writing, &from);
    struct ind_slice before = type == IND_TYPE_INT ? counted(writing, at) : IND_NOTHING;
    if (before.length == 0)
        before = is_link(first) && type == IND_TYPE_WORD ? word_before(writing, &from) : first;
    size_t length = 0;
    for (size_t i = 0; i < before.length && length < NAME - 6 && !ind_is_small_word(before); i++) {
        const char c = ind_lower(before.at[i]);
        if (ind_is_alpha(c) || (length && (ind_is_digit(c) || c == '_' || c == '-')))
            name[length++] = c;
    }
    while (length && (name[length - 1] == '-' || name[length - 1] == '_'))
        length--;
    name[length] = '\0';
    if (length < 2)
        length = strlen(strcpy(name, noun_of(type, first)));
    for (unsigned again = 2; is_taken(writing, name) && again < 100; again++) {
        size_t end = length;
        name[end++] = '_';
        if (again > 9)
            name[end++] = (char)('0' + again / 10);
        name[end++] = (char)('0' + again % 10);
        name[end] = '\0';
    }
}

/* ---- ---- */

static bool put_field(struct writing *writing, size_t at, enum ind_type type, bool named)
{
    /* Nothing would tell where the field in front ends. */
    if (writing->fields == IND_SYNTAX_FIELDS ||
        (writing->fields && writing->out->length == writing->field_end))
        return false;
    char *name = writing->names[writing->fields];
    *name = '\0';
    if (named)
        make_name(writing, at, type, name);
    writing->fields++;
    ind_buffer_byte(writing->out, '{');
    ind_buffer_text(writing->out, name);
    ind_buffer_byte(writing->out, ':');
    ind_buffer_slice(writing->out, ind_type_name(type));
    ind_buffer_byte(writing->out, '}');
    writing->field_end = writing->out->length;
    return true;
}

static void put_literal(struct writing *writing, const struct ind_token *token)
{
    for (size_t i = 0; i < token->length; i++) {
        const char c = writing->text.at[token->at + i];
        if (c == '{' || c == '}')
            ind_buffer_byte(writing->out, c);
        ind_buffer_byte(writing->out, c);
    }
}

/* How many tokens from `at` on are words that vary with spaces between: they become one text. */
static size_t run_of_words(const struct writing *writing, size_t at)
{
    size_t end = at + 1;
    while (end + 1 < writing->count && writing->parts[end].token.kind == IND_TOKEN_BLANK &&
           is_word(&writing->parts[end + 1]) && writing->parts[end + 1].varies)
        end += 2;
    return end - at;
}

/* How many tokens it took; 0: there is no room for another field. */
static size_t put_part(struct writing *writing, size_t at)
{
    const struct part *part = &writing->parts[at];
    size_t length;
    switch (part->token.kind) {
    case IND_TOKEN_BLANK:
        ind_buffer_byte(writing->out, ' ');
        return 1;
    case IND_TOKEN_SIGN:
        put_literal(writing, &part->token);
        return 1;
    case IND_TOKEN_VALUE:
        writing->wide |= type_of(part->types) == IND_TYPE_TEXT;
        return put_field(writing, at, type_of(part->types), true);
    case IND_TOKEN_QUOTED:
        return put_field(writing, at, IND_TYPE_QUOTED, true);
    case IND_TOKEN_PAIRS:
    case IND_TOKEN_JSON:
        return put_field(writing, at, (enum ind_type)part->token.type, false);
    default:
        if (!part->varies) {
            put_literal(writing, &part->token);
            return 1;
        }
        length = run_of_words(writing, at);
        writing->wide |= length > 1;
        return put_field(writing, at,
                         length > 1         ? IND_TYPE_TEXT
                         : part->interfaces ? IND_TYPE_INTERFACE
                                            : IND_TYPE_WORD,
                         true)
                   ? length
                   : 0;
    }
}

/* A layout of hardly more than fields fits what it was not made of. */
static bool is_worth_keeping(const struct writing *writing, size_t literals, size_t words)
{
    return literals >= (writing->wide ? 2u : 1u) && literals * 3 >= words;
}

bool ind_learn_write(const struct ind_learned_group *group, struct ind_buffer *layout, size_t *literals)
{
    struct ind_token tokens[IND_LEARN_TOKENS];
    struct writing writing = {.text = {group->list[0]->text, group->list[0]->length}, .out = layout};
    size_t words = 0;
    writing.count = ind_tokens_read(writing.text, tokens);
    for (size_t i = 0; i < writing.count; i++)
        writing.parts[i] = (struct part){.token = tokens[i], .interfaces = true};
    for (size_t i = 0; i < group->count; i++)
        compare(&writing, group->list[i]);
    *literals = 0;
    for (size_t at = 0, took; at < writing.count; at += took) {
        took = put_part(&writing, at);
        if (took == 0)
            return false;
    }
    for (size_t i = 0; i < writing.count; i++) {
        words += is_word(&writing.parts[i]);
        *literals += is_word(&writing.parts[i]) && !writing.parts[i].varies && tokens[i].length > 1 &&
                     ind_is_alpha(writing.text.at[tokens[i].at + tokens[i].length - 1]);
    }
    return !layout->full && is_worth_keeping(&writing, *literals, words);
}
