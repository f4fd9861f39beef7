#include "cli/answer.h"

uint64_t ind_answer_number(const json_t *object, const char *key)
{
    return (uint64_t)json_integer_value(json_object_get(object, key));
}

const char *ind_answer_text(const json_t *object, const char *key)
{
    const char *text = json_string_value(json_object_get(object, key));
    return text ? text : "";
}

ind_time ind_answer_time(const json_t *object, const char *key)
{
    ind_time time;
    enum ind_time_style style;
    return ind_time_read(ind_slice_of(ind_answer_text(object, key)), &time, &style) ? time : IND_TIME_NONE;
}
