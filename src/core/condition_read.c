/* From text to a condition: a hand-written descent over the three rules of the grammar. People write other
 * things first
 * ("severity >= warning", "facility is local4 or local5"); each of those that is common has its own message.
 */
#include "core/condition_set.h"
#include <stdlib.h>

enum token_kind { TOKEN_END, TOKEN_WORD, TOKEN_TEXT, TOKEN_OPEN, TOKEN_CLOSE, TOKEN_COMMA, TOKEN_OTHER };

struct token {
    enum token_kind kind;
    size_t at, length;     /* in the source, quotes included */
    struct ind_slice text; /* a text's value, or the token as written */
};

enum { DEEPEST = 50, VALUES = 1000 };

struct reader {
    struct ind_conditions *set;
    struct ind_slice source;
    const struct ind_named *named;
    struct ind_mistake *mistake;
    struct token now;
    size_t next;     /* where the token after `now` starts to be looked for */
    size_t last_end; /* where the token before `now` ended */
    int depth;
    bool broken; /* a named condition is: nothing more to tell */
};

static void wrong(struct reader *reader, const struct token *token, const char *before,
                  struct ind_slice quoted, const char *after)
{
    ind_mistake_say(reader->mistake, token->at, token->length, before, quoted, after, IND_NOTHING, "");
}

static bool stopped(const struct reader *reader)
{
    return reader->mistake->made || reader->broken || reader->set->out_of_memory;
}

static bool is_word_byte(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_' || c == '-' || c == '.' || c == ':' || c == '/';
}

/* A quoted text; `\` before the quote or another `\` stands for it. */
static void lex_text(struct reader *reader)
{
    struct ind_slice source = reader->source;
    size_t start = reader->next, at = start + 1;
    char quote = source.at[start];
    struct ind_slice kept = ind_set_keep(reader->set, source.at + at, source.length - at);
    char *value = kept.at ? reader->set->kept[reader->set->kept_count - 1] : NULL;
    size_t length = 0;
    reader->now.kind = TOKEN_TEXT;
    for (; value && at < source.length && source.at[at] != quote; at++) {
        if (source.at[at] == '\\' && at + 1 < source.length &&
            (source.at[at + 1] == quote || source.at[at + 1] == '\\'))
            at++;
        value[length++] = source.at[at];
    }
    reader->now.length = at - start;
    if (at >= source.length)
        wrong(reader, &reader->now, "this text has no closing ", (struct ind_slice){&source.at[start], 1},
              "; if the file has one, YAML took it away: quote the whole condition: when: '…'");
    else
        reader->now.length++;
    reader->now.text = (struct ind_slice){value, length};
}

static void advance(struct reader *reader)
{
    struct ind_slice source = reader->source;
    reader->last_end = reader->now.at + reader->now.length;
    size_t at = reader->next;
    while (at < source.length && (source.at[at] == ' ' || source.at[at] == '\n' || source.at[at] == '\t'))
        at++;
    reader->next = at;
    reader->now = (struct token){TOKEN_END, at, 0, IND_NOTHING};
    if (at == source.length)
        return;
    char c = source.at[at];
    size_t end = at + 1;
    if (c == '"' || c == '\'') {
        lex_text(reader);
        reader->next = at + reader->now.length;
        return;
    }
    if (is_word_byte(c)) {
        reader->now.kind = TOKEN_WORD;
        while (end < source.length && is_word_byte(source.at[end]))
            end++;
    } else if (c == '(' || c == ')' || c == ',') {
        reader->now.kind = c == '(' ? TOKEN_OPEN : c == ')' ? TOKEN_CLOSE : TOKEN_COMMA;
    } else {
        reader->now.kind = TOKEN_OTHER;
        while (end < source.length && strchr("<>=!&|~", source.at[end]) && source.at[end] != '\0')
            end++;
        while (end < source.length && ((unsigned char)source.at[end] & 0xC0) == 0x80)
            end++;
    }
    reader->now.length = end - at;
    reader->now.text = (struct ind_slice){source.at + at, end - at};
    reader->next = end;
}

