/* FIELD OPERATOR VALUE. Which operators a field takes is in ind_field_rows (field.c); an operator is a
 * row of `operators` below. */
#include "core/base/number.h"
#include "core/condition/lex_private.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

/* Signs and words of other languages, each with what this one has. */
static const struct ind_instead instead_of_operator[] = {
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
    {"~", "\"contains\" or \"matches\""},
    {"=~", "\"contains\" or \"matches\""},
    {"regex", "\"matches\""},
    {"includes", "\"contains\" or \"mentions\""},
    {"exists", "\"is present\""},
    {"between", "\"at least … and … at most\", or \"within\" for the time of day"},
    {"startswith", "\"starts with\""},
    {"begins", "\"starts with\""},
    {"endswith", "\"ends with\""},
};

static const char *operators_of(const struct ind_test *test)
{
    return ind_field_rows[test->field].operators;
}

static bool is_higher(struct ind_slice word)
{
    static const char *const words[] = {"higher", "lower",  "above", "below",
                                        "worse",  "better", "more",  "less"};
    for (size_t i = 0; i < IND_COUNT(words); i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

/* "severity warning", "severity is higher than warning". */
static bool value_instead(const struct ind_condition_reader *reader, const struct ind_test *test)
{
    return reader->now.kind == IND_TOKEN_WORD &&
           ((test->field == IND_FIELD_FACILITY && ind_facility_read(reader->now.text) >= 0) ||
            (test->field == IND_FIELD_SEVERITY && ind_severity_read(reader->now.text) >= 0));
}

static void wrong_operator(struct ind_condition_reader *reader, const struct ind_test *test)
{
    if (value_instead(reader, test)) {
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "expected an operator; write \"",
                        ind_field_name(test->field),
                        test->field == IND_FIELD_SEVERITY ? " at least " : " is ", reader->now.text, "\"");
        return;
    }
    const char *remedy =
        ind_lex_remedy(instead_of_operator, IND_COUNT(instead_of_operator), reader->now.text);
    if (reader->now.kind == IND_TOKEN_END || reader->now.kind == IND_TOKEN_CLOSE)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "after ",
                        ind_field_name(test->field), " expected ", ind_slice_of(operators_of(test)), "");
    else if (remedy)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown operator \"",
                        reader->now.text, "\"; write ", ind_slice_of(remedy), "");
    else
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown operator \"",
                        reader->now.text, "\"; expected ", ind_slice_of(operators_of(test)), "");
}

static enum ind_field_kind kind_of(const struct ind_test *test)
{
    return ind_field_rows[test->field].kind;
}

static bool numeric(const struct ind_test *test)
{
    return kind_of(test) == IND_KIND_FACILITY || kind_of(test) == IND_KIND_SEVERITY;
}

/* ---- Values. Each takes the token at hand, and leaves the reader on it. ---- */

static void pri_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    bool facility = test->field == IND_FIELD_FACILITY;
    struct ind_token *now = &reader->now;
    if (now->kind != IND_TOKEN_WORD && now->kind != IND_TOKEN_TEXT) {
        ind_lex_wrong(reader, now, "expected the name of a ", ind_field_name(test->field), "");
        return;
    }
    int value = facility ? ind_facility_read(now->text) : ind_severity_read(now->text);
    if (value >= 0) {
        test->numbers |= 1u << value;
        return;
    }
    if (!facility && is_higher(now->text)) {
        ind_lex_wrong(reader, now,
                      "\"at least\" is for that: \"severity at least warning\" means warning and all worse",
                      IND_NOTHING, "");
        return;
    }
    struct ind_slice near = facility ? ind_facility_near(now->text) : ind_severity_near(now->text);
    const char *kind = facility ? "unknown facility \"" : "unknown severity \"";
    if (near.length)
        ind_mistake_say(reader->mistake, now->at, now->length, kind, now->text, "\"; did you mean \"", near,
                        "\"?");
    else
        ind_lex_wrong(
            reader, now, kind, now->text,
            facility
                ? "\"; the facilities are kern, user, mail, daemon, auth, syslog, lpr, news, uucp, cron, "
                  "authpriv, ftp, ntp, audit, alert, clock and local0 to local7"
                : "\"; the severities are emergency, alert, critical, error, warning, notice, info and "
                  "debug");
}

