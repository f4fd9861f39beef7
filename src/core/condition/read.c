/* From text to a condition: a hand-written descent over the three rules of the grammar. People write other
 * things first
 * ("severity >= warning", "facility is local4 or local5"); each of those that is common has its own message.
 */
#include "core/condition/lex_private.h"

static const struct ind_instead instead_of_joint[] = {
    {"&&", "\"and\""},  {"&", "\"and\""}, {"||", "\"or\""},           {"|", "\"or\""},
    {"AND", "\"and\""}, {"OR", "\"or\""}, {",", "\"and\" or \"or\""},
};

/* Names that other languages have for our fields. */
static const struct ind_instead instead_of_field[] = {
    {"source", "sender"}, {"ip", "sender"},         {"address", "sender"},     {"from", "sender"},
    {"message", "text"},  {"msg", "text"},          {"body", "text"},          {"content", "text"},
    {"raw", "original"},  {"program", "app"},       {"process", "app"},        {"tag", "app"},
    {"service", "app"},   {"hostname", "host"},     {"node", "host"},          {"level", "severity"},
    {"prio", "severity"}, {"priority", "severity"}, {"pid", "procid"},         {"hour", "time"},
    {"weekday", "day"},   {"input", "listener"},    {"protocol", "transport"},
};

/* People who want every message. */
static bool means_all(struct ind_slice word)
{
    static const char *const words[] = {"true", "all", "any", "everything", "always", "yes"};
    for (size_t i = 0; i < IND_COUNT(words); i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

static const char *near_field(struct ind_slice word)
{
    const char *names[IND_FIELDS];
    for (int i = 0; i < IND_FIELDS; i++)
        names[i] = ind_field_rows[i].name;
    return ind_near(word, names, IND_FIELDS);
}

/* A word that is no field and no named condition: what was it meant to be? */
static void wrong_word(struct ind_condition_reader *reader)
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
    const char *near = ind_lex_remedy(instead_of_field, IND_COUNT(instead_of_field), word);
    if (near) {
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown field \"", word,
                        "\"; here it is called ", ind_slice_of(near), "");
        return;
    }
    if (means_all(word)) {
        ind_lex_wrong(reader, &reader->now, "unknown condition \"", word,
                      "\"; for every message leave the condition out");
        return;
    }
    near = near_field(word);
    if (!near && reader->named)
        near = ind_near(word, reader->named->names, reader->named->count);
    if (near)
        ind_mistake_say(reader->mistake, reader->now.at, reader->now.length, "unknown field or condition \"",
                        word, "\"; did you mean \"", ind_slice_of(near), "\"?");
    else
        ind_lex_wrong(
            reader, &reader->now, "unknown field or condition \"", word,
            "\"; the fields are facility, severity, host, device, sender, listener, transport, certificate, "
            "app, procid, msgid, text, original, pattern, lag, label, data, field, time and day; what a "
            "pattern or a "
            "payload gives "
            "is written: field NAME is \"…\"");
}

static uint32_t name(struct ind_condition_reader *reader)
{
    const struct ind_named *named = reader->named;
    for (size_t i = 0; named && i < named->count; i++) {
        if (!ind_slice_equal(reader->now.text, ind_slice_of(named->names[i])))
            continue;
        struct ind_token token = reader->now;
        ind_condition inner = 0;
        enum ind_resolved resolved = named->resolve(named->context, i, &inner);
        if (resolved == IND_RESOLVED_CIRCLE)
            ind_lex_wrong(reader, &token, "the condition \"", token.text,
                          "\" uses itself; take it out of the circle");
        reader->broken |= resolved == IND_RESOLVED_BROKEN;
        if (ind_lex_stopped(reader))
            return 0;
        uint32_t node =
            ind_node_add(reader->set, IND_CONDITION_NODE_NAME, reader->kept, token.at, token.length);
        struct ind_condition_facts *facts = &reader->set->facts[inner];
        if (facts->name == 0)
            facts->name = (uint32_t)++reader->set->name_count;
        reader->set->nodes[node].first = inner;
        reader->set->nodes[node].test = facts->name - 1;
        ind_lex_advance(reader);
        return node;
    }
    wrong_word(reader);
    return 0;
}

static uint32_t any(struct ind_condition_reader *reader);

static uint32_t parentheses(struct ind_condition_reader *reader)
{
    struct ind_token open = reader->now;
    if (++reader->depth > IND_CONDITION_DEEPEST) {
        ind_lex_wrong(reader, &open,
                      "parentheses and \"not\" nested more than 50 deep; name a part under conditions:",
                      IND_NOTHING, "");
        return 0;
    }
    ind_lex_advance(reader);
    uint32_t inner = any(reader);
    reader->depth--;
    if (ind_lex_stopped(reader))
        return 0;
    if (reader->now.kind != IND_TOKEN_CLOSE) {
        ind_lex_wrong(reader, &open, "this \"(\" is never closed", IND_NOTHING, "");
        return 0;
    }
    ind_lex_advance(reader);
    return inner;
}