static bool word_is(const struct reader *reader, const char *word)
{
    return reader->now.kind == TOKEN_WORD && ind_slice_equal(reader->now.text, ind_slice_of(word));
}

static bool take_word(struct reader *reader, const char *word)
{
    if (!word_is(reader, word))
        return false;
    advance(reader);
    return true;
}

struct instead {
    const char *written, *remedy;
};

static const char *remedy_for(const struct instead *table, size_t count, struct ind_slice written)
{
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase(written, ind_slice_of(table[i].written)))
            return table[i].remedy;
    return NULL;
}

/* Signs and words of other languages, each with what this one has. */
static const struct instead instead_of_operator[] = {
    {"==", "\"is\""},
    {"=", "\"is\""},
    {"equals", "\"is\""},
    {"!=", "\"is not\""},
    {"<>", "\"is not\""},
    {">=", "\"at least\" (at least warning means warning and all worse)"},
    {"<=", "\"at least\" or \"at most\" (at least warning means warning and all worse)"},
    {">", "\"at least\" (at least warning means warning and all worse)"},
    {"<", "\"at least\" or \"at most\" (at least warning means warning and all worse)"},
    {"has", "\"contains\""},
    {"like", "\"contains\" or \"starts with\""},
    {"~", "\"contains\" or \"starts with\""},
    {"=~", "\"contains\" or \"starts with\""},
    {"startswith", "\"starts with\""},
    {"begins", "\"starts with\""},
};

static const struct instead instead_of_joint[] = {
    {"&&", "\"and\""},  {"&", "\"and\""}, {"||", "\"or\""},           {"|", "\"or\""},
    {"AND", "\"and\""}, {"OR", "\"or\""}, {",", "\"and\" or \"or\""},
};

#define COUNT(table) (sizeof(table) / sizeof *(table))

static bool is_higher(struct ind_slice word)
{
    static const char *const words[] = {"higher", "lower",  "above", "below",
                                        "worse",  "better", "more",  "less"};
    for (size_t i = 0; i < COUNT(words); i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

static const char operators_of_numbers[] = "is, is not, in, not in, at least or at most";
static const char operators_of_facility[] = "is, is not, in or not in";
static const char operators_of_text[] = "is, is not, in, not in, contains or starts with";
static const char operators_of_address[] = "is, is not, in, not in, contains, starts with or within";

static const char *operators_of(unsigned field)
{
    return field == IND_FIELD_SEVERITY                         ? operators_of_numbers
           : field == IND_FIELD_FACILITY                       ? operators_of_facility
           : field == IND_FIELD_TEXT || field == IND_FIELD_APP ? operators_of_text
                                                               : operators_of_address;
}

static void wrong_operator(struct reader *reader, unsigned field)
{
    const char *remedy = remedy_for(instead_of_operator, COUNT(instead_of_operator), reader->now.text);
    if (reader->now.kind == TOKEN_END || reader->now.kind == TOKEN_CLOSE)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "after ", ind_field_name(field),
                        " expected ", ind_slice_of(operators_of(field)), "");
    else if (remedy)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown operator \"",
                        reader->now.text, "\"; write ", ind_slice_of(remedy), "");
    else
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown operator \"",
                        reader->now.text, "\"; expected ", ind_slice_of(operators_of(field)), "");
}

static bool numeric(unsigned field)
{
    return field == IND_FIELD_FACILITY || field == IND_FIELD_SEVERITY;
}

