/* Our own engine of SNMP version 3, to which informs are addressed: STATE/engine.json. */
#include "collect/daemon/collector_private.h"

#include "core/base/escape.h"
#include "net/usm_keys.h"
#include "store/disk/state_file.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <unistd.h>

#define FILE_NAME "engine.json"

/* RFC 3411 section 5: an enterprise's number with its first bit set, which says that a format follows; 5:
 * octets of its own. The number is that of documentation (RFC 5612), as this program has none. */
static const char head[] = "\x80\x00\x7e\xd9\x05";
enum { HEAD = sizeof head - 1, OWN = 12 };

/* What the file says; false where there is none, or it is damaged. */
static bool read_engine(const char *state, struct ind_own_engine *own)
{
    char path[4200];
    json_error_t error;
    snprintf(path, sizeof path, "%s/" FILE_NAME, state);
    const int file = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    json_t *object = file >= 0 ? json_loadfd(file, 0, &error) : NULL;
    if (file >= 0)
        close(file);
    const char *id = json_string_value(json_object_get(object, "engine"));
    const json_int_t boots = json_integer_value(json_object_get(object, "starts"));
    const size_t length = id ? strlen(id) : 0;
    bool good = length == (size_t)2 * (HEAD + OWN) && boots > 0 && boots < INT32_MAX;
    for (size_t i = 0; good && i < length; i += 2) {
        const int high = ind_hex_digit(id[i]), low = ind_hex_digit(id[i + 1]);
        good = high >= 0 && low >= 0;
        own->id[i / 2] = (char)(high * 16 + low);
    }
    own->id_length = HEAD + OWN;
    own->boots = (uint32_t)boots;
    json_decref(object);
    return good;
}

static bool write_engine(const char *state, const struct ind_own_engine *own)
{
    char text[200], id[2 * (HEAD + OWN) + 1];
    for (size_t i = 0; i < own->id_length; i++)
        snprintf(id + 2 * i, 3, "%02x", (unsigned)(unsigned char)own->id[i]);
    snprintf(text, sizeof text, "{\"engine\": \"%s\", \"starts\": %lu}\n", id, (unsigned long)own->boots);
    return ind_state_file_write(state, FILE_NAME, text);
}

/* Its starts are counted before it says anything: where that cannot be kept, or was lost, it is another. */
void ind_engine_begin(struct ind_collector *collector)
{
    const char *state = collector->settings->config->state;
    struct ind_own_engine own = {.boots = 0};
    const bool known = read_engine(state, &own);
    own.began = ind_steady_now();
    own.boots = known ? own.boots + 1 : 1;
    for (int again = !known; again < 2; again++) {
        if (again) {
            memcpy(own.id, head, HEAD);
            own.id_length = HEAD + OWN;
            own.boots = 1;
            (void)ind_usm_random(own.id + HEAD, OWN);
        }
        if (write_engine(state, &own))
            break;
    }
    ind_trap_engines_begin(collector->receivers.engines, &own);
}
