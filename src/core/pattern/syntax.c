#include "core/pattern/syntax.h"

struct reading {
    struct ind_slice source;
    size_t at;
    struct ind_syntax_text *layout;
    size_t literal_bytes;
    struct ind_mistake *mistake;
};

static void wrong(struct reading *reading, size_t at, size_t length, const char *before,
                  struct ind_slice quoted, const char *after)
{
    ind_mistake_say(reading->mistake, at, length, before, quoted, after, IND_NOTHING, "");
}

static struct ind_syntax_piece *last_piece(struct reading *reading)
{
    struct ind_syntax_text *layout = reading->layout;
    return layout->count ? &layout->pieces[layout->count - 1] : NULL;
}

static struct ind_syntax_piece *add_piece(struct reading *reading, bool field, size_t at)
{
    struct ind_syntax_text *layout = reading->layout;
    if (field && layout->fields == IND_SYNTAX_FIELDS) {
        wrong(reading, at, 1, "more than 32 fields in one layout; end it with {:remainder} before this one",
              IND_NOTHING, "");
        return NULL;
    }
    struct ind_syntax_piece *piece = &layout->pieces[layout->count++];
    *piece = (struct ind_syntax_piece){.field = field, .at = at};
    layout->fields += field;
    return piece;
}

/* One literal byte; runs of white space become one space, and none stands at the beginning. */
static void add_byte(struct reading *reading, char c, size_t at, size_t length)
{
    struct ind_syntax_piece *piece = last_piece(reading);
    bool blank = ind_type_byte(c, IND_TYPE_BLANK);
    if (blank && !piece)
        return;
    if (!piece || piece->field) {
        if (reading->layout->count == IND_SYNTAX_PIECES || !(piece = add_piece(reading, false, at)))
            return;
        piece->text.at = reading->layout->literals + reading->literal_bytes;
    }
    piece->length = at + length - piece->at;
    if (blank && piece->text.length && piece->text.at[piece->text.length - 1] == ' ')
        return;
    reading->layout->literals[reading->literal_bytes++] = blank ? ' ' : c;
    piece->text.length++;
}

/* ---- Fields ---- */

#define TYPES                                                                                                 \
    "time, ip, mac, int, decimal, hex, duration, interface, path, host, quoted, pairs, json, re(…), word, " \
    "text and remainder"

static bool read_name(struct reading *reading, struct ind_slice name, size_t at)
{
    bool good = name.length == 0 || ind_is_alpha(name.at[0]) || name.at[0] == '_';
    for (size_t i = 0; i < name.length; i++)
        good &=
            ind_is_alpha(name.at[i]) || ind_is_digit(name.at[i]) || name.at[i] == '_' || name.at[i] == '-';
    if (!good) {
        bool blank = ind_type_past_blanks(name.at, name.at + name.length) == name.at + name.length;
        wrong(reading, at, name.length,
              blank ? "an empty name; write {name:int}, or {:int} where nothing is to be kept"
                    : "a field's name is a letter, then letters, digits, - and _",
              IND_NOTHING, "");
        return false;
    }
    for (size_t i = 0; name.length && i < reading->layout->count; i++)
        if (ind_slice_equal(reading->layout->pieces[i].name, name)) {
            wrong(reading, at, name.length, "the field \"", name,
                  "\" is in this layout already; give this one another name");
            return false;
        }
    return true;
}

/* The expression of "re(…)"; its brackets are balanced, but for those behind `\` and in [ ]. */
static bool read_expression(struct reading *reading, struct ind_slice type, size_t at,
                            struct ind_syntax_piece *piece)
{
    if (type.length < 5 || type.at[type.length - 1] != ')') {
        wrong(reading, at, type.length,
              "a regular expression is written {name:re(…)}, with something in its brackets", IND_NOTHING,
              "");
        return false;
    }
    piece->type = IND_TYPE_RE;
    piece->text = (struct ind_slice){type.at + 3, type.length - 4};
    return true;
}

static bool read_type(struct reading *reading, struct ind_slice type, size_t at,
                      struct ind_syntax_piece *piece)
{
    if (type.length == 0) {
        wrong(reading, at, 0, "which type? the types are " TYPES, IND_NOTHING, "");
        return false;
    }
    if (ind_slice_starts(type, IND_SLICE("re(")) || ind_slice_equal(type, IND_SLICE("re")))
        return read_expression(reading, type, at, piece);
    int known = ind_type_read(type);
    if (known >= 0) {
        piece->type = (enum ind_type)known;
        return true;
    }
    const char *near = ind_type_near(type);
    if (near)
        ind_mistake_say(reading->mistake, at, type.length, "unknown type \"", type, "\"; did you mean \"",
                        ind_slice_of(near), "\"?");
    else
        wrong(reading, at, type.length, "unknown type \"", type, "\"; the types are " TYPES);
    return false;
}

/* Nothing follows a remainder. */
static bool check_last(struct reading *reading, const struct ind_syntax_piece *before)
{
    if (!before || !before->field || before->type != IND_TYPE_REMAINDER)
        return true;
    wrong(reading, before->at, before->length, "a remainder takes all there is; put it last", IND_NOTHING,
          "");
    return false;
}