static void number_value(struct reader *reader, struct test *test)
{
    bool facility = test->field == IND_FIELD_FACILITY;
    struct token *now = &reader->now;
    if (now->kind != TOKEN_WORD && now->kind != TOKEN_TEXT) {
        wrong(reader, now, "expected the name of a ", ind_field_name(test->field), "");
        return;
    }
    int value = facility ? ind_facility_read(now->text) : ind_severity_read(now->text);
    if (value >= 0) {
        test->numbers |= 1u << value;
        return;
    }
    struct ind_slice near = facility ? ind_facility_near(now->text) : ind_severity_near(now->text);
    const char *kind = facility ? "unknown facility \"" : "unknown severity \"";
    if (near.length)
        ind_mistake_say(reader->mistake, now->at, now->length, kind, now->text, "\"; did you mean \"", near,
                        "\"?");
    else
        wrong(reader, now, kind, now->text,
              facility
                  ? "\"; the facilities are kern, user, mail, daemon, auth, syslog, lpr, news, uucp, cron, "
                    "authpriv, ftp, ntp, audit, alert, clock and local0 to local7"
                  : "\"; the severities are emergency, alert, critical, error, warning, notice, info and "
                    "debug");
}

static bool grow(struct reader *reader, struct test *test)
{
    size_t count = test->count + 1;
    if (test->op == OP_WITHIN) {
        struct ind_network *networks = realloc(test->networks, count * sizeof *networks);
        test->networks = networks ? networks : test->networks;
        reader->set->out_of_memory |= !networks;
    } else {
        struct ind_slice *texts = realloc(test->texts, count * sizeof *texts);
        test->texts = texts ? texts : test->texts;
        reader->set->out_of_memory |= !texts;
    }
    return !reader->set->out_of_memory;
}

static void network_value(struct reader *reader, struct test *test)
{
    struct token *now = &reader->now;
    if (now->kind != TOKEN_WORD && now->kind != TOKEN_TEXT) {
        wrong(reader, now, "expected a network such as 192.0.2.0/24", IND_NOTHING, "");
        return;
    }
    struct ind_network network;
    switch (ind_network_read(now->text, &network)) {
    case IND_NETWORK_ADDRESS:
        wrong(reader, now, "\"", now->text,
              "\" is no network; write one such as 192.0.2.0/24 or 2001:db8::/32");
        return;
    case IND_NETWORK_PREFIX:
        wrong(reader, now, "\"", now->text, "\" has no such prefix; it is at most 32 for IPv4, 128 for IPv6");
        return;
    default:
        break; /* bits past the prefix do no harm here */
    }
    if (grow(reader, test))
        test->networks[test->count++] = network;
}

static void text_value(struct reader *reader, struct test *test)
{
    struct token *now = &reader->now;
    if (now->kind == TOKEN_WORD) {
        wrong(reader, now, "text is written in quotes: \"", now->text, "\"");
        return;
    }
    if (now->kind != TOKEN_TEXT) {
        wrong(reader, now, "expected a text in quotes", IND_NOTHING, "");
        return;
    }
    if (now->text.length == 0) {
        wrong(reader, now, "an empty text is never there to be found; leave the test out", IND_NOTHING, "");
        return;
    }
    if (grow(reader, test))
        test->texts[test->count++] = now->text;
}

static void value(struct reader *reader, struct test *test)
{
    if (stopped(reader))
        return;
    if (numeric(test->field))
        number_value(reader, test);
    else if (test->op == OP_WITHIN)
        network_value(reader, test);
    else
        text_value(reader, test);
    if (!stopped(reader))
        advance(reader);
}

static void values_in_parentheses(struct reader *reader, struct test *test)
{
    if (reader->now.kind != TOKEN_OPEN) {
        wrong(reader, &reader->now, "expected \"(\" and a list: in (…, …)", IND_NOTHING, "");
        return;
    }
    do {
        advance(reader);
        value(reader, test);
        if (test->count > VALUES)
            wrong(reader, &reader->now, "more than 1000 values in one list; split it", IND_NOTHING, "");
    } while (!stopped(reader) && reader->now.kind == TOKEN_COMMA);
    if (stopped(reader))
        return;
    if (reader->now.kind != TOKEN_CLOSE)
        wrong(reader, &reader->now, "expected \",\" or \")\"", IND_NOTHING, "");
    else
        advance(reader);
}