static uint32_t term(struct ind_condition_reader *reader)
{
    if (ind_lex_stopped(reader))
        return 0;
    size_t start = reader->now.at;
    if (ind_lex_accept_word(reader, "not")) {
        if (++reader->depth > IND_CONDITION_DEEPEST)
            ind_lex_wrong(reader, &reader->now,
                          "parentheses and \"not\" nested more than 50 deep; name a part under conditions:",
                          IND_NOTHING, "");
        uint32_t inner = term(reader);
        reader->depth--;
        uint32_t outer = ind_lex_stopped(reader)
                             ? 0
                             : ind_node_add(reader->set, IND_CONDITION_NODE_NOT, reader->kept, start,
                                            reader->last_end - start);
        if (outer)
            reader->set->nodes[outer].first = inner;
        return outer;
    }
    if (reader->now.kind == IND_TOKEN_OPEN)
        return parentheses(reader);
    if (reader->now.kind == IND_TOKEN_WORD) {
        int field = ind_field_read(reader->now.text);
        if (field >= 0)
            return ind_condition_read_test(reader, (unsigned)field);
        if (ind_lex_word_is(reader, "and") || ind_lex_word_is(reader, "or"))
            ind_lex_wrong(reader, &reader->now, "expected a test before \"", reader->now.text, "\"");
        else
            return name(reader);
    } else if (reader->now.kind == IND_TOKEN_OTHER && reader->now.text.at[0] == '!') {
        ind_lex_wrong(reader, &reader->now, "write \"not\" instead of \"", reader->now.text, "\"");
    } else {
        ind_lex_wrong(reader, &reader->now, "expected a test, such as: severity at least warning",
                      IND_NOTHING, "");
    }
    return 0;
}

/* One or more parts joined by one word, "and" or "or". */
static uint32_t joined(struct ind_condition_reader *reader, const char *joint,
                       enum ind_condition_node_kind kind, uint32_t (*part)(struct ind_condition_reader *))
{
    size_t start = reader->now.at;
    uint32_t first = part(reader);
    if (ind_lex_stopped(reader) || !ind_lex_word_is(reader, joint))
        return first;
    uint32_t node = ind_node_add(reader->set, kind, reader->kept, start, 0), last = first;
    reader->set->nodes[node].first = first;
    while (!ind_lex_stopped(reader) && ind_lex_accept_word(reader, joint)) {
        uint32_t next = part(reader);
        if (ind_lex_stopped(reader))
            return 0;
        reader->set->nodes[last].next = next;
        last = next;
    }
    reader->set->nodes[node].length = (uint32_t)(reader->last_end - start);
    return node;
}

static uint32_t all(struct ind_condition_reader *reader)
{
    return joined(reader, "and", IND_CONDITION_NODE_ALL, term);
}

static uint32_t any(struct ind_condition_reader *reader)
{
    return joined(reader, "or", IND_CONDITION_NODE_ANY, all);
}

bool ind_condition_read(struct ind_conditions *set, struct ind_slice text, const struct ind_named *named,
                        ind_condition *condition, struct ind_mistake *mistake)
{
    struct ind_condition_reader reader = {.set = set, .source = text, .named = named, .mistake = mistake};
    if (text.length > UINT32_MAX / 2) {
        ind_lex_wrong(&reader, &reader.now, "the condition is too long", IND_NOTHING, "");
        return false;
    }
    reader.source = ind_set_keep(set, text.at, text.length);
    reader.kept = (uint32_t)(set->kept_count - 1);
    ind_lex_advance(&reader);
    uint32_t root = any(&reader);
    if (!ind_lex_stopped(&reader) && reader.now.kind != IND_TOKEN_END) {
        const char *remedy = ind_lex_remedy(instead_of_joint, IND_COUNT(instead_of_joint), reader.now.text);
        if (remedy)
            ind_mistake_say(mistake, reader.now.at, reader.now.length, "unknown \"", reader.now.text,
                            "\"; write ", ind_slice_of(remedy), "");
        else
            ind_lex_wrong(&reader, &reader.now, "expected \"and\", \"or\" or the end, not \"",
                          reader.now.text, "\"");
    }
    if (set->out_of_memory)
        ind_mistake_say(mistake, 0, 0, "out of memory", IND_NOTHING, "", IND_NOTHING, "");
    *condition = root;
    if (ind_lex_stopped(&reader))
        return false;
    ind_facts_settle(set, root);
    return true;
}
