/* Stored lines give back the very bytes, in every layout: random messages of every form, with odd bytes. */
#include "support/odd.h"
#include "support/support.h"

#include "core/message/header.h"
#include "core/payload/payload.h"
#include "store/disk/line_reader.h"
#include "support/random.h"
#include "support/round.h"

#include <stdlib.h>

static char room[2 * IND_LINE_MOST];
static struct ind_line_reader *reader;
static struct ind_zone *utc;
static struct ind_devices *devices;
static uint64_t random_state = IND_RANDOM_START;

static unsigned random_below(unsigned below)
{
    return ind_random(&random_state, below);
}

static const char *const heads[] = {
    "<34>1 2026-11-23T04:45:00.123456Z pier1-rtr su 12 ID47 ",
    "<34>1 2026-11-23T04:45:00.123456Z a(b)\\x20 - - - ",
    "<34>1 2026-11-23T04:45:00.123456Z - - - - ",
    "<34>1 2026-11-23T04:45:00.123456Z h\xff/x a\\n p\\ m( ",
    "<34>Nov 23 04:45:00 pier1-rtr su[12]: ",
    "<34>Nov 23 04:45:00 -: ",
    "<189>45: *Nov 23 04:44:59.123: ",
    "<34>",
    "",
};
static const char *const datas[] = {"- ", "[x@1 a=\"1\" b=\"q\\\"\" a=\"2\"] ",
                                    "[a b=\"c\"][d][a b=\"e\\\\x\\n\"] ", "[a\\x41 b\\=\"\\x\xff\\d\n\t\"] ",
                                    "[a b=\"\\\\\\\\\\]\"][a b=\"\"] "};
static const char *const pieces[] = {IND_ODD_PIECES,
                                     "\n",
                                     "\r",
                                     "\0",
                                     "%LINK-3-DOWN: ",
                                     "CEF:0|Skerry|gate|1|100|door|5|src=192.0.2.7 msg=a\\=b",
                                     "IN=ge0 SRC=203.0.113.7",
                                     "{\"a\\u0000b\":\"c\"}"};

static size_t make(char *to, size_t most)
{
    struct ind_buffer out = ind_buffer_on(to, most);
    ind_buffer_text(&out, heads[random_below(sizeof heads / sizeof *heads)]);
    if (random_below(2))
        ind_buffer_text(&out, datas[random_below(sizeof datas / sizeof *datas)]);
    for (unsigned i = random_below(9); i > 0; i--) {
        const char *piece = pieces[random_below(sizeof pieces / sizeof *pieces)];
        ind_buffer_add(&out, piece, strlen(piece) + (piece[0] == '\0'));
    }
    return out.length;
}

static void check(const struct ind_message *message, struct ind_slice bytes)
{
    for (int layout = 0; layout < IND_LAYOUTS; layout++) {
        const char *wrong = round_trip((enum ind_layout)layout, message, reader, room);
        if (wrong)
            fail_msg("%s: %s differs for: %.*s", ind_layout_name((enum ind_layout)layout).at, wrong,
                     IND_ARG(bytes));
    }
}

static void random_messages_are_read_back_as_they_were(void **state)
{
    static struct ind_payload payload;
    static char scratch[IND_PAYLOAD_SCRATCH];
    char device[IND_DEVICE_SCRATCH], bytes[1024];
    (void)state;
    for (int round = 0; round < 60000; round++) {
        struct ind_message message;
        struct ind_slice text = {bytes, make(bytes, sizeof bytes)};
        ind_time received = INT64_C(1795409100) * IND_SECOND + random_below(1000000000);
        const struct ind_header_context context = {.devices = devices,
                                                   .sender =
                                                       random_below(2) ? IND_SLICE("192.0.2.9") : IND_NOTHING,
                                                   .reference = received,
                                                   .zone = utc,
                                                   .scratch = device};
        ind_header_read_with_device(&context, text, &message);
        message.received = random_below(4) ? received : IND_TIME_NONE;
        message.time = received;
        message.listener = IND_SLICE("udp 0.0.0.0:514");
        if (message.original.length == 0)
            continue;
        ind_payload_read(&message, scratch, sizeof scratch, &payload);
        message.payload = random_below(2) ? &payload : NULL;
        check(&message, text);
    }
}