static bool add_finders(struct test *test)
{
    if (test->op != OP_CONTAINS || !test->texts)
        return true;
    test->finders = malloc(test->count * sizeof *test->finders);
    for (size_t i = 0; test->finders && i < test->count; i++)
        test->finders[i] = ind_finder_for(test->texts[i]);
    return test->finders != NULL;
}

/* "at least warning": warning and all that is more severe, which are the smaller numbers. */
static void at_least(struct reader *reader, struct test *test)
{
    bool least = take_word(reader, "least");
    if (!least && !take_word(reader, "most")) {
        wrong(reader, &reader->now, "expected \"at least\" or \"at most\"", IND_NOTHING, "");
        return;
    }
    value(reader, test);
    uint32_t bit = test->numbers;
    if (bit)
        test->numbers = least ? bit | (bit - 1) : 0xffu & ~(bit - 1);
    if (!stopped(reader) && word_is(reader, "or")) {
        struct reader ahead = *reader;
        advance(&ahead);
        if (ahead.now.kind == TOKEN_WORD && is_higher(ahead.now.text))
            ind_mistake_say(reader->mistake, reader->now.at, ahead.now.at + ahead.now.length - reader->now.at,
                            "\"at least\" says it already; leave out \"or ", ahead.now.text, "\"",
                            IND_NOTHING, "");
    }
}

/* FIELD has been read; now OPERATOR and VALUE. True in *negated where a "not" was among them. */
static void operator_and_value(struct reader *reader, struct test *test, bool *negated)
{
    test->op = OP_IS;
    if (take_word(reader, "is")) {
        *negated = take_word(reader, "not");
        if (word_is(reader, "in"))
            wrong(reader, &reader->now, "write \"in\" without \"is\"", IND_NOTHING, "");
        else if (reader->now.kind == TOKEN_OPEN)
            wrong(reader, &reader->now, "\"is\" takes one value; for several write \"in (…, …)\"",
                  IND_NOTHING, "");
        value(reader, test);
    } else if (take_word(reader, "not")) {
        *negated = true;
        if (!take_word(reader, "in"))
            wrong(reader, &reader->now,
                  "expected \"not in\"; for other operators put \"not\" before the field", IND_NOTHING, "");
        else
            values_in_parentheses(reader, test);
    } else if (take_word(reader, "in")) {
        values_in_parentheses(reader, test);
    } else if (test->field == IND_FIELD_SEVERITY && take_word(reader, "at")) {
        at_least(reader, test);
    } else if (!numeric(test->field) && take_word(reader, "contains")) {
        test->op = OP_CONTAINS;
        value(reader, test);
    } else if (!numeric(test->field) && take_word(reader, "starts")) {
        test->op = OP_STARTS;
        if (!take_word(reader, "with"))
            wrong(reader, &reader->now, "expected \"starts with\"", IND_NOTHING, "");
        value(reader, test);
    } else if (operators_of(test->field) == operators_of_address && take_word(reader, "within")) {
        test->op = OP_WITHIN;
        if (reader->now.kind == TOKEN_OPEN)
            values_in_parentheses(reader, test);
        else
            value(reader, test);
    } else {
        wrong_operator(reader, test->field);
    }
}

