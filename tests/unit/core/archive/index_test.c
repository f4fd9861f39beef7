/* The index of an archive: it never says no of a frame that holds what is asked for, whatever the lines are;
 * and no index that somebody changed is believed. */
#include "support/random.h"
#include "support/support.h"

#include "core/archive/index.h"
#include <string.h>

enum { FRAMES = 8, LINES = 12, TEXT = 400, TRIALS = 300, QUERIES = 60 };

static uint64_t seed = IND_RANDOM_START;

struct line {
    char text[TEXT], device[40], app[20], host[40];
    size_t length;
    ind_time time;
    uint8_t facility, severity;
};

static struct line lines[FRAMES][LINES];
static unsigned line_counts[FRAMES];

/* Words, addresses, names, and whatever else. */
static size_t put_piece(char *to, size_t room)
{
    static const char sharp_s[] = {'S', 't', 'r', 'a', '\xC3', '\x9F', 'e', '\0'};
    static const char *const words[] = {"DENY",        "ge0/3", sharp_s,    "pier1-rtr.skerry.example",
                                        "a",           "x_y",   "..",       "::1",
                                        "2001:db8::7", "id=",   "\xFF\xFE", "user@host",
                                        "KernEl",      "0x1f",  "-"};
    const unsigned kind = ind_random(&seed, 8);
    int length = 0;
    if (kind == 0)
        length = snprintf(to, room, "%u.%u.%u.%u", ind_random(&seed, 256), ind_random(&seed, 256),
                          ind_random(&seed, 256), ind_random(&seed, 256));
    else if (kind == 1)
        length = snprintf(to, room, "%u", ind_random(&seed, 70000));
    else if (kind == 2)
        length = snprintf(to, room, "%02x:%02x:%02x", ind_random(&seed, 256), ind_random(&seed, 256),
                          ind_random(&seed, 256));
    else if (kind < 6)
        length = snprintf(to, room, "%s", words[ind_random(&seed, sizeof words / sizeof *words)]);
    else if (room > 3)
        for (unsigned i = 0; i < 3; i++)
            to[length++] = (char)ind_random(&seed, 256);
    return length < 0 || (size_t)length >= room ? 0 : (size_t)length;
}

static void make_line(struct line *line)
{
    line->length = 0;
    for (unsigned pieces = ind_random(&seed, 20); pieces > 0; pieces--) {
        line->length += put_piece(line->text + line->length, TEXT - line->length);
        if (line->length + 1 < TEXT && ind_random(&seed, 3))
            line->text[line->length++] = " .:-=/"[ind_random(&seed, 6)];
    }
    snprintf(line->device, sizeof line->device, "pier%u-rtr", ind_random(&seed, 300));
    snprintf(line->app, sizeof line->app, "App%u", ind_random(&seed, 5));
    snprintf(line->host, sizeof line->host, "Host%u.skerry.example", ind_random(&seed, 20));
    line->time = ind_random(&seed, 1000) * IND_SECOND;
    line->facility = (uint8_t)ind_random(&seed, 24);
    line->severity = (uint8_t)ind_random(&seed, 8);
}

static char *make_index(size_t *length, uint64_t *packed)
{
    struct ind_index_writer *writer = ind_index_writer_new(15, 1 << 20);
    assert_non_null(writer);
    *packed = 0;
    for (unsigned f = 0; f < FRAMES; f++) {
        line_counts[f] = 1 + ind_random(&seed, LINES);
        uint32_t text = 0;
        for (unsigned i = 0; i < line_counts[f]; i++) {
            struct line *line = &lines[f][i];
            make_line(line);
            const struct ind_index_line facts = {line->time,
                                                 line->facility,
                                                 line->severity,
                                                 ind_slice_of(line->device),
                                                 ind_slice_of(line->host),
                                                 ind_slice_of(line->app),
                                                 IND_NOTHING,
                                                 {line->text, line->length}};
            ind_index_add_line(writer, &facts);
            text += (uint32_t)line->length + 1;
        }
        const uint32_t size = 20 + ind_random(&seed, 3000);
        assert_true(ind_index_end_frame(writer, size, text));
        *packed += size;
    }
    char *bytes = ind_index_finish(writer, length);
    assert_non_null(bytes);
    ind_index_writer_free(writer);
    return bytes;
}