/* More elements and parameters than names are compared for, a long name many times. */
static void large_structured_data_is_read_back(void **state)
{
    static char data[60000];
    struct ind_message message = {
        .facility = 4, .severity = 2, .text = IND_SLICE("x"), .device = IND_SLICE("d")};
    (void)state;
    message.received = message.sent = IND_TIME_NONE;
    message.original = IND_SLICE("x");
    for (int kind = 0; kind < 4; kind++) {
        struct ind_buffer out = ind_buffer_on(data, sizeof data);
        ind_buffer_text(&out, "[id");
        for (int i = 0; i < (kind == 0 ? 30 : kind == 1 ? 65 : kind == 2 ? 64 : 500); i++) {
            ind_buffer_text(&out, kind == 3 ? "][id" : " ");
            if (kind == 3)
                continue;
            for (int n = 0; n < (kind == 0 ? 1500 : 3); n++)
                ind_buffer_byte(&out, (char)(kind == 0 ? 'n' : 'a' + (i >> n & 1)));
            ind_buffer_text(&out, "=\"v\\\\\"");
        }
        ind_buffer_byte(&out, ']');
        assert_false(out.full);
        message.data = ind_buffer_view(&out);
        check(&message, message.data);
    }
}

/* Whatever edits have made of a message, its line has a bound, says that it was cut, and is read back. */
static void a_line_that_is_too_long_is_cut_and_says_so(void **state)
{
    enum { LONG = 65536 };
    static char odd[LONG];
    static struct ind_line_clock clock;
    static struct ind_path_clock path_clock;
    struct ind_additions additions = {.count = 1, .list = {{IND_SLICE("l"), {odd, LONG}, IND_ADDED_LABEL}}};
    struct ind_message back, message = {.device = {odd, LONG},
                                        .host = {odd, LONG - 1},
                                        .app = {odd, LONG},
                                        .procid = {odd, LONG},
                                        .msgid = {odd, LONG},
                                        .text = {odd, LONG},
                                        .original = {odd, LONG},
                                        .additions = &additions};
    struct ind_slice bytes;
    struct ind_template template;
    struct ind_mistake mistake = {0};
    (void)state;
    memset(odd, 1, sizeof odd);
    for (int layout = 0; layout < IND_LAYOUTS; layout++) {
        struct ind_buffer line = ind_buffer_on(room, IND_LINE_MOST);
        bool cut = ind_line_write((enum ind_layout)layout, &message, &clock, &line);
        assert_int_equal(cut, layout != IND_LAYOUT_RAW);
        assert_false(line.full);
        assert_ptr_equal(memchr(room, '\n', line.length), room + line.length - 1);
        bool read =
            ind_line_reader_read(reader, layout, (struct ind_slice){room, line.length - 1}, &back, &bytes);
        assert_int_equal(read, layout != IND_LAYOUT_RAW);
        assert_true(!read || back.line_cut);
        /* Without room for the longest it is not cut, but waits for room. */
        line = ind_buffer_on(room, IND_LINE_MOST - 1);
        assert_false(layout != IND_LAYOUT_RAW &&
                     ind_line_write((enum ind_layout)layout, &message, &clock, &line));
        assert_true(layout == IND_LAYOUT_RAW || (line.full && line.length == 0));
    }
    assert_true(ind_template_read(IND_SLICE("{text}{text}{text}{text}{text}{text}{text}{text}{text}"),
                                  IND_TEMPLATE_LINE, &template, &mistake));
    struct ind_buffer line = ind_buffer_on(room, IND_LINE_MOST);
    assert_true(ind_line_write_template(&template, &message, &path_clock, &line));
    assert_false(line.full);
    assert_memory_equal(room + line.length - 9, " \\x[cut]\n", 9);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(random_messages_are_read_back_as_they_were),
        cmocka_unit_test(large_structured_data_is_read_back),
        cmocka_unit_test(a_line_that_is_too_long_is_cut_and_says_so),
    };
    reader = ind_line_reader_new();
    utc = ind_zone_fixed(0);
    devices = ind_devices_new(IND_SLICE("skerry.example"));
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_line_reader_free(reader);
    ind_devices_free(devices);
    ind_zone_free(utc);
    return failed;
}
