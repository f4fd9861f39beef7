/* One test put to one message. */
#include "core/condition_set.h"
#include "core/device.h"
#include "core/number.h"
#include "core/scan.h"
#include "core/structured_data.h"
#include <stdlib.h>

bool ind_answers_begin(struct ind_answers *answers, const struct ind_conditions *set)
{
    bool undone = (set->fields & (1u << IND_FIELD_DATA)) != 0;
    *answers = (struct ind_answers){.count = set->test_count + set->name_count + set->index_count + 1};
    answers->of_test = calloc(answers->count, sizeof *answers->of_test);
    answers->hits = calloc(set->test_count + 1, sizeof *answers->hits);
    if (answers->of_test) {
        answers->of_name = answers->of_test + set->test_count;
        answers->looked = answers->of_name + set->name_count;
    }
    answers->payload = malloc(sizeof *answers->payload);
    answers->scratch = malloc(IND_PAYLOAD_SCRATCH * (undone ? 2 : 1));
    answers->patterns = set->patterns;
    if (set->patterns && !(answers->matcher = ind_matcher_new(set->patterns)))
        return false;
    bool regexes = !set->regexes || ind_regex_room_begin(&answers->regex);
    return answers->of_test && answers->hits && answers->payload && answers->scratch && regexes;
}

void ind_answers_free(struct ind_answers *answers)
{
    free(answers->of_test);
    free(answers->hits);
    free(answers->marks);
    free(answers->payload);
    free(answers->scratch);
    ind_matcher_free(answers->matcher);
    ind_regex_room_end(&answers->regex);
    *answers = (struct ind_answers){0};
}

/* The layout that fits; what it gave is with the matcher. */
static const struct ind_pattern_layout *match(struct ind_answers *answers, const struct ind_message *message)
{
    if (!answers->matcher)
        return NULL;
    if (answers->pattern_round != answers->round || answers->round == 0) {
        answers->layout = ind_match(answers->matcher, message->text, message->app, false);
        answers->pattern_round = answers->round;
    }
    return answers->layout;
}

struct ind_slice ind_answers_pattern(struct ind_answers *answers, const struct ind_message *message)
{
    const struct ind_pattern_layout *layout = match(answers, message);
    return layout ? ind_pattern_name(answers->patterns, layout->pattern) : IND_NOTHING;
}

const struct ind_payload *ind_answers_payload(struct ind_answers *answers, const struct ind_message *message)
{
    if (answers->payload_round != answers->round || answers->round == 0) {
        struct ind_slice pattern = ind_answers_pattern(answers, message);
        ind_fields_read(message, answers->matcher, answers->layout, pattern, answers->scratch,
                        IND_PAYLOAD_SCRATCH, answers->payload);
        answers->payload_round = answers->round;
    }
    return answers->payload;
}

uint64_t ind_answers_gave_up(const struct ind_answers *answers)
{
    return answers->gave_up + (answers->matcher ? ind_matcher_gave_up(answers->matcher) : 0);
}

/* A field that the pattern itself gives needs no look at the payload. */
static bool field_value(const struct test *test, const struct ind_message *message,
                        struct ind_answers *answers, size_t *state, struct ind_slice *value)
{
    const struct ind_pattern_layout *layout =
        *state == 0 && !message->additions ? match(answers, message) : NULL;
    for (size_t i = 0; layout && i < layout->field_count; i++)
        if (ind_slice_equal(layout->fields[i].name, test->name)) {
            *state = SIZE_MAX;
            *value = ind_match_field(answers->matcher, &layout->fields[i]);
            return true;
        }
    return *state != SIZE_MAX &&
           ind_payload_find(ind_answers_payload(answers, message), test->name, state, value);
}

bool ind_message_lag(const struct ind_message *message, double *lag)
{
    if (message->sent == IND_TIME_NONE || message->received == IND_TIME_NONE)
        return false;
    *lag = (double)ind_lag_hundredths(message->received, message->sent) / 100;
    return true;
}

static struct ind_slice param_value(const struct ind_param *param, struct ind_answers *answers)
{
    if (!memchr(param->value.at, '\\', param->value.length))
        return param->value;
    struct ind_buffer undone = ind_buffer_on(answers->scratch + IND_PAYLOAD_SCRATCH, IND_PAYLOAD_SCRATCH);
    ind_data_unescape(param->value, &undone);
    return ind_buffer_view(&undone);
}

/* The next parameter of that name in the elements of that SD-ID. *state: where in such an element to go on.
 */
static bool data_value(const struct test *test, struct ind_slice data, struct ind_answers *answers,
                       size_t *state, struct ind_slice *value)
{
    size_t params = *state, after = 0;
    struct ind_slice id;
    struct ind_param param;
    bool wanted = params > 0;
    if (!wanted && !ind_data_element(data, 0, &id, &params))
        return false;
    wanted = wanted || ind_slice_equal(id, test->id);
    for (;;) {
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            if (wanted && ind_slice_equal(param.name, test->name)) {
                *state = param.next;
                *value = param_value(&param, answers);
                return true;
            }
        if (!ind_data_element(data, after, &id, &params))
            return false;
        wanted = ind_slice_equal(id, test->id);
    }
}

