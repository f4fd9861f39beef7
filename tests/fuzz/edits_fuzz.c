/* Any message goes through edits of every kind, and comes out as one that every layout can write: its parts
 * lie in its own bytes, in their order, and structured data is still structured data. */
#include "config/config.h"
#include "core/message/framing.h"
#include "core/message/header.h"
#include "core/message/structured_data.h"
#include "round.h"
#include "temporary.h"

#include <stdlib.h>

static const char rules[] =
    "zone: UTC\n"
    "edits:\n"
    "  - {name: a, label: {l: \"{field a}\"}}\n"
    "  - {name: b, when: 'text contains \"=\"', set: {\"field x\": \"{text}\", host: \"{app}{host}\"}}\n"
    "  - {name: c, mask: [phone, email, ipv4, ipv6, mac, card, secret], in: [text, data, app, procid, msgid, "
    "host]}\n"
    "  - {name: d, mask: [{matches: '[aeiou]+'}, {matches: '\"|]'}], with: '\"]\\'}\n"
    "  - {name: e, when: severity at least error, set: {text: \"{text} {data} {text}\", severity: debug}}\n"
    "  - {name: f, forget: [\"data origin\", \"data a b\", \"field a\", msgid]}\n"
    "  - {name: g, time: {from: field t, zone: \"+05:00\"}}\n"
    "  - {name: h, when: 'text contains \"*\"', mask: {matches: '(\\*|\\**)+x'}}\n"
    "  - {name: i, when: facility is kern, drop: yes}\n"
    "routes:\n"
    "  - {name: all, file: all.log}\n";

static struct {
    struct ind_loaded loaded;
    struct ind_editor *editor;
    struct ind_answers answers;
    char *line;
    struct ind_line_reader *reader;
    char scratch[IND_DEVICE_SCRATCH];
} world;

static void begin(void)
{
    char path[64];
    ind_fuzz_file("edits", (const uint8_t *)rules, sizeof rules - 1, path);
    ind_config_load(path, &world.loaded);
    remove(path);
    if (!world.loaded.config || !ind_answers_begin(&world.answers, world.loaded.config->conditions) ||
        !ind_router_prepare(world.loaded.config->edits.router, &world.answers) ||
        !(world.editor = ind_editor_new(&world.loaded.config->edits)) ||
        !(world.line = malloc(2 * IND_LINE_MOST)) || !(world.reader = ind_line_reader_new()))
        abort();
}

static void check_in_place(const struct ind_message *message, struct ind_slice part)
{
    const struct ind_slice whole = message->original;
    if (part.length > 0 && part.at >= whole.at && part.at < whole.at + whole.length &&
        part.at + part.length > whole.at + whole.length)
        abort();
}

static void check_data(struct ind_slice data)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0, at = 0;
    for (; ind_data_element(data, at, &id, &params); at = after)
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            ;
    if (at != data.length)
        abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size);
int LLVMFuzzerTestOneInput(const uint8_t *bytes, size_t size)
{
    struct ind_message message;
    if (size > IND_MESSAGE_LIMIT)
        return 0;
    if (!world.editor)
        begin();
    const struct ind_config *config = world.loaded.config;
    char *text = malloc(size + 1);
    if (!text)
        abort();
    if (size)
        memcpy(text, bytes, size);
    const struct ind_edit_call call = {.go_on = size % 2 == 0, .keep_original = size % 3 == 0};
    const struct ind_header_context context = {.devices = config->devices,
                                               .sender = IND_SLICE("192.0.2.9"),
                                               .reference = IND_SECOND,
                                               .zone = config->zone,
                                               .scratch = world.scratch};
    ind_header_read_with_device(&context, (struct ind_slice){text, size}, &message);
    message.time = message.received = IND_SECOND;
    if (message.original.length) {
        (void)ind_edits_apply(&config->edits, world.editor, &message, &world.answers, IND_SECOND, &call);
        const struct ind_slice parts[] = {
            message.text, message.data,     message.app,      message.procid, message.msgid,
            message.host, message.location, message.sequence, message.device, message.timestamp};
        for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
            check_in_place(&message, parts[i]);
        check_data(message.data);
        message.payload = ind_answers_payload(&world.answers, &message);
        for (int layout = 0; layout < IND_LAYOUTS; layout++) {
            const char *wrong = round_trip((enum ind_layout)layout, &message, world.reader, world.line);
            if (wrong) {
                fprintf(stderr, "%s: %s\n%s\n", ind_layout_name((enum ind_layout)layout).at, wrong,
                        world.line);
                abort();
            }
        }
    }
    free(text);
    return 0;
}
