/* Lines counted at a glance are counted as they are read one by one: whatever they are, in every layout, in
 * whatever blocks they come. */
#include "support/odd.h"
#include "support/random.h"
#include "support/support.h"

#include "store/archive/counting.h"
#include "store/disk/line_reader.h"
#include <string.h>

enum { TRIALS = 1500, LINES = 150, LONGEST = 1 << 16, DEVICES = 4096 };

static uint64_t seed = IND_RANDOM_START;
static char text[LINES * 2048];
static size_t text_length;
static struct ind_slice names[DEVICES];
static char name_room[DEVICES * 64];
static size_t name_length;
static size_t name_count;
static int64_t moment; /* of the lines: in seconds; it seldom changes by much */

static uint32_t number_of(void *context, struct ind_slice name)
{
    (void)context;
    for (size_t i = 0; i < name_count; i++)
        if (ind_slice_equal(name, names[i]))
            return IND_DEVICE_FIRST + (uint32_t)i;
    assert_true(name_count < DEVICES && name_length + name.length < sizeof name_room);
    memcpy(name_room + name_length, name.at, name.length);
    names[name_count] = (struct ind_slice){name_room + name_length, name.length};
    name_length += name.length;
    return IND_DEVICE_FIRST + (uint32_t)name_count++;
}

/* ---- Lines ---- */

static struct ind_slice any_text(char *room, size_t size)
{
    static const char *const pieces[] = {IND_ODD_PIECES};
    struct ind_buffer buffer = ind_buffer_on(room, size);
    for (unsigned i = ind_random(&seed, 5); i > 0; i--)
        ind_buffer_text(&buffer, pieces[ind_random(&seed, sizeof pieces / sizeof *pieces)]);
    return ind_buffer_view(&buffer);
}

/* Few of each, so that much is the same in many lines; now and then something else. */
static void add_line(enum ind_layout layout, struct ind_line_clock *clock)
{
    static const char *const devices[] = {"harbour-fw", "pier1-rtr", "192.0.2.9", "2001:db8::7", "a b"};
    char odd[4][200];
    struct ind_buffer buffer = ind_buffer_on(text + text_length, sizeof text - text_length);
    struct ind_message message = {.facility = (uint8_t)(16 + ind_random(&seed, 2)),
                                  .severity = (uint8_t)ind_random(&seed, 3),
                                  .sent = IND_TIME_NONE,
                                  .received = IND_TIME_NONE};
    if (ind_random(&seed, 20) == 0)
        moment = ind_random(&seed, 3) * 1790;
    message.time = (INT64_C(1795409100) + moment + ind_random(&seed, 60)) * IND_SECOND +
                   ind_random(&seed, 1000000) * INT64_C(1000);
    message.received = message.time;
    message.sent =
        ind_random(&seed, 2) ? message.time - ind_random(&seed, 1000) * IND_SECOND / 100 : IND_TIME_NONE;
    message.device = message.host = ind_slice_of(devices[ind_random(&seed, 5)]);
    if (ind_random(&seed, 3) == 0)
        message.host = any_text(odd[0], sizeof odd[0]);
    message.app = ind_random(&seed, 3) ? IND_SLICE("ospf") : any_text(odd[1], sizeof odd[1]);
    if (ind_random(&seed, 6) == 0)
        message.data = IND_SLICE("[id@32473 a=\"b c\"]");
    message.text = any_text(odd[2], sizeof odd[2]);
    (void)ind_line_write(layout, &message, clock, &buffer);
    text_length += buffer.length;
}

/* Other bytes in the place of some, the ends of lines among them. */
static void change_some(void)
{
    static const char odd[] = "\n \\-:.Z0T()[]\"=\t\xff+69";
    for (unsigned i = ind_random(&seed, 2 * LINES); i > 0 && text_length; i--) {
        size_t at = ind_random(&seed, (unsigned)text_length);
        if (i % 4) { /* most in the columns that come first */
            while (at > 0 && text[at - 1] != '\n')
                at--;
            at += ind_random(&seed, 90);
        }
        if (at < text_length)
            text[at] = odd[ind_random(&seed, sizeof odd - 1)];
    }
    if (text_length && ind_random(&seed, 3) == 0)
        text_length -= ind_random(&seed, 40) % text_length; /* the last line without its end */
}

/* ---- The other way: each line by itself ---- */

