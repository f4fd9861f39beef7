/* Rows as JSON, written straight into one growing block: a status of ten thousand devices has some megabytes.
 */
#include "collect/control/rows.h"
#include "core/base/escape.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

/* More than any row takes: names have 256 bytes at most, which become four times as many as stored lines
 * write them, and that at most twice as many in JSON. */
enum { ROW = 64 << 10 };

struct text {
    char *at;
    size_t length, room;
};

static bool make_room(struct text *text)
{
    if (text->room - text->length >= ROW)
        return true;
    size_t room = text->room ? text->room * 2 : 4 * ROW;
    char *grown = realloc(text->at, room);
    if (!grown)
        return false;
    text->at = grown;
    text->room = room;
    return true;
}

/* ---- Members ----
 *
 * Keys are written with what stands around them, so that they are one copy. */

static void number(struct ind_buffer *out, struct ind_slice key, uint64_t value)
{
    ind_buffer_slice(out, key);
    ind_buffer_number(out, value);
}

/* Keys that are known by number only. */
struct keys {
    struct ind_slice ends[IND_ENDS], forms[IND_FORMS];
    char room[(IND_ENDS + IND_FORMS) * 32];
};

static struct ind_slice make_key(struct ind_buffer *room, const char *name)
{
    const size_t start = room->length;
    ind_buffer_text(room, ",\"");
    ind_buffer_text(room, name);
    ind_buffer_text(room, "\":");
    return (struct ind_slice){room->at + start, room->length - start};
}

static void make_keys(struct keys *keys)
{
    struct ind_buffer room = ind_buffer_on(keys->room, sizeof keys->room);
    for (int end = 0; end < IND_ENDS; end++)
        keys->ends[end] = make_key(&room, ind_end_key((enum ind_end)end));
    for (unsigned form = 0; form < IND_FORMS; form++)
        keys->forms[form] = make_key(&room, ind_form_name(form).at);
}

static void flag(struct ind_buffer *out, bool value)
{
    ind_buffer_add(out, value ? "true" : "false", value ? 4 : 5);
}

/* Text from the network, as stored lines write it. */
static void quoted(struct ind_buffer *out, struct ind_slice text)
{
    char room[2048];
    struct ind_buffer clean = ind_buffer_on(room, sizeof room);
    text.length = text.length < 256 ? text.length : 256;
    ind_escape_column(&clean, text);
    ind_buffer_byte(out, '"');
    (void)ind_escape_json(out, ind_buffer_view(&clean), false, false);
    ind_buffer_byte(out, '"');
}

static void put_time(struct ind_buffer *out, ind_time time)
{
    ind_buffer_byte(out, '"');
    ind_time_write(out, time);
    ind_buffer_byte(out, '"');
}

static void hundredths(struct ind_buffer *out, double value)
{
    long long all = llround(value * 100);
    unsigned long long size = all < 0 ? 0ull - (unsigned long long)all : (unsigned long long)all;
    ind_buffer_text(out, all < 0 ? "-" : "");
    ind_buffer_number(out, size / 100);
    ind_buffer_byte(out, '.');
    ind_buffer_byte(out, (char)('0' + size / 10 % 10));
    ind_buffer_byte(out, (char)('0' + size % 10));
}

static void hosts_member(struct ind_buffer *out, const struct ind_row_names *names)
{
    ind_buffer_slice(out, IND_SLICE(",\"hosts\":"));
    ind_buffer_byte(out, '[');
    for (unsigned i = 0; names && i < names->host_count; i++) {
        ind_buffer_text(out, i ? "," : "");
        quoted(out, names->hosts[i]);
    }
    ind_buffer_byte(out, ']');
}

/* ---- Rows ---- */

