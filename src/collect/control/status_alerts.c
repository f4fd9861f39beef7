#include "collect/control/status_alerts.h"

static void set(json_t *object, const char *name, uint64_t number)
{
    json_object_set_new(object, name, json_integer((json_int_t)number));
}

static json_t *way_object(const struct ind_desk_way *way)
{
    json_t *object = json_object();
    json_object_set_new(object, "way", json_string(way->id));
    json_object_set_new(object, "state", json_string(way->failing ? "failing" : "good"));
    if (way->failing)
        json_object_set_new(object, "reason", json_string(way->reason));
    set(object, "delivered", way->delivered);
    set(object, "failed", way->failed);
    set(object, "waiting", way->waiting);
    return object;
}

json_t *ind_status_alerts(const struct ind_status *status)
{
    const struct ind_desk_count *count = status->alerts;
    if (!count)
        return NULL;
    json_t *object = json_object(), *ways = json_array();
    set(object, "open", count->alerts.open);
    set(object, "acknowledged", count->alerts.acknowledged);
    set(object, "watched", count->alerts.watched);
    set(object, "forgotten", count->alerts.forgotten);
    set(object, "joined", count->alerts.joined);
    set(object, "missed", count->missed);
    set(object, "held_back", count->held);
    set(object, "muted", count->mutes);
    if (count->file_failed)
        json_object_set_new(object, "file", json_string(count->file_reason));
    for (size_t i = 0; i < count->way_count; i++)
        json_array_append_new(ways, way_object(&count->ways[i]));
    json_object_set_new(object, "ways", ways);
    return object;
}