/* "facility is local4 or local5": after "or" stands a value where a test should. */
static void check_bare_value(struct reader *reader, const struct test *test, size_t start)
{
    if (stopped(reader) || !(word_is(reader, "or") || word_is(reader, "and")))
        return;
    struct reader ahead = *reader;
    struct ind_mistake unused = {0};
    ahead.mistake = &unused;
    advance(&ahead);
    struct ind_slice word = ahead.now.text;
    bool bare = ahead.now.kind == TOKEN_TEXT && !numeric(test->field);
    if (ahead.now.kind == TOKEN_WORD && numeric(test->field) && ind_field_read(word) < 0) {
        bare =
            test->field == IND_FIELD_FACILITY ? ind_facility_read(word) >= 0 : ind_severity_read(word) >= 0;
        for (size_t i = 0; reader->named && i < reader->named->count; i++)
            bare &= !ind_slice_equal(word, ind_slice_of(reader->named->names[i]));
    }
    struct token whole = {TOKEN_WORD, start, ahead.now.at + ahead.now.length - start, IND_NOTHING};
    if (bare && ahead.now.kind == TOKEN_TEXT)
        wrong(reader, &whole, "each test names its field; for several values write \"",
              ind_field_name(test->field), " in (\"…\", \"…\")\"");
    else if (bare)
        wrong(reader, &whole, "each test names its field; for several values write \"",
              ind_field_name(test->field), " in (…, …)\"");
}

static uint32_t test(struct reader *reader, unsigned field)
{
    struct test test = {.field = (uint8_t)field};
    size_t start = reader->now.at;
    bool negated = false;
    advance(reader);
    operator_and_value(reader, &test, &negated);
    check_bare_value(reader, &test, start);
    if (stopped(reader) || !add_finders(&test)) {
        free(test.texts);
        free(test.networks);
        return 0;
    }
    size_t length = reader->last_end - start;
    uint32_t place = ind_test_add(reader->set, &test);
    uint32_t node = ind_node_add(reader->set, NODE_TEST, start, length);
    reader->set->nodes[node].test = place;
    if (!negated)
        return node;
    uint32_t outer = ind_node_add(reader->set, NODE_NOT, start, length);
    reader->set->nodes[outer].first = node;
    return outer;
}

/* A word that is no field and no named condition: what was it meant to be? */
static void wrong_word(struct reader *reader)
{
    struct ind_slice word = reader->now.text;
    if (ind_facility_read(word) >= 0 && !ind_is_digit(word.at[0])) {
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "\"", word,
                        "\" is a facility, not a test; write \"facility is ", word, "\"");
        return;
    }
    if (ind_severity_read(word) >= 0 && !ind_is_digit(word.at[0])) {
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "\"", word,
                        "\" is a severity, not a test; write \"severity at least ", word, "\"");
        return;
    }
    const char *near = ind_near(word, ind_field_names, IND_FIELDS);
    if (!near && reader->named)
        near = ind_near(word, reader->named->names, reader->named->count);
    if (near)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown field or condition \"",
                        word, "\"; did you mean \"", ind_slice_of(near), "\"?");
    else
        wrong(reader, &reader->now, "unknown field or condition \"", word,
              "\"; the fields are facility, severity, host, device, sender, app and text");
}

static uint32_t name(struct reader *reader)
{
    const struct ind_named *named = reader->named;
    for (size_t i = 0; named && i < named->count; i++) {
        if (!ind_slice_equal(reader->now.text, ind_slice_of(named->names[i])))
            continue;
        struct token token = reader->now;
        ind_condition inner = 0;
        enum ind_resolved resolved = named->resolve(named->context, i, &inner);
        if (resolved == IND_RESOLVED_CIRCLE)
            wrong(reader, &token, "the condition \"", token.text,
                  "\" uses itself; take it out of the circle");
        reader->broken |= resolved == IND_RESOLVED_BROKEN;
        if (stopped(reader))
            return 0;
        uint32_t node = ind_node_add(reader->set, NODE_NAME, token.at, token.length);
        reader->set->nodes[node].first = inner;
        advance(reader);
        return node;
    }
    wrong_word(reader);
    return 0;
}

static uint32_t any(struct reader *reader);

static uint32_t parentheses(struct reader *reader)
{
    struct token open = reader->now;
    if (++reader->depth > DEEPEST) {
        wrong(reader, &open,
              "parentheses and \"not\" nested more than 50 deep; name a part under conditions:", IND_NOTHING,
              "");
        return 0;
    }
    advance(reader);
    uint32_t inner = any(reader);
    reader->depth--;
    if (stopped(reader))
        return 0;
    if (reader->now.kind != TOKEN_CLOSE) {
        wrong(reader, &open, "this \"(\" is never closed", IND_NOTHING, "");
        return 0;
    }
    advance(reader);
    return inner;
}