/* The first of an object. */
static void ledger_members(struct ind_buffer *out, const struct keys *keys, const struct ind_ledger *ledger)
{
    ind_buffer_slice(out, IND_SLICE("\"received\":"));
    ind_buffer_number(out, ledger->received);
    for (int end = 0; end < IND_ENDS; end++) {
        ind_buffer_slice(out, keys->ends[end]);
        ind_buffer_number(out, ledger->ended[end]);
    }
    number(out, IND_SLICE(",\"waiting\":"), ledger->waiting);
    ind_buffer_slice(out, IND_SLICE(",\"adds_up\":"));
    flag(out, ledger->received == ind_ledger_accounted(ledger));
    number(out, IND_SLICE(",\"malformed\":"), ledger->malformed);
    number(out, IND_SLICE(",\"cut\":"), ledger->cut);
    number(out, IND_SLICE(",\"gave_up\":"), ledger->gave_up);
    number(out, IND_SLICE(",\"bytes\":"), ledger->bytes);
    ind_buffer_slice(out, IND_SLICE(",\"formats\":"));
    ind_buffer_byte(out, '{');
    for (unsigned form = IND_FORMS; form-- > 0;) {
        const struct ind_slice key = keys->forms[form]; /* the first without its comma */
        ind_buffer_slice(out, form == IND_FORMS - 1 ? ind_slice_from(key, 1) : key);
        ind_buffer_number(out, ledger->forms[form]);
    }
    ind_buffer_byte(out, '}');
}

json_t *ind_rows_severities(const struct ind_ledger *ledger)
{
    json_t *object = json_object();
    for (unsigned i = 0; i < IND_SEVERITIES; i++)
        json_object_set_new(object, ind_severity_name(i).at, json_integer((json_int_t)ledger->severities[i]));
    return object;
}

json_t *ind_rows_ledger(const struct ind_ledger *ledger)
{
    char text[2048];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    struct keys keys;
    make_keys(&keys);
    ind_buffer_byte(&out, '{');
    ledger_members(&out, &keys, ledger);
    ind_buffer_byte(&out, '}');
    json_t *object = json_loadb(text, out.length, 0, NULL);
    if (object)
        json_object_set_new(object, "severities", ind_rows_severities(ledger));
    return object;
}

static void clock_members(struct ind_buffer *out, const struct ind_row *row)
{
    char text[120];
    const struct ind_clock_offset_summary summary = ind_row_clock(row);
    struct ind_buffer clock = ind_buffer_on(text, sizeof text);
    if (row->last != IND_TIME_NONE) {
        ind_buffer_slice(out, IND_SLICE(",\"last\":"));
        put_time(out, row->last);
    }
    if (summary.known) {
        ind_buffer_slice(out, IND_SLICE(",\"lag\":"));
        hundredths(out, (double)summary.median / 1e9);
        ind_buffer_slice(out, IND_SLICE(",\"lag_spread\":"));
        hundredths(out, (double)summary.spread / 1e9);
    }
    if (summary.drifts) {
        ind_buffer_slice(out, IND_SLICE(",\"drift\":"));
        hundredths(out, summary.drift);
    }
    ind_clock_offset_write(&clock, &summary);
    ind_buffer_slice(out, IND_SLICE(",\"clock\":"));
    ind_buffer_byte(out, '"');
    (void)ind_escape_json(out, ind_buffer_view(&clock), false, false);
    ind_buffer_byte(out, '"');
}

/* The configured devices whose names a sender bears without a right to them, and where they are. */
static void claims_member(struct ind_buffer *out, const struct ind_config *config, const struct ind_row *row)
{
    ind_buffer_slice(out, IND_SLICE(",\"claims\":"));
    ind_buffer_byte(out, '[');
    for (unsigned i = 0; row->names && i < row->names->claim_count; i++) {
        const struct ind_slice claimed = row->names->claims[i];
        const struct ind_device *device = ind_devices_by_name(config->devices, claimed);
        ind_buffer_text(out, i ? ",{" : "{");
        ind_buffer_slice(out, IND_SLICE("\"device\":"));
        quoted(out, claimed);
        if (device && device->network.address.bits) {
            ind_buffer_slice(out, IND_SLICE(",\"configured_at\":"));
            ind_buffer_byte(out, '"');
            ind_address_write(out, &device->network.address);
            ind_buffer_byte(out, '"');
        }
        ind_buffer_byte(out, '}');
    }
    ind_buffer_byte(out, ']');
}

static void device_members(struct ind_buffer *out, const struct keys *keys, const struct ind_config *config,
                           const struct ind_row *row)
{
    (void)config;
    ledger_members(out, keys, &row->ledger);
    ind_buffer_slice(out, IND_SLICE(",\"device\":"));
    quoted(out, (struct ind_slice){row->name, row->name_length});
    clock_members(out, row);
}