static int day_of(struct ind_slice word)
{
    for (int i = 0; i < 7; i++)
        if (word.length >= 3 && ind_slice_starts_nocase(ind_slice_of(ind_day_names[i]), word) &&
            (word.length == 3 || word.length == strlen(ind_day_names[i])))
            return i;
    return -1;
}

static void day_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    int day = reader->now.kind == IND_TOKEN_WORD ? day_of(reader->now.text) : -1;
    if (day < 0)
        ind_lex_wrong(reader, &reader->now, "expected a day, one of mon, tue, wed, thu, fri, sat and sun",
                      IND_NOTHING, "");
    else
        test->numbers |= 1u << day;
}

/* Room for one more value in an array of the test. */
static bool grow(struct ind_condition_reader *reader, void **array, size_t count, size_t size)
{
    void *grown = realloc(*array, (count + 1) * size);
    if (!grown)
        reader->set->out_of_memory = true;
    else
        *array = grown;
    return grown != NULL;
}

#define GROW(reader, test, array) grow(reader, (void **)&(test)->array, (test)->count, sizeof *(test)->array)

static void network_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_token *now = &reader->now;
    if (now->kind != IND_TOKEN_WORD && now->kind != IND_TOKEN_TEXT) {
        ind_lex_wrong(reader, now, "expected a network such as 192.0.2.0/24", IND_NOTHING, "");
        return;
    }
    struct ind_network network;
    switch (ind_network_read(now->text, &network)) {
    case IND_NETWORK_ADDRESS:
        ind_lex_wrong(reader, now, "\"", now->text,
                      "\" is not a network; write one such as 192.0.2.0/24 or 2001:db8::/32");
        return;
    case IND_NETWORK_PREFIX:
        ind_lex_wrong(reader, now, "\"", now->text,
                      "\" has no such prefix; it is at most 32 for IPv4, 128 for IPv6");
        return;
    default:
        break; /* bits past the prefix do no harm here */
    }
    if (GROW(reader, test, networks))
        test->networks[test->count++] = network;
}

/* "22:00": minutes of the day; 24:00 is its end. */
static bool read_minute(struct ind_slice text, uint16_t *minute)
{
    unsigned colon = text.length == 4 ? 1 : 2, digits[4] = {0};
    if (text.length < 4 || text.length > 5 || text.at[colon] != ':')
        return false;
    for (size_t i = 0, n = text.length == 4; i < text.length; i++) {
        if (i == colon)
            continue;
        if (!ind_is_digit(text.at[i]))
            return false;
        digits[n++] = (unsigned)(text.at[i] - '0');
    }
    unsigned hours = digits[0] * 10 + digits[1], minutes = digits[2] * 10 + digits[3];
    *minute = (uint16_t)(hours * 60 + minutes);
    return minutes < 60 && *minute <= 24 * 60;
}

static void span_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_slice text = reader->now.text;
    const char *dash = reader->now.kind == IND_TOKEN_WORD ? memchr(text.at, '-', text.length) : NULL;
    size_t first = dash ? (size_t)(dash - text.at) : 0;
    struct ind_day_span span;
    if (!dash || !read_minute((struct ind_slice){text.at, first}, &span.from) ||
        !read_minute(ind_slice_from(text, first + 1), &span.to) || span.from == span.to) {
        ind_lex_wrong(reader, &reader->now, "expected a span of the day, such as 22:00-06:00", IND_NOTHING,
                      "");
        return;
    }
    if (GROW(reader, test, spans))
        test->spans[test->count++] = span;
}

static void limit_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_token *now = &reader->now;
    if ((now->kind != IND_TOKEN_WORD && now->kind != IND_TOKEN_TEXT) ||
        !ind_number_read(now->text, &test->limit))
        ind_lex_wrong(reader, now, "expected a number, such as 300 or 0.5", IND_NOTHING, "");
}