/* ---- The second way ---- */

static bool in_word(char c)
{
    return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') ||
           (unsigned char)c >= 0x80;
}

static char lower(char c)
{
    return c >= 'A' && c <= 'Z' ? (char)(c + 32) : c;
}

/* Whether the text holds it, ignoring case; `whole`: as a whole word. */
static bool holds(const struct line *line, struct ind_slice wanted, bool whole)
{
    for (size_t at = 0; at + wanted.length <= line->length; at++) {
        size_t same = 0;
        while (same < wanted.length && lower(line->text[at + same]) == lower(wanted.at[same]))
            same++;
        const bool begins = at == 0 || !in_word(line->text[at - 1]) || !in_word(line->text[at]);
        const size_t end = at + wanted.length;
        const bool ends = end == line->length || !in_word(line->text[end]) || !in_word(line->text[end - 1]);
        if (same == wanted.length && (!whole || (begins && ends)))
            return true;
    }
    return false;
}

struct asking {
    const struct ind_index_frame *frame;
    bool may;
};

static void ask(void *context, uint64_t key)
{
    struct asking *asking = context;
    asking->may &= ind_index_has_key(asking->frame, key);
}

static size_t said_no, asked;

static void ask_for(const struct ind_index *index, struct ind_slice wanted, bool whole)
{
    char scratch[TEXT];
    const struct ind_slice sure = whole ? wanted : ind_index_inside(wanted, true, true);
    for (unsigned f = 0; f < FRAMES; f++) {
        struct asking asking = {&index->frames[f], true};
        ind_index_keys(sure, scratch, ask, &asking);
        asked++;
        said_no += !asking.may;
        for (unsigned i = 0; i < line_counts[f] && !asking.may; i++)
            if (holds(&lines[f][i], wanted, whole))
                fail_msg("frame %u holds \"%.*s\" (%s), and the index says no", f, IND_ARG(wanted),
                         whole ? "mentions" : "contains");
    }
}

static void no_frame_that_holds_it_is_left_out(void **state)
{
    (void)state;
    for (unsigned trial = 0; trial < TRIALS; trial++) {
        size_t length;
        uint64_t packed;
        struct ind_index index;
        char *bytes = make_index(&length, &packed);
        assert_true(ind_index_read((struct ind_slice){bytes, length}, packed, &index));
        assert_int_equal(index.frame_count, FRAMES);
        for (unsigned query = 0; query < QUERIES; query++) {
            const struct line *line = &lines[ind_random(&seed, FRAMES)][0];
            const size_t from = line->length ? ind_random(&seed, (unsigned)line->length) : 0;
            const size_t rest = line->length - from;
            ask_for(&index,
                    (struct ind_slice){line->text + from, rest ? ind_random(&seed, (unsigned)rest + 1) : 0},
                    query % 2);
        }
        for (unsigned f = 0; f < FRAMES; f++) {
            const struct ind_index_frame *frame = &index.frames[f];
            assert_int_equal(frame->lines, line_counts[f]);
            for (unsigned i = 0; i < line_counts[f]; i++) {
                const struct line *line = &lines[f][i];
                assert_true(frame->times_known && frame->first <= line->time && frame->last >= line->time);
                assert_true(frame->facilities & 1u << line->facility &&
                            frame->severities & 1u << line->severity);
                assert_true(ind_index_has_device(&index, frame, ind_slice_of(line->device)));
                assert_true(ind_index_has_key(frame, ind_index_key(IND_INDEX_APP, ind_slice_of(line->app))));
                assert_true(
                    ind_index_has_key(frame, ind_index_key(IND_INDEX_HOST, ind_slice_of(line->host))));
            }
        }
        ind_index_free(&index);
        free(bytes);
    }
    assert_true(said_no > asked / 4); /* or it would be of no use */
}

