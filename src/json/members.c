#include "json/members.h"

void ind_json_set_time(json_t *object, const char *key, ind_time time)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    if (time == IND_TIME_NONE)
        return;
    ind_time_write(&buffer, time);
    json_object_set_new(object, key, json_stringn(text, buffer.length));
}

void ind_json_set_number(json_t *object, const char *key, uint64_t number)
{
    json_object_set_new(object, key, json_integer((json_int_t)(number < INT64_MAX ? number : INT64_MAX)));
}
