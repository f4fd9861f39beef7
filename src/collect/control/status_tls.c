#include "collect/control/status_tls.h"

#include "collect/control/rows.h"

static json_t *time_text(ind_time time)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    ind_time_write(&buffer, time);
    return json_stringn(text, buffer.length);
}

static json_t *failed_object(const struct ind_status_listener *listener)
{
    json_t *object = json_object();
    for (int i = 0; i < IND_TLS_FAILURES; i++)
        if (listener->failed[i])
            json_object_set_new(object, ind_tls_failure_key((enum ind_tls_failure)i),
                                json_integer((json_int_t)listener->failed[i]));
    return object;
}

static json_t *ends_array(const struct ind_tls_expiries *expiries)
{
    static const char *const files[IND_TLS_PARTS] = {"certificate", "key", "clients", "revoked"};
    json_t *array = json_array();
    for (int i = 0; i < IND_TLS_PARTS; i++) {
        if (expiries->ends[i] == IND_TIME_NONE)
            continue;
        json_t *end = json_object();
        json_object_set_new(end, "file", json_string(files[i]));
        json_object_set_new(end, "name", json_string(expiries->names[i]));
        json_object_set_new(end, "ends", time_text(expiries->ends[i]));
        json_array_append_new(array, end);
    }
    return array;
}

void ind_status_add_tls(json_t *object, const struct ind_status_listener *listener)
{
    if (!listener->expiries)
        return;
    json_object_set_new(object, "handshakes", json_integer((json_int_t)listener->shaken));
    json_object_set_new(object, "handshakes_failed", failed_object(listener));
    json_object_set_new(object, "certificates", ends_array(listener->expiries));
}

json_t *ind_status_peers(const struct ind_status *status)
{
    json_t *array = json_array();
    for (size_t i = 0; i < status->peer_count; i++) {
        const struct ind_status_peer *peer = &status->peers[i];
        char text[IND_ADDRESS_WIDTH];
        struct ind_buffer address = ind_buffer_on(text, sizeof text);
        json_t *object = json_object();
        ind_address_write(&address, &peer->address);
        json_object_set_new(object, "certificate",
                            ind_rows_clean((struct ind_slice){peer->name, peer->name_length}));
        json_object_set_new(object, "listener", json_string(status->listeners[peer->listener].name));
        json_object_set_new(object, "sender", json_stringn(text, address.length));
        json_object_set_new(object, "handshakes", json_integer((json_int_t)peer->handshakes));
        json_object_set_new(object, "last", time_text(peer->last));
        json_array_append_new(array, object);
    }
    return array;
}