static struct ind_volumes *count_one_by_one(int stored, uint64_t *messages)
{
    struct ind_volumes *volumes = ind_volumes_new();
    struct ind_line_reader *reader = ind_line_reader_new();
    struct ind_slice rest = {text, text_length};
    for (*messages = 0; rest.length; ++*messages) {
        struct ind_message message;
        const char *newline = memchr(rest.at, '\n', rest.length);
        const size_t length = newline ? (size_t)(newline - rest.at) : rest.length;
        struct ind_slice bytes;
        struct ind_volume volume = {.hour = IND_HOUR_UNKNOWN,
                                    .pri = IND_VOLUME_NO_PRI,
                                    .messages = 1,
                                    .bytes = length + (newline != NULL)};
        if (ind_line_reader_read(reader, stored, (struct ind_slice){rest.at, length}, &message, &bytes)) {
            volume.hour = ind_volume_hour(message.time);
            volume.device = message.device.length ? number_of(NULL, message.device) : IND_DEVICE_NONE;
            volume.pri = (uint8_t)(message.facility * 8 + message.severity);
        }
        assert_true(ind_volumes_add(volumes, &volume));
        rest = ind_slice_from(rest, length + (newline != NULL));
    }
    ind_line_reader_free(reader);
    return volumes;
}

static void count_in_blocks(struct ind_counting *counting, int stored)
{
    struct ind_slice rest = {text, text_length};
    ind_counting_begin(counting, stored);
    while (rest.length) {
        size_t length = 1 + ind_random(&seed, (unsigned)rest.length);
        while (length < rest.length && rest.at[length - 1] != '\n')
            length++;
        ind_counting_add(counting, (struct ind_slice){rest.at, length});
        rest = ind_slice_from(rest, length);
    }
}

static void expect_equal(struct ind_volumes *volumes, struct ind_volumes *wanted, int stored)
{
    size_t count, wanted_count;
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count),
                            *other = ind_volumes_sorted(wanted, &wanted_count);
    if (count != wanted_count)
        fail_msg("layout %d: %zu, not %zu", stored, count, wanted_count);
    for (size_t i = 0; i < count; i++)
        if (list[i].hour != other[i].hour || list[i].device != other[i].device ||
            list[i].pri != other[i].pri || list[i].messages != other[i].messages ||
            list[i].bytes != other[i].bytes)
            fail_msg("layout %d, hour %lld device %u pri %u: %llu messages, %llu bytes, not %llu, %llu",
                     stored, (long long)list[i].hour, list[i].device, list[i].pri,
                     (unsigned long long)list[i].messages, (unsigned long long)list[i].bytes,
                     (unsigned long long)other[i].messages, (unsigned long long)other[i].bytes);
}

static void lines_are_counted_as_they_are_read(void **state)
{
    (void)state;
    static const int codes[] = {
        IND_LAYOUT_PLAIN,   IND_LAYOUT_PLAIN, IND_LAYOUT_PLAIN,   IND_LAYOUT_JSON,
        IND_LAYOUT_RFC5424, IND_LAYOUT_RAW,   IND_STORED_UNKNOWN, IND_LAYOUT_PLAIN + IND_STORED_OLD};
    struct ind_counting *counting = ind_counting_new();
    size_t known = 0;
    for (int trial = 0; trial < TRIALS; trial++) {
        const int stored = codes[ind_random(&seed, sizeof codes / sizeof *codes)];
        struct ind_zone *zone = trial % 4 == 0 ? ind_zone_fixed(trial % 8 ? 3600 : 19800) : NULL;
        struct ind_line_clock clock = {.zone = zone};
        uint64_t messages, counted = 0;
        text_length = name_count = name_length = 0;
        for (unsigned i = ind_random(&seed, LINES); i > 0; i--)
            add_line(stored >= 0 && stored < IND_LAYOUTS ? (enum ind_layout)stored : IND_LAYOUT_PLAIN,
                     &clock);
        if (trial % 3)
            change_some();
        struct ind_volumes *wanted = count_one_by_one(stored, &messages);
        count_in_blocks(counting, stored);
        struct ind_volumes *volumes = ind_counting_end(counting, number_of, NULL);
        size_t kinds;
        const struct ind_volume *list = ind_volumes_sorted(volumes, &kinds);
        for (size_t i = 0; i < kinds; i++)
            counted += list[i].messages;
        assert_int_equal(counted, messages);
        expect_equal(volumes, wanted, stored);
        known += kinds > 5;
        ind_volumes_free(wanted);
        ind_volumes_free(volumes);
        ind_zone_free(zone);
    }
    assert_true(known > TRIALS / 3);
    ind_counting_free(counting);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(lines_are_counted_as_they_are_read)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