bool ind_test_value(const struct test *test, const struct ind_message *message, struct ind_answers *answers,
                    size_t *state, struct ind_slice *value)
{
    switch (test->field) {
    case IND_FIELD_DATA:
        return data_value(test, message->data, answers, state, value);
    case IND_FIELD_FIELD:
        return field_value(test, message, answers, state, value);
    case IND_FIELD_PATTERN:
        *value = *state == 0 ? ind_answers_pattern(answers, message) : IND_NOTHING;
        return (*state)++ == 0 && value->length > 0;
    default:
        *value = test->field == IND_FIELD_LABEL ? ind_message_label(message, test->name)
                                                : ind_field_text(message, test->field);
        return (*state)++ == 0 && value->length > 0;
    }
}

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

static const char *find(const struct test *test, size_t i, struct ind_slice whole)
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

static bool mentions(const struct test *test, size_t i, struct ind_slice whole)
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

static bool is_equal(const struct ind_conditions *set, const struct test *test, struct ind_slice value,
                     struct ind_slice wanted)
{
    if (ind_field_rows[test->field].kind == KIND_NAME)
        return ind_slice_equal_nocase(ind_without_domain(value, set->domain),
                                      ind_without_domain(wanted, set->domain));
    return test->nocase ? ind_slice_equal_nocase(value, wanted) : ind_slice_equal(value, wanted);
}

static bool starts(const struct test *test, struct ind_slice value, struct ind_slice wanted)
{
    return test->nocase ? ind_slice_starts_nocase(value, wanted) : ind_slice_starts(value, wanted);
}

static bool matches(const struct test *test, struct ind_slice value, struct ind_answers *answers)
{
    enum ind_regex_found found = ind_regex_match(test->regex, &answers->regex, value, 0, 0, NULL, NULL);
    answers->gave_up += found == IND_REGEX_GAVE_UP;
    return found == IND_REGEX_FOUND;
}

static bool text_fits(const struct ind_conditions *set, const struct test *test, size_t i,
                      struct ind_slice value, struct ind_answers *answers)
{
    struct ind_slice wanted = test->texts[i];
    switch (test->op) {
    case OP_IS:
        return is_equal(set, test, value, wanted);
    case OP_STARTS:
        return starts(test, value, wanted);
    case OP_ENDS:
        return value.length >= wanted.length &&
               starts(test, ind_slice_from(value, value.length - wanted.length), wanted);
    case OP_MENTIONS:
        return mentions(test, i, value);
    case OP_MATCHES:
        return matches(test, value, answers);
    default:
        return wanted.length == 0 || find(test, i, value) != NULL;
    }
}

static bool within(const struct test *test, struct ind_slice value)
{
    struct ind_address address;
    if (!ind_address_read(value, &address))
        return false;
    for (size_t i = 0; i < test->count; i++)
        if (ind_network_holds(&test->networks[i], &address))
            return true;
    return false;
}

static bool number_fits(const struct test *test, double number)
{
    return test->op == OP_AT_LEAST ? number >= test->limit : number <= test->limit;
}

bool ind_value_fits(const struct ind_conditions *set, const struct test *test, struct ind_slice value,
                    struct ind_answers *answers)
{
    double number;
    if (test->op == OP_PRESENT)
        return true;
    if (test->op == OP_WITHIN)
        return within(test, value);
    if (test->op == OP_AT_LEAST || test->op == OP_AT_MOST)
        return ind_number_read(value, &number) && number_fits(test, number);
    for (size_t i = 0; i < test->count; i++)
        if (text_fits(set, test, i, value, answers))
            return true;
    return false;
}

/* ---- Times ---- */

bool ind_in_spans(const struct test *test, unsigned minute)
{
    for (size_t i = 0; i < test->count; i++) {
        const struct span *span = &test->spans[i];
        bool begun = minute >= span->from, not_over = minute < span->to;
        if (span->from <= span->to ? begun && not_over : begun || not_over)
            return true;
    }
    return false;
}

const char *const ind_day_names[7] = {"monday", "tuesday",  "wednesday", "thursday",
                                      "friday", "saturday", "sunday"};

bool ind_message_local(const struct ind_conditions *set, const struct ind_message *message,
                       struct ind_civil *local)
{
    if (message->time == IND_TIME_NONE)
        return false;
    if (set->zone)
        ind_zone_civil(set->zone, message->time, local);
    else
        ind_civil_from_seconds(ind_time_seconds(message->time), local);
    return true;
}

static bool ask_time(const struct ind_conditions *set, const struct test *test,
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

bool ind_test_ask(const struct ind_conditions *set, const struct test *test,
                  const struct ind_message *message, struct ind_answers *answers)
{
    double lag;
    const struct ind_slice *in_place = ind_field_in_place(message, test->field);
    if (in_place)
        return in_place->length > 0 && ind_value_fits(set, test, *in_place, answers);
    switch (ind_field_rows[test->field].kind) {
    case KIND_FACILITY:
        return (test->numbers >> message->facility & 1) != 0;
    case KIND_SEVERITY:
        return (test->numbers >> message->severity & 1) != 0;
    case KIND_NUMBER:
        return ind_message_lag(message, &lag) && (test->op == OP_PRESENT || number_fits(test, lag));
    case KIND_TIME:
    case KIND_DAY:
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
