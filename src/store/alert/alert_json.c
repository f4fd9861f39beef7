#include "store/alert/alert_json.h"

#include "json/members.h"

static json_t *lines_of(const struct ind_alert *alert)
{
    json_t *lines = json_array();
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (alert->lines[i])
            json_array_append_new(lines, json_string(alert->lines[i]));
    return lines;
}

void ind_alert_add_to_json(json_t *object, const char *name, const struct ind_alert *alert)
{
    json_object_set_new(object, "alert", json_string(name));
    json_object_set_new(object, "key", json_string(alert->key));
    ind_json_set_number(object, "number", alert->number);
    ind_json_set_number(object, "messages", alert->count);
    ind_json_set_time(object, "opened", alert->opened);
    ind_json_set_time(object, "first", alert->first);
    ind_json_set_time(object, "last", alert->last);
    ind_json_set_time(object, "acknowledged", alert->acknowledged);
    if (alert->who[0])
        json_object_set_new(object, "acknowledged_by", json_string(alert->who));
    if (alert->note)
        json_object_set_new(object, "note", json_string(alert->note));
    ind_json_set_time(object, "over", alert->ended);
    json_object_set_new(object, "lines", lines_of(alert));
}