/* What may not stand side by side: nothing would tell where the first ends. */
static bool check_neighbour(struct reading *reading, const struct ind_syntax_piece *before,
                            const struct ind_syntax_piece *piece)
{
    if (!check_last(reading, before))
        return false;
    if (!before || !before->field || !piece->field)
        return true;
    if (piece->type == IND_TYPE_REMAINDER && before->type != IND_TYPE_TEXT)
        return true;
    wrong(reading, before->at, piece->at + piece->length - before->at,
          "nothing stands between these two fields, so nothing tells where the first ends; put the text "
          "between them there, or make them one",
          IND_NOTHING, "");
    return false;
}

/* The ":re(" of the field that begins at `open`; NULL where it is of another type. */
static const char *find_expression(struct ind_slice source, size_t open)
{
    size_t colon = open;
    while (colon < source.length && source.at[colon] != ':' && source.at[colon] != '}')
        colon++;
    bool expression = ind_slice_starts(ind_slice_from(source, colon), IND_SLICE(":re("));
    return expression ? source.at + colon : NULL;
}

/* Where the field that begins at `open` is closed: behind the bracket of re(…) where it has one. */
static size_t find_close(struct ind_slice source, size_t open)
{
    const char *expression = find_expression(source, open);
    if (!expression) {
        const char *close = memchr(source.at + open, '}', source.length - open);
        return close ? (size_t)(close - source.at) : source.length;
    }
    size_t at = (size_t)(expression - source.at);
    size_t depth = 0;
    bool class = false;
    for (at += 3; at < source.length; at++) {
        char c = source.at[at];
        if (c == '\\')
            at++;
        else if (class)
            class = c != ']';
        else if (c == '[')
            class = true;
        else if (c == '(')
            depth++;
        else if (c == ')' && --depth == 0)
            return at + 1;
    }
    return source.length;
}

static bool read_field(struct reading *reading)
{
    size_t open = reading->at, close = find_close(reading->source, open);
    struct ind_syntax_piece *before = last_piece(reading);
    if (close >= reading->source.length || reading->source.at[close] != '}') {
        const char *expression = find_expression(reading->source, open);
        wrong(reading, open, 1,
              expression ? "the brackets of this re(…) are not balanced, or no brace closes it behind them"
                         : "this brace has no partner; a brace itself is written twice",
              IND_NOTHING, "");
        return false;
    }
    struct ind_slice inside = {reading->source.at + open + 1, close - open - 1};
    const char *colon = inside.length ? memchr(inside.at, ':', inside.length) : NULL;
    if (!colon) {
        wrong(reading, open, close + 1 - open, "a field has a name and a type: write {", inside,
              inside.length ? ":word}; the types are " TYPES : "name:word}; the types are " TYPES);
        return false;
    }
    struct ind_slice name = {inside.at, (size_t)(colon - inside.at)};
    struct ind_slice type = ind_slice_from(inside, name.length + 1);
    if (!read_name(reading, name, open + 1))
        return false;
    struct ind_syntax_piece *piece = add_piece(reading, true, open);
    if (!piece || !read_type(reading, type, open + 2 + name.length, piece))
        return false;
    piece->name = name;
    piece->length = close + 1 - open;
    reading->at = close + 1;
    return check_neighbour(reading, before, piece);
}

static bool read_pieces(struct reading *reading)
{
    while (reading->at < reading->source.length) {
        char c = reading->source.at[reading->at];
        bool twice = reading->at + 1 < reading->source.length && reading->source.at[reading->at + 1] == c;
        if (c == '{' && !twice) {
            if (!read_field(reading))
                return false;
            continue;
        }
        if (c == '}' && !twice) {
            wrong(reading, reading->at, 1, "this brace closes nothing; a brace itself is written twice",
                  IND_NOTHING, "");
            return false;
        }
        size_t length = c == '{' || c == '}' ? 2 : 1;
        const struct ind_syntax_piece *before = last_piece(reading);
        if (!check_last(reading, before))
            return false;
        add_byte(reading, c, reading->at, length);
        reading->at += length;
    }
    return true;
}

/* Blanks at the end of a text do not count. */
static void trim(struct ind_syntax_text *layout)
{
    struct ind_syntax_piece *last = layout->count ? &layout->pieces[layout->count - 1] : NULL;
    if (!last || last->field || last->text.at[last->text.length - 1] != ' ')
        return;
    if (--last->text.length == 0)
        layout->count--;
}

bool ind_syntax_parse(struct ind_slice source, struct ind_syntax_text *layout, struct ind_mistake *mistake)
{
    struct reading reading = {.source = source, .layout = layout, .mistake = mistake};
    layout->count = layout->fields = 0;
    if (source.length > IND_SYNTAX_BYTES) {
        wrong(&reading, IND_SYNTAX_BYTES, 1,
              "a layout has 2000 bytes at most; end it with {:remainder} before this", IND_NOTHING, "");
        return false;
    }
    if (!read_pieces(&reading))
        return false;
    trim(layout);
    if (layout->count == 0)
        wrong(&reading, 0, source.length,
              "an empty layout; write what the text looks like, such as "
              "\"{interface:interface} link down\"",
              IND_NOTHING, "");
    return !mistake->made;
}
