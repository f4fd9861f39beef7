#include "collect/control/status_relays.h"

#include <string.h>

static void set(json_t *object, const char *name, uint64_t number)
{
    json_object_set_new(object, name, json_integer((json_int_t)number));
}

static json_t *target_object(const struct ind_named_relay_count *relay, unsigned number)
{
    const struct ind_target_count *count = &relay->count.targets[number];
    json_t *object = json_object();
    json_object_set_new(object, "target", json_string(relay->targets[number]));
    json_object_set_new(object, "state", json_string(count->up ? "up" : count->tried ? "down" : "not tried"));
    if (count->tried)
        set(object, "for_seconds", (uint64_t)count->since);
    if (count->reason[0] && !count->up)
        json_object_set_new(object, "reason", json_string(count->reason));
    set(object, "sent", count->sent);
    set(object, "bytes", count->bytes);
    set(object, "sent_again", count->again);
    set(object, "failures", count->failures);
    return object;
}

json_t *ind_status_takers(const struct ind_status *status)
{
    json_t *array = json_array();
    for (size_t i = 0; i < status->taker_count; i++) {
        const struct ind_taker_count *count = &status->takers[i];
        json_t *object = json_object(), *origins = json_array();
        json_object_set_new(object, "listener", json_string(count->name));
        json_object_set_new(object, "group", json_string(count->group));
        json_object_set_new(object, "state", json_string(count->up ? "up" : "down"));
        if (!count->up)
            json_object_set_new(object, "reason", json_string(count->reason));
        set(object, "batches", count->batches);
        set(object, "messages", count->messages);
        set(object, "repeated_batches", count->repeated_batches);
        set(object, "repeated", count->repeated);
        set(object, "delivered_again", count->again);
        set(object, "bad_batches", count->bad);
        for (unsigned n = 0; n < count->origin_count; n++) {
            json_t *origin = json_object();
            json_object_set_new(origin, "origin", json_string(count->origins[n].origin));
            set(origin, "messages", count->origins[n].messages);
            json_array_append_new(origins, origin);
        }
        json_object_set_new(object, "origins", origins);
        json_array_append_new(array, object);
    }
    return array;
}

json_t *ind_status_relays(const struct ind_status *status)
{
    json_t *array = json_array();
    for (size_t i = 0; i < status->relay_count; i++) {
        const struct ind_named_relay_count *relay = &status->relays[i];
        const struct ind_relay_count *count = &relay->count;
        json_t *object = json_object(), *targets = json_array();
        json_object_set_new(object, "relay", json_string(relay->name));
        json_object_set_new(object, "origin", json_string(count->origin));
        set(object, "taken", count->taken);
        set(object, "found", count->found);
        set(object, "sent", count->sent);
        set(object, "sent_again", count->again);
        set(object, "given_up", count->given_up);
        set(object, "not_taken", count->refused);
        set(object, "looped", count->looped);
        set(object, "damaged", count->damaged);
        set(object, "waiting", count->waiting);
        set(object, "waiting_bytes", count->waiting_bytes);
        set(object, "oldest_seconds", (uint64_t)count->oldest);
        set(object, "disk_bytes", count->disk_bytes);
        set(object, "space", relay->space);
        if (count->disk_error)
            json_object_set_new(object, "disk", json_string(strerror(count->disk_error)));
        for (unsigned n = 0; n < count->target_count; n++)
            json_array_append_new(targets, target_object(relay, n));
        json_object_set_new(object, "targets", targets);
        json_array_append_new(array, object);
    }
    return array;
}
