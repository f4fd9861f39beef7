/* The values of a test: names, numbers, texts, networks, spans of the day, regular expressions. Each takes
 * the token at hand, and leaves the reader on it. */
#include "core/condition/value_private.h"

#include "core/base/number.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

bool ind_condition_is_comparative(struct ind_slice word)
{
    static const char *const words[] = {"higher", "lower",  "above", "below",
                                        "worse",  "better", "more",  "less"};
    for (size_t i = 0; i < IND_COUNT(words); i++)
        if (ind_slice_equal_nocase(word, ind_slice_of(words[i])))
            return true;
    return false;
}

static enum ind_field_kind kind_of(const struct ind_test *test)
{
    return ind_field_rows[test->field].kind;
}

static bool numeric(const struct ind_test *test)
{
    return kind_of(test) == IND_KIND_FACILITY || kind_of(test) == IND_KIND_SEVERITY;
}

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
    if (!facility && ind_condition_is_comparative(now->text)) {
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
                      "\"; the transports are udp, tcp, tls, unix, file, internal, nats and trap");
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
    if (test->regex) {
        char *room = text.length ? malloc(text.length) : NULL;
        if (room)
            test->needs = ind_regex_needs(text, room);
        if (test->needs.length)
            test->needs = ind_set_keep(reader->set, test->needs.at, test->needs.length);
        free(room);
        return;
    }
    struct ind_token place = {IND_TOKEN_TEXT, reader->now.at + 1 + error.offset, 1, IND_NOTHING};
    if (place.at >= reader->now.at + reader->now.length)
        place.at = reader->now.at + reader->now.length - 1;
    ind_lex_wrong(reader, &place, "no regular expression: ", ind_slice_of(error.reason), "");
}

/* Only behind the value it is known whether case matters. */
void ind_condition_ignore_case(struct ind_condition_reader *reader, struct ind_test *test)
{
    struct ind_regex_error error;
    ind_regex_free(test->regex);
    test->regex = ind_regex_new(test->texts[0], PCRE2_CASELESS, &error);
    test->needs = IND_NOTHING;
    reader->set->out_of_memory |= !test->regex;
}

void ind_condition_read_value(struct ind_condition_reader *reader, struct ind_test *test)
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

void ind_condition_read_values(struct ind_condition_reader *reader, struct ind_test *test)
{
    if (reader->now.kind != IND_TOKEN_OPEN) {
        ind_lex_wrong(reader, &reader->now, "expected \"(\" and a list: in (…, …)", IND_NOTHING, "");
        return;
    }
    do {
        ind_lex_advance(reader);
        ind_condition_read_value(reader, test);
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

bool ind_condition_add_finders(struct ind_test *test)
{
    if (!(test->op & (IND_OP_CONTAINS | IND_OP_MENTIONS)) || test->nocase || !test->texts)
        return true;
    test->finders = malloc(test->count * sizeof *test->finders);
    for (size_t i = 0; test->finders && i < test->count; i++)
        test->finders[i] = ind_finder_for(test->texts[i]);
    return test->finders != NULL;
}