/* An address is one key: neither its parts nor others like it make a frame look as if it held it. */
static void collect(void *context, uint64_t key)
{
    (void)key;
    ++*(size_t *)context;
}

static size_t keys_of(const char *text)
{
    char scratch[200];
    size_t count = 0;
    ind_index_keys(ind_slice_of(text), scratch, collect, &count);
    return count;
}

static void keys_are_as_documented(void **state)
{
    (void)state;
    assert_int_equal(keys_of("203.0.113.7"), 1); /* four numbers that points join */
    assert_int_equal(keys_of("203:0:113:7"), 0); /* others tell nothing */
    assert_int_equal(keys_of("203"), 0);
    assert_int_equal(keys_of("2026"), 1);
    assert_int_equal(keys_of("ab"), 0);
    assert_int_equal(keys_of("abc"), 1);
    assert_int_equal(keys_of("pier1-rtr"), 3); /* both, and the pair */
    assert_int_equal(keys_of("pier1 rtr"), 2);
    assert_int_equal(keys_of("pier1---rtr"), 2); /* three joints are none */
    assert_int_equal(keys_of("a.b.c.d"), 4);     /* three pairs, one of four */
    assert_int_equal(keys_of("2001:db8::7"), 4); /* 2001, db8, 2001:db8, db8::7 */
    assert_slice(ind_index_inside(ind_slice_of("RC=203.0.113.7 DS"), true, true), "=203.0.113.7 ");
    assert_slice(ind_index_inside(ind_slice_of("word"), true, true), "");
    assert_slice(ind_index_inside(ind_slice_of("a b c"), true, false), " b c");
    assert_slice(ind_index_inside(ind_slice_of("a b c"), false, true), "a b ");
}

static void a_frame_with_a_line_that_nobody_understood_may_hold_anything(void **state)
{
    (void)state;
    struct ind_index_writer *writer = ind_index_writer_new(15, 1 << 20);
    const struct ind_index_line line = {.text = ind_slice_of("hello")};
    size_t length;
    struct ind_index index;
    ind_index_add_line(writer, &line);
    ind_index_add_line(writer, NULL);
    assert_true(ind_index_end_frame(writer, 100, 12));
    char *bytes = ind_index_finish(writer, &length);
    ind_index_writer_free(writer);
    assert_true(ind_index_read((struct ind_slice){bytes, length}, 100, &index));
    assert_false(index.frames[0].times_known || index.frames[0].pri_known || index.frames[0].devices_known ||
                 index.frames[0].keys_known);
    assert_true(ind_index_has_key(&index.frames[0], 7));
    assert_true(ind_index_has_device(&index, &index.frames[0], ind_slice_of("x")));
    ind_index_free(&index);
    free(bytes);
}

static void an_index_that_was_changed_is_none(void **state)
{
    (void)state;
    size_t length;
    uint64_t packed;
    char *bytes = make_index(&length, &packed);
    struct ind_index index;
    assert_int_equal(ind_index_length(bytes + length - IND_INDEX_TAIL), length);
    assert_false(ind_index_read((struct ind_slice){bytes, length}, packed + 1, &index));
    assert_false(ind_index_read((struct ind_slice){bytes, length - 1}, packed, &index));
    for (size_t at = 0; at < length; at++) {
        bytes[at] = (char)(bytes[at] ^ 1 << at % 8);
        if (ind_index_read((struct ind_slice){bytes, length}, packed, &index))
            fail_msg("byte %zu was changed", at);
        bytes[at] = (char)(bytes[at] ^ 1 << at % 8);
    }
    assert_true(ind_index_read((struct ind_slice){bytes, length}, packed, &index));
    ind_index_free(&index);
    free(bytes);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(no_frame_that_holds_it_is_left_out),
        cmocka_unit_test(keys_are_as_documented),
        cmocka_unit_test(a_frame_with_a_line_that_nobody_understood_may_hold_anything),
        cmocka_unit_test(an_index_that_was_changed_is_none),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