static bool is_text(struct ind_condition_reader *reader)
{
    struct ind_token *now = &reader->now;
    if (now->kind == IND_TOKEN_WORD)
        ind_lex_wrong(reader, now, "text is written in quotes: \"", now->text, "\"");
    else if (now->kind != IND_TOKEN_TEXT)
        ind_lex_wrong(reader, now, "expected a text in quotes", IND_NOTHING, "");
    else if (now->text.length == 0)
        ind_lex_wrong(reader, now, "an empty text is never there to be found; leave the test out",
                      IND_NOTHING, "");
    return !ind_lex_stopped(reader);
}

/* A misspelled name would never be met. */
static void pattern_name(struct ind_condition_reader *reader)
{
    const struct ind_patterns *patterns = reader->set->patterns;
    struct ind_token *now = &reader->now;
    uint32_t number;
    if (patterns && ind_pattern_named(patterns, now->text, &number))
        return;
    const char *near = patterns ? ind_pattern_near(patterns, now->text) : NULL;
    if (near)
        ind_mistake_say(reader->mistake, now->at, now->length, "no pattern is named \"", now->text,
                        "\"; did you mean \"", ind_slice_of(near), "\"?");
    else
        ind_lex_wrong(reader, now, "no pattern is named \"", now->text,
                      patterns ? "\"" : "\"; there are no patterns here: write them under patterns:");
}

static void text_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (!is_text(reader))
        return;
    if (test->field == IND_FIELD_TRANSPORT && test->op == IND_OP_IS &&
        ind_transport_read(reader->now.text) == IND_TRANSPORT_UNKNOWN)
        ind_lex_wrong(reader, &reader->now, "unknown transport \"", reader->now.text,
                      "\"; the transports are udp, tcp, unix, file and internal");
    else if (test->field == IND_FIELD_PATTERN && test->op == IND_OP_IS)
        pattern_name(reader);
    if (!ind_lex_stopped(reader) && GROW(reader, test, texts))
        test->texts[test->count++] = reader->now.text;
}

/* The pattern between the quotes: `\` stays as it is, only the quote itself is escaped. */
static struct ind_slice regex_text(struct ind_condition_reader *reader)
{
    struct ind_slice source = {reader->source.at + reader->now.at + 1, reader->now.length - 2};
    struct ind_slice kept = ind_set_keep(reader->set, source.at, source.length);
    char quote = source.at[-1], *text = kept.at ? reader->set->kept[reader->set->kept_count - 1] : NULL;
    size_t length = 0;
    for (size_t i = 0; text && i < source.length; i++) {
        if (source.at[i] == '\\' && i + 1 < source.length && source.at[i + 1] == quote)
            i++;
        else if (source.at[i] == '\\' && i + 1 < source.length)
            text[length++] = source.at[i++];
        text[length++] = source.at[i];
    }
    return (struct ind_slice){text, length};
}

static void regex_value(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_regex_error error;
    if (!is_text(reader))
        return;
    struct ind_slice text = regex_text(reader);
    if (reader->set->out_of_memory || !GROW(reader, test, texts))
        return;
    test->regex = ind_regex_new(text, 0, &error);
    test->texts[test->count++] = text;
    if (test->regex)
        return;
    struct ind_token place = {IND_TOKEN_TEXT, reader->now.at + 1 + error.offset, 1, IND_NOTHING};
    if (place.at >= reader->now.at + reader->now.length)
        place.at = reader->now.at + reader->now.length - 1;
    ind_lex_wrong(reader, &place, "no regular expression: ", ind_slice_of(error.reason), "");
}

/* Only behind the value it is known whether case matters. */
static void ignore_case_in_regex(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_regex_error error;
    ind_regex_free(test->regex);
    test->regex = ind_regex_new(test->texts[0], PCRE2_CASELESS, &error);
    reader->set->out_of_memory |= !test->regex;
}