static uint32_t term(struct reader *reader)
{
    if (stopped(reader))
        return 0;
    size_t start = reader->now.at;
    if (take_word(reader, "not")) {
        if (++reader->depth > DEEPEST)
            wrong(reader, &reader->now,
                  "parentheses and \"not\" nested more than 50 deep; name a part under conditions:",
                  IND_NOTHING, "");
        uint32_t inner = term(reader);
        reader->depth--;
        uint32_t outer =
            stopped(reader) ? 0 : ind_node_add(reader->set, NODE_NOT, start, reader->last_end - start);
        if (outer)
            reader->set->nodes[outer].first = inner;
        return outer;
    }
    if (reader->now.kind == TOKEN_OPEN)
        return parentheses(reader);
    if (reader->now.kind == TOKEN_WORD) {
        int field = ind_field_read(reader->now.text);
        if (field >= 0)
            return test(reader, (unsigned)field);
        if (word_is(reader, "and") || word_is(reader, "or"))
            wrong(reader, &reader->now, "expected a test before \"", reader->now.text, "\"");
        else
            return name(reader);
    } else if (reader->now.kind == TOKEN_OTHER && reader->now.text.at[0] == '!') {
        wrong(reader, &reader->now, "write \"not\" instead of \"", reader->now.text, "\"");
    } else {
        wrong(reader, &reader->now, "expected a test, such as: severity at least warning", IND_NOTHING, "");
    }
    return 0;
}

/* One or more parts joined by one word, "and" or "or". */
static uint32_t joined(struct reader *reader, const char *joint, enum node_kind kind,
                       uint32_t (*part)(struct reader *))
{
    size_t start = reader->now.at;
    uint32_t first = part(reader);
    if (stopped(reader) || !word_is(reader, joint))
        return first;
    uint32_t node = ind_node_add(reader->set, kind, start, 0), last = first;
    reader->set->nodes[node].first = first;
    while (!stopped(reader) && take_word(reader, joint)) {
        uint32_t next = part(reader);
        if (stopped(reader))
            return 0;
        reader->set->nodes[last].next = next;
        last = next;
    }
    reader->set->nodes[node].length = (uint32_t)(reader->last_end - start);
    return node;
}

static uint32_t all(struct reader *reader)
{
    return joined(reader, "and", NODE_ALL, term);
}

static uint32_t any(struct reader *reader)
{
    return joined(reader, "or", NODE_ANY, all);
}

bool ind_condition_read(struct ind_conditions *set, struct ind_slice text, const struct ind_named *named,
                        ind_condition *condition, struct ind_mistake *mistake)
{
    struct reader reader = {.set = set, .source = text, .named = named, .mistake = mistake};
    if (text.length > UINT32_MAX / 2) {
        wrong(&reader, &reader.now, "the condition is too long", IND_NOTHING, "");
        return false;
    }
    advance(&reader);
    uint32_t root = any(&reader);
    if (!stopped(&reader) && reader.now.kind != TOKEN_END) {
        const char *remedy = remedy_for(instead_of_joint, COUNT(instead_of_joint), reader.now.text);
        if (remedy)
            ind_mistake_say(mistake, reader.now.at, reader.now.length, "unknown \"", reader.now.text,
                            "\"; write ", ind_slice_of(remedy), "");
        else
            wrong(&reader, &reader.now, "expected \"and\", \"or\" or the end, not \"", reader.now.text, "\"");
    }
    if (set->out_of_memory)
        ind_mistake_say(mistake, 0, 0, "out of memory", IND_NOTHING, "", IND_NOTHING, "");
    *condition = root;
    return !stopped(&reader);
}
