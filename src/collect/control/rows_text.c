/* Rows as JSON, written straight into one growing block: a status of ten thousand devices has some megabytes.
 */
#include "collect/control/rows.h"
#include "core/base/escape.h"

#include <math.h>
#include <stdlib.h>

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

/* ---- Members ---- */

static void key(struct ind_buffer *out, const char *name)
{
    if (out->at[out->length - 1] != '{')
        ind_buffer_byte(out, ',');
    ind_buffer_byte(out, '"');
    ind_buffer_text(out, name);
    ind_buffer_text(out, "\":");
}

static void number(struct ind_buffer *out, const char *name, uint64_t value)
{
    key(out, name);
    ind_buffer_number(out, value);
}

static void flag(struct ind_buffer *out, const char *name, bool value)
{
    key(out, name);
    ind_buffer_text(out, value ? "true" : "false");
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

static void text_member(struct ind_buffer *out, const char *name, struct ind_slice text)
{
    key(out, name);
    quoted(out, text);
}

static void time_member(struct ind_buffer *out, const char *name, ind_time time)
{
    if (time == IND_TIME_NONE)
        return;
    key(out, name);
    ind_buffer_byte(out, '"');
    ind_time_write(out, time);
    ind_buffer_byte(out, '"');
}

static void hundredths(struct ind_buffer *out, const char *name, double value)
{
    long long all = llround(value * 100);
    unsigned long long size = all < 0 ? 0ull - (unsigned long long)all : (unsigned long long)all;
    key(out, name);
    ind_buffer_text(out, all < 0 ? "-" : "");
    ind_buffer_number(out, size / 100);
    ind_buffer_byte(out, '.');
    ind_buffer_byte(out, (char)('0' + size / 10 % 10));
    ind_buffer_byte(out, (char)('0' + size % 10));
}

static void hosts_member(struct ind_buffer *out, const struct ind_row_names *names)
{
    key(out, "hosts");
    ind_buffer_byte(out, '[');
    for (unsigned i = 0; names && i < names->host_count; i++) {
        ind_buffer_text(out, i ? "," : "");
        quoted(out, names->hosts[i]);
    }
    ind_buffer_byte(out, ']');
}

/* ---- Rows ---- */

static void ledger_members(struct ind_buffer *out, const struct ind_ledger *ledger)
{
    number(out, "received", ledger->received);
    for (int end = 0; end < IND_ENDS; end++)
        number(out, ind_end_key((enum ind_end)end), ledger->ended[end]);
    number(out, "waiting", ledger->waiting);
    flag(out, "adds_up", ledger->received == ind_ledger_accounted(ledger));
    number(out, "malformed", ledger->malformed);
    number(out, "cut", ledger->cut);
    number(out, "gave_up", ledger->gave_up);
    number(out, "bytes", ledger->bytes);
    key(out, "formats");
    ind_buffer_byte(out, '{');
    for (unsigned form = IND_FORMS; form-- > 0;)
        number(out, ind_form_name(form).at, ledger->forms[form]);
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
    ind_buffer_byte(&out, '{');
    ledger_members(&out, ledger);
    ind_buffer_byte(&out, '}');
    json_t *object = json_loadb(text, out.length, 0, NULL);
    if (object)
        json_object_set_new(object, "severities", ind_rows_severities(ledger));
    return object;
}

static void clock_members(struct ind_buffer *out, const struct ind_row *row)
{
    char text[120];
    struct ind_buffer clock = ind_buffer_on(text, sizeof text);
    time_member(out, "last", row->last);
    if (row->offset.known) {
        hundredths(out, "lag", (double)row->offset.median / 1e9);
        hundredths(out, "lag_spread", (double)row->offset.spread / 1e9);
    }
    if (row->offset.drifts)
        hundredths(out, "drift", row->offset.drift);
    ind_clock_offset_write(&clock, &row->offset);
    key(out, "clock");
    ind_buffer_byte(out, '"');
    (void)ind_escape_json(out, ind_buffer_view(&clock), false, false);
    ind_buffer_byte(out, '"');
}

/* The configured devices whose names a sender bears without a right to them, and where they are. */
static void claims_member(struct ind_buffer *out, const struct ind_config *config, const struct ind_row *row)
{
    key(out, "claims");
    ind_buffer_byte(out, '[');
    for (unsigned i = 0; row->names && i < row->names->claim_count; i++) {
        const struct ind_slice claimed = row->names->claims[i];
        const struct ind_device *device = ind_devices_by_name(config->devices, claimed);
        ind_buffer_text(out, i ? ",{" : "{");
        text_member(out, "device", claimed);
        if (device && device->network.address.bits) {
            key(out, "configured_at");
            ind_buffer_byte(out, '"');
            ind_address_write(out, &device->network.address);
            ind_buffer_byte(out, '"');
        }
        ind_buffer_byte(out, '}');
    }
    ind_buffer_byte(out, ']');
}

static void device_members(struct ind_buffer *out, const struct ind_config *config, const struct ind_row *row)
{
    (void)config;
    ledger_members(out, &row->ledger);
    text_member(out, "device", (struct ind_slice){row->name, row->name_length});
    clock_members(out, row);
}

json_t *ind_rows_device(const struct ind_row *row, const struct ind_config *config)
{
    char text[4096];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    ind_buffer_byte(&out, '{');
    device_members(&out, config, row);
    ind_buffer_byte(&out, '}');
    return json_loadb(text, out.length, 0, NULL);
}

static void stranger_members(struct ind_buffer *out, const struct ind_config *config,
                             const struct ind_row *row)
{
    text_member(out, "sender", (struct ind_slice){row->name, row->name_length});
    hosts_member(out, row->names);
    claims_member(out, config, row);
    number(out, "received", row->ledger.received);
    flag(out, "refused", row->refused);
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
                      void (*members)(struct ind_buffer *out, const struct ind_config *config,
                                      const struct ind_row *row))
{
    struct ind_buffer out;
    size_t count, i = 0;
    const struct ind_row **rows = ind_rows_sorted(table, &count);
    while (i < count && begin_row(text, &out, i == 0)) {
        members(&out, config, rows[i++]);
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
        text_member(&out, "device", (struct ind_slice){device->name, device->name_length});
        time_member(&out, "last", last);
        end_row(text, &out);
    }
    return true;
}

char *ind_rows_text(const struct ind_rows *rows, const struct ind_status *status)
{
    struct text text = {0};
    bool good = add_text(&text, ",\"devices\":[") &&
                add_table(&text, rows->devices, status->config, device_members) &&
                add_text(&text, "],\"silent_devices\":[") && add_silent(&text, rows, status) &&
                add_text(&text, "],\"unknown_senders\":[") &&
                add_table(&text, rows->strangers, status->config, stranger_members) && add_text(&text, "]");
    if (good && make_room(&text)) {
        text.at[text.length] = '\0';
        return text.at;
    }
    free(text.at);
    return NULL;
}