static void value(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (ind_lex_stopped(reader))
        return;
    if (numeric(test))
        pri_value(reader, test);
    else if (kind_of(test) == IND_KIND_DAY)
        day_value(reader, test);
    else if (test->op == IND_OP_WITHIN)
        network_value(reader, test);
    else if (test->op == IND_OP_DURING)
        span_value(reader, test);
    else if (test->op == IND_OP_AT_LEAST || test->op == IND_OP_AT_MOST)
        limit_value(reader, test);
    else if (test->op == IND_OP_MATCHES)
        regex_value(reader, test);
    else
        text_value(reader, test);
    if (!ind_lex_stopped(reader))
        ind_lex_advance(reader);
}

static void values_in_parentheses(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (reader->now.kind != IND_TOKEN_OPEN) {
        ind_lex_wrong(reader, &reader->now, "expected \"(\" and a list: in (…, …)", IND_NOTHING, "");
        return;
    }
    do {
        ind_lex_advance(reader);
        value(reader, test);
        if (test->count > IND_CONDITION_VALUES)
            ind_lex_wrong(reader, &reader->now, "more than 1000 values in one list; split it", IND_NOTHING,
                          "");
    } while (!ind_lex_stopped(reader) && reader->now.kind == IND_TOKEN_COMMA);
    if (ind_lex_stopped(reader))
        return;
    if (reader->now.kind != IND_TOKEN_CLOSE)
        ind_lex_wrong(reader, &reader->now, "expected \",\" or \")\"", IND_NOTHING, "");
    else
        ind_lex_advance(reader);
}

static bool add_finders(struct ind_test *test)
{
    if (!(test->op & (IND_OP_CONTAINS | IND_OP_MENTIONS)) || test->nocase || !test->texts)
        return true;
    test->finders = malloc(test->count * sizeof *test->finders);
    for (size_t i = 0; test->finders && i < test->count; i++)
        test->finders[i] = ind_finder_for(test->texts[i]);
    return test->finders != NULL;
}

/* ---- Operators ---- */

/* "at least warning": warning and all that is more severe, which are the smaller numbers. */
static void read_limit(struct ind_condition_reader *reader, struct ind_test *test)
{
    bool least = ind_lex_accept_word(reader, "least");
    if (!least && !ind_lex_accept_word(reader, "most")) {
        ind_lex_wrong(reader, &reader->now, "expected \"at least\" or \"at most\"", IND_NOTHING, "");
        return;
    }
    test->op = least ? IND_OP_AT_LEAST : IND_OP_AT_MOST;
    value(reader, test);
    if (kind_of(test) == IND_KIND_SEVERITY) {
        uint32_t bit = test->numbers;
        test->op = IND_OP_IS; /* a set of severities like any other */
        if (bit)
            test->numbers = least ? bit | (bit - 1) : 0xffu & ~(bit - 1);
    }
    if (test->field == IND_FIELD_LAG && !ind_lex_stopped(reader) && reader->now.kind == IND_TOKEN_WORD &&
        !ind_lex_word_is(reader, "and") && !ind_lex_word_is(reader, "or"))
        ind_lex_wrong(reader, &reader->now, "lag is in seconds: leave out \"", reader->now.text,
                      "\", and write 300 for five minutes");
    if (!ind_lex_stopped(reader) && ind_lex_word_is(reader, "or")) {
        struct ind_condition_reader ahead = *reader;
        ind_lex_advance(&ahead);
        if (ahead.now.kind == IND_TOKEN_WORD && is_higher(ahead.now.text))
            ind_mistake_say(reader->mistake, reader->now.at, ahead.now.at + ahead.now.length - reader->now.at,
                            "\"at least\" says it already; leave out \"or ", ahead.now.text, "\"",
                            IND_NOTHING, "");
    }
}

static bool allows(const struct ind_test *test, unsigned ops)
{
    return (ind_field_rows[test->field].ops & ops) != 0;
}

