/* One test put to one message. */
#include "core/base/number.h"
#include "core/base/scan.h"
#include "core/condition/condition_private.h"
#include "core/message/device.h"
#include "core/message/structured_data.h"
#include <stdlib.h>

/* ---- Texts ---- */

static const char *find_nocase(struct ind_slice whole, struct ind_slice part)
{
    const char *end = whole.at + whole.length;
    char small = ind_lower(part.at[0]), capital = small >= 'a' && small <= 'z' ? (char)(small - 32) : small;
    for (const char *at = whole.at; (at = ind_scan_either(at, end, small, capital)) < end; at++)
        if (ind_slice_starts_nocase((struct ind_slice){at, (size_t)(end - at)}, part))
            return at;
    return NULL;
}

static const char *find(const struct ind_test *test, size_t i, struct ind_slice whole)
{
    return test->nocase ? find_nocase(whole, test->texts[i])
                        : ind_find(&test->finders[i], whole.at, whole.length);
}

/* Letters, digits, and whatever is not ASCII. */
static bool in_word(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || (unsigned char)c >= 0x80;
}

bool ind_is_whole_word(struct ind_slice whole, const char *at, size_t length)
{
    const char *behind = at + length;
    bool begins = at == whole.at || !in_word(at[-1]) || !in_word(*at);
    return begins && (behind == whole.at + whole.length || !in_word(*behind) || !in_word(behind[-1]));
}

static bool mentions(const struct ind_test *test, size_t i, struct ind_slice whole)
{
    const char *end = whole.at + whole.length, *at;
    struct ind_slice rest = whole;
    while ((at = find(test, i, rest)) != NULL) {
        if (ind_is_whole_word(whole, at, test->texts[i].length))
            return true;
        rest = (struct ind_slice){at + 1, (size_t)(end - at) - 1};
    }
    return false;
}

static bool is_equal(const struct ind_conditions *set, const struct ind_test *test, struct ind_slice value,
                     struct ind_slice wanted)
{
    if (ind_field_rows[test->field].kind == IND_KIND_NAME)
        return ind_slice_equal_nocase(ind_without_domain(value, set->domain),
                                      ind_without_domain(wanted, set->domain));
    return test->nocase ? ind_slice_equal_nocase(value, wanted) : ind_slice_equal(value, wanted);
}

static bool starts(const struct ind_test *test, struct ind_slice value, struct ind_slice wanted)
{
    return test->nocase ? ind_slice_starts_nocase(value, wanted) : ind_slice_starts(value, wanted);
}

static bool matches(const struct ind_test *test, struct ind_slice value, struct ind_answers *answers)
{
    enum ind_regex_found found = ind_regex_match(test->regex, &answers->regex, value, 0, 0, NULL, NULL);
    answers->gave_up += found == IND_REGEX_GAVE_UP;
    return found == IND_REGEX_FOUND;
}

static bool text_fits(const struct ind_conditions *set, const struct ind_test *test, size_t i,
                      struct ind_slice value, struct ind_answers *answers)
{
    struct ind_slice wanted = test->texts[i];
    switch (test->op) {
    case IND_OP_IS:
        return is_equal(set, test, value, wanted);
    case IND_OP_STARTS:
        return starts(test, value, wanted);
    case IND_OP_ENDS:
        return value.length >= wanted.length &&
               starts(test, ind_slice_from(value, value.length - wanted.length), wanted);
    case IND_OP_MENTIONS:
        return mentions(test, i, value);
    case IND_OP_MATCHES:
        return matches(test, value, answers);
    default:
        return wanted.length == 0 || find(test, i, value) != NULL;
    }
}

static bool within(const struct ind_test *test, struct ind_slice value)
{
    struct ind_address address;
    if (!ind_address_read(value, &address))
        return false;
    for (size_t i = 0; i < test->count; i++)
        if (ind_network_holds(&test->networks[i], &address))
            return true;
    return false;
}

static bool number_fits(const struct ind_test *test, double number)
{
    return test->op == IND_OP_AT_LEAST ? number >= test->limit : number <= test->limit;
}

bool ind_value_fits(const struct ind_conditions *set, const struct ind_test *test, struct ind_slice value,
                    struct ind_answers *answers)
{
    double number;
    if (test->op == IND_OP_PRESENT)
        return true;
    if (test->op == IND_OP_WITHIN)
        return within(test, value);
    if (test->op == IND_OP_AT_LEAST || test->op == IND_OP_AT_MOST)
        return ind_number_read(value, &number) && number_fits(test, number);
    for (size_t i = 0; i < test->count; i++)
        if (text_fits(set, test, i, value, answers))
            return true;
    return false;
}

/* ---- Times ---- */

bool ind_in_spans(const struct ind_test *test, unsigned minute)
{
    for (size_t i = 0; i < test->count; i++) {
        const struct ind_day_span *span = &test->spans[i];
        bool begun = minute >= span->from, not_over = minute < span->to;
        if (span->from <= span->to ? begun && not_over : begun || not_over)
            return true;
    }
    return false;
}

static bool ask_time(const struct ind_conditions *set, const struct ind_test *test,
                     const struct ind_message *message)
{
    struct ind_civil local;
    if (!ind_message_local(set, message, &local))
        return false;
    if (test->field == IND_FIELD_DAY)
        return (test->numbers >> local.weekday & 1) != 0;
    unsigned minute = (unsigned)(local.hour * 60 + local.minute);
    return ind_in_spans(test, minute);
}

bool ind_test_ask(const struct ind_conditions *set, const struct ind_test *test,
                  const struct ind_message *message, struct ind_answers *answers)
{
    double lag;
    const struct ind_slice *in_place = ind_field_in_place(message, test->field);
    if (in_place)
        return in_place->length > 0 && ind_value_fits(set, test, *in_place, answers);
    switch (ind_field_rows[test->field].kind) {
    case IND_KIND_FACILITY:
        return (test->numbers >> message->facility & 1) != 0;
    case IND_KIND_SEVERITY:
        return (test->numbers >> message->severity & 1) != 0;
    case IND_KIND_NUMBER:
        return ind_message_lag(message, &lag) && (test->op == IND_OP_PRESENT || number_fits(test, lag));
    case IND_KIND_TIME:
    case IND_KIND_DAY:
        return ask_time(set, test, message);
    default:
        break;
    }
    size_t state = 0;
    struct ind_slice value;
    while (ind_test_value(test, message, answers, &state, &value))
        if (ind_value_fits(set, test, value, answers))
            return true;
    return false;
}
