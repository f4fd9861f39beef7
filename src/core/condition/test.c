/* FIELD OPERATOR VALUE. Which operators a field takes is in ind_field_rows (field.c); an operator is a
 * row of `operators` below. */
#include "core/condition/value_private.h"

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
    ind_condition_read_value(reader, test);
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
        if (ahead.now.kind == IND_TOKEN_WORD && ind_condition_is_comparative(ahead.now.text))
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
    ind_condition_read_value(reader, test);
}

static void one_or_more(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (reader->now.kind == IND_TOKEN_OPEN)
        ind_condition_read_values(reader, test);
    else
        ind_condition_read_value(reader, test);
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
        ind_condition_read_value(reader, test);
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
            ind_condition_read_values(reader, test);
    } else if (allows(test, IND_OP_IS) && ind_lex_accept_word(reader, "in")) {
        ind_condition_read_values(reader, test);
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
        ind_condition_ignore_case(reader, &test);
    check_bare_value(reader, &test, start);
    if (ind_lex_stopped(reader) || !ind_condition_add_finders(&test)) {
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