static void read_is(struct ind_condition_reader *reader, struct ind_test *test, bool *negated)
{
    if (allows(test, IND_OP_PRESENT) &&
        (ind_lex_word_is(reader, "present") || ind_lex_word_is(reader, "absent"))) {
        *negated = ind_lex_word_is(reader, "absent");
        test->op = IND_OP_PRESENT;
        ind_lex_advance(reader);
        return;
    }
    if (!allows(test, IND_OP_IS)) {
        wrong_operator(reader, test);
        return;
    }
    *negated = ind_lex_accept_word(reader, "not");
    if (ind_lex_word_is(reader, "in"))
        ind_lex_wrong(reader, &reader->now, "write \"in\" without \"is\"", IND_NOTHING, "");
    else if (reader->now.kind == IND_TOKEN_OPEN)
        ind_lex_wrong(reader, &reader->now, "\"is\" takes one value; for several write \"in (…, …)\"",
                      IND_NOTHING, "");
    value(reader, test);
}

static void one_or_more(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (reader->now.kind == IND_TOKEN_OPEN)
        values_in_parentheses(reader, test);
    else
        value(reader, test);
}

/* Operators of one value each; the second word of "starts with". */
static const struct {
    const char *word, *second;
    enum ind_test_op op;
} operators[] = {
    {"contains", NULL, IND_OP_CONTAINS}, {"mentions", NULL, IND_OP_MENTIONS},
    {"starts", "with", IND_OP_STARTS},   {"ends", "with", IND_OP_ENDS},
    {"matches", NULL, IND_OP_MATCHES},
};

static bool read_word_operator(struct ind_condition_reader *reader, struct ind_test *test)
{
    for (size_t i = 0; i < IND_COUNT(operators); i++) {
        if (!allows(test, operators[i].op) || !ind_lex_accept_word(reader, operators[i].word))
            continue;
        test->op = (uint16_t)operators[i].op;
        if (operators[i].second && !ind_lex_accept_word(reader, operators[i].second))
            ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "expected \"",
                            ind_slice_of(operators[i].word), " ", ind_slice_of(operators[i].second), "\"");
        value(reader, test);
        return true;
    }
    return false;
}

/* FIELD has been read; now OPERATOR and VALUE. True in *negated where a "not" was among them. */
static void operator_and_value(struct ind_condition_reader *reader, struct ind_test *test, bool *negated)
{
    test->op = IND_OP_IS;
    if (ind_lex_accept_word(reader, "is")) {
        read_is(reader, test, negated);
    } else if (allows(test, IND_OP_IS) && ind_lex_accept_word(reader, "not")) {
        *negated = true;
        if (!ind_lex_accept_word(reader, "in"))
            ind_lex_wrong(reader, &reader->now,
                          "expected \"not in\"; for other operators put \"not\" before the field",
                          IND_NOTHING, "");
        else
            values_in_parentheses(reader, test);
    } else if (allows(test, IND_OP_IS) && ind_lex_accept_word(reader, "in")) {
        values_in_parentheses(reader, test);
    } else if (allows(test, IND_OP_AT_LEAST) && ind_lex_accept_word(reader, "at")) {
        read_limit(reader, test);
    } else if (allows(test, IND_OP_WITHIN | IND_OP_DURING) && ind_lex_accept_word(reader, "within")) {
        test->op = allows(test, IND_OP_WITHIN) ? IND_OP_WITHIN : IND_OP_DURING;
        one_or_more(reader, test);
    } else if (!read_word_operator(reader, test)) {
        wrong_operator(reader, test);
    }
}

/* "ignoring case" behind the value. */
static void read_case(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (ind_lex_stopped(reader) || !ind_lex_accept_word(reader, "ignoring"))
        return;
    if (!ind_lex_accept_word(reader, "case")) {
        ind_lex_wrong(reader, &reader->now, "expected \"ignoring case\"", IND_NOTHING, "");
        return;
    }
    if (!test->texts) {
        ind_lex_wrong(reader, &reader->now, "only texts have a case to ignore; leave it out", IND_NOTHING,
                      "");
        return;
    }
    test->nocase = true;
}

