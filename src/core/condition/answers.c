/* The values of one message that tests ask for, each worked out at most once. */
#include "core/condition/condition_private.h"
#include "core/message/device.h"
#include "core/message/structured_data.h"
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
static const struct ind_pattern_syntax *match(struct ind_answers *answers, const struct ind_message *message)
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
    const struct ind_pattern_syntax *layout = match(answers, message);
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

/* A field that the pattern itself gives needs no look at the payload. */
static bool field_value(const struct ind_test *test, const struct ind_message *message,
                        struct ind_answers *answers, size_t *state, struct ind_slice *value)
{
    const struct ind_pattern_syntax *layout =
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
static bool data_value(const struct ind_test *test, struct ind_slice data, struct ind_answers *answers,
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

bool ind_test_value(const struct ind_test *test, const struct ind_message *message,
                    struct ind_answers *answers, size_t *state, struct ind_slice *value)
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