json_t *ind_rows_device(const struct ind_row *row, const struct ind_config *config)
{
    char text[4096];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    struct keys keys;
    make_keys(&keys);
    ind_buffer_byte(&out, '{');
    device_members(&out, &keys, config, row);
    ind_buffer_byte(&out, '}');
    return json_loadb(text, out.length, 0, NULL);
}

static void stranger_members(struct ind_buffer *out, const struct keys *keys, const struct ind_config *config,
                             const struct ind_row *row)
{
    (void)keys;
    ind_buffer_slice(out, IND_SLICE("\"sender\":"));
    quoted(out, (struct ind_slice){row->name, row->name_length});
    hosts_member(out, row->names);
    claims_member(out, config, row);
    number(out, IND_SLICE(",\"received\":"), row->ledger.received);
    ind_buffer_slice(out, IND_SLICE(",\"refused\":"));
    flag(out, row->refused);
    clock_members(out, row);
}

/* ---- The tables ---- */

/* False where memory is out. `first`: of its table. */
static bool begin_row(struct text *text, struct ind_buffer *out, bool first)
{
    if (!make_room(text))
        return false;
    *out = ind_buffer_on(text->at + text->length, text->room - text->length);
    ind_buffer_text(out, first ? "{" : ",{");
    return true;
}

static void end_row(struct text *text, struct ind_buffer *out)
{
    ind_buffer_byte(out, '}');
    text->length += out->length;
}

static bool add_text(struct text *text, const char *more)
{
    if (!make_room(text))
        return false;
    struct ind_buffer out = ind_buffer_on(text->at + text->length, ROW);
    ind_buffer_text(&out, more);
    text->length += out.length;
    return true;
}

/* A table, the busiest first, each row by `members`. */
static bool add_table(struct text *text, const struct ind_row *table, const struct ind_config *config,
                      void (*members)(struct ind_buffer *out, const struct keys *keys,
                                      const struct ind_config *config, const struct ind_row *row))
{
    struct ind_buffer out;
    struct keys keys;
    size_t count, i = 0;
    const struct ind_row **rows = ind_rows_sorted(table, &count);
    make_keys(&keys);
    while (i < count && begin_row(text, &out, i == 0)) {
        members(&out, &keys, config, rows[i++]);
        end_row(text, &out);
    }
    free((void *)(uintptr_t)rows);
    return rows && i == count;
}

/* Configured devices of which nothing has come, or not for a while: the first thousand are enough to see that
 * something is wrong with all. */
static bool add_silent(struct text *text, const struct ind_rows *rows, const struct ind_status *status)
{
    enum { MOST = 1000 };
    struct ind_buffer out;
    size_t count = 0;
    for (size_t i = 0; i < ind_devices_count(status->config->devices) && count < MOST; i++) {
        const struct ind_device *device = ind_devices_at(status->config->devices, i);
        ind_time last;
        if (!ind_rows_is_silent(rows, status, device, &last))
            continue;
        if (!begin_row(text, &out, count++ == 0))
            return false;
        ind_buffer_slice(&out, IND_SLICE("\"device\":"));
        quoted(&out, (struct ind_slice){device->name, device->name_length});
        if (last != IND_TIME_NONE) {
            ind_buffer_slice(&out, IND_SLICE(",\"last\":"));
            put_time(&out, last);
        }
        end_row(text, &out);
    }
    return true;
}

/* Without its last brace: members follow. */
static bool begin_object(struct text *text, const char *object)
{
    text->length = strlen(object) - 1;
    text->room = 2 * text->length + 16 * ROW;
    text->at = malloc(text->room);
    if (text->at)
        memcpy(text->at, object, text->length);
    return text->at != NULL;
}

char *ind_rows_text(const char *object, const struct ind_rows *rows, const struct ind_status *status)
{
    struct text text = {0};
    bool good = begin_object(&text, object) && add_text(&text, ",\"devices\":[") &&
                add_table(&text, rows->devices, status->config, device_members) &&
                add_text(&text, "],\"silent_devices\":[") && add_silent(&text, rows, status) &&
                add_text(&text, "],\"unknown_senders\":[") &&
                add_table(&text, rows->strangers, status->config, stranger_members) && add_text(&text, "]}");
    if (good && make_room(&text)) {
        text.at[text.length] = '\0';
        return text.at;
    }
    free(text.at);
    return NULL;
}