/* What stands behind `label`, `field` and `data`. */
static void read_names(struct ind_condition_reader *reader, struct ind_test *test)
{
    bool data = test->field == IND_FIELD_DATA;
    struct ind_slice *names[] = {data ? &test->id : &test->name, data ? &test->name : NULL};
    for (int i = 0; i < 2 && names[i] && !ind_lex_stopped(reader); i++) {
        bool word = reader->now.kind == IND_TOKEN_WORD || reader->now.kind == IND_TOKEN_TEXT;
        if (!word || reader->now.text.length == 0 || ind_lex_word_is(reader, "is")) {
            ind_lex_wrong(reader, &reader->now,
                          test->field == IND_FIELD_LABEL ? "which label? write: label NAME is \"…\""
                          : test->field == IND_FIELD_FIELD
                              ? "which field? write: field NAME is \"…\""
                              : "which one? write the element's id and the parameter: data ID NAME is \"…\"",
                          IND_NOTHING, "");
            return;
        }
        *names[i] = reader->now.text;
        ind_lex_advance(reader);
    }
}

/* "facility is local4 or local5": after "or" stands a value where a test should. */
static void check_bare_value(struct ind_condition_reader *reader, const struct ind_test *test, size_t start)
{
    if (ind_lex_stopped(reader) || !(ind_lex_word_is(reader, "or") || ind_lex_word_is(reader, "and")))
        return;
    struct ind_condition_reader ahead = *reader;
    const struct ind_slice joint = reader->now.text;
    struct ind_mistake unused = {0};
    ahead.mistake = &unused;
    ind_lex_advance(&ahead);
    struct ind_slice word = ahead.now.text;
    bool bare = ahead.now.kind == IND_TOKEN_TEXT && !numeric(test);
    if (ahead.now.kind == IND_TOKEN_WORD && numeric(test) && ind_field_read(word) < 0) {
        bare =
            test->field == IND_FIELD_FACILITY ? ind_facility_read(word) >= 0 : ind_severity_read(word) >= 0;
        for (size_t i = 0; reader->named && i < reader->named->count; i++)
            bare &= !ind_slice_equal(word, ind_slice_of(reader->named->names[i]));
    }
    struct ind_token whole = {IND_TOKEN_WORD, start, ahead.now.at + ahead.now.length - start, IND_NOTHING};
    if (bare && ahead.now.kind == IND_TOKEN_TEXT && test->op != IND_OP_IS)
        ind_lex_wrong(reader, &whole, "each test names its field; write it again behind \"", joint, "\"");
    else if (bare && ahead.now.kind == IND_TOKEN_TEXT)
        ind_lex_wrong(reader, &whole, "each test names its field; for several values write \"",
                      ind_field_name(test->field), " in (\"…\", \"…\")\"");
    else if (bare)
        ind_lex_wrong(reader, &whole, "each test names its field; for several values write \"",
                      ind_field_name(test->field), " in (…, …)\"");
}

uint32_t ind_condition_read_test(struct ind_condition_reader *reader, unsigned field)
{
    struct ind_test test = {.field = (uint8_t)field};
    size_t start = reader->now.at;
    bool negated = false;
    ind_lex_advance(reader);
    if (field == IND_FIELD_LABEL || field == IND_FIELD_DATA || field == IND_FIELD_FIELD)
        read_names(reader, &test);
    if (!ind_lex_stopped(reader))
        operator_and_value(reader, &test, &negated);
    read_case(reader, &test);
    test.nocase |= kind_of(&test) == IND_KIND_NAME;
    if (test.regex && test.nocase)
        ignore_case_in_regex(reader, &test);
    check_bare_value(reader, &test, start);
    if (ind_lex_stopped(reader) || !add_finders(&test)) {
        ind_test_free(&test);
        return 0;
    }
    size_t length = reader->last_end - start;
    uint32_t place = ind_test_add(reader->set, &test);
    uint32_t node = ind_node_add(reader->set, IND_CONDITION_NODE_TEST, reader->kept, start, length);
    reader->set->nodes[node].test = place;
    if (!negated)
        return node;
    uint32_t outer = ind_node_add(reader->set, IND_CONDITION_NODE_NOT, reader->kept, start, length);
    reader->set->nodes[outer].first = node;
    return outer;
}
