/* CEF: seven columns between bars, then key=value pairs whose values may hold spaces: a value ends where the
 * next key begins. `\|` and `\\` are escapes in the columns, `\=`, `\\`, `\n` and `\r` in the values. */
#include "core/base/scan.h"
#include "core/payload/payload_private.h"

static const char escaped[] = "|=\\nr";

/* The next byte of that kind that no `\` stands before, or the end. */
static const char *find_unescaped(const char *at, const char *end, char wanted)
{
    for (;;) {
        at = ind_scan_either(at, end, wanted, '\\');
        if (at == end || *at == wanted)
            return at;
        at += end - at > 1 ? 2 : 1;
    }
}

static void add(struct ind_payload *payload, struct ind_slice name, const char *from, const char *to)
{
    while (to > from && to[-1] == ' ')
        to--;
    if (name.length)
        (void)ind_payload_add(
            payload, name, ind_payload_undo((struct ind_slice){from, (size_t)(to - from)}, escaped, payload));
}

/* A key follows a space. A "=" without one since the last "=" should have been escaped: it belongs to the
 * value. */
static void read_extension(const char *at, const char *end, struct ind_payload *payload)
{
    struct ind_slice name = IND_NOTHING;
    const char *value = at, *floor = at;
    while (at < end && !payload->more) {
        const char *equals = find_unescaped(at, end, '='), *key = equals;
        if (equals == end)
            break;
        while (key > floor && key[-1] != ' ')
            key--;
        if (key > floor || name.length == 0) {
            add(payload, name, value, key);
            name = (struct ind_slice){key, (size_t)(equals - key)};
            value = equals + 1;
        }
        at = floor = equals + 1;
    }
    add(payload, name, value, end);
}

bool ind_payload_read_cef(struct ind_slice text, struct ind_payload *payload)
{
    static const char *const names[] = {"cef_version",        "cef_device_vendor",  "cef_device_product",
                                        "cef_device_version", "cef_event_class_id", "cef_name",
                                        "cef_severity"};
    const char *at = text.at, *end = at + text.length;
    while (at < end && *at == ' ')
        at++;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        const char *bar = find_unescaped(at, end, '|');
        if (bar == end && i < 6)
            return false;
        struct ind_slice value = {at, (size_t)(bar - at)};
        if (value.length)
            (void)ind_payload_add(payload, ind_slice_of(names[i]), ind_payload_undo(value, escaped, payload));
        at = bar < end ? bar + 1 : end;
    }
    read_extension(at, end, payload);
    return true;
}
