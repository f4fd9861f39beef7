/* Streams into messages (RFC 6587), in one portion, byte by byte, and at random. */
#include "support/random.h"
#include "support/support.h"

#include "core/message/framing.h"

static bool joining; /* lines that begin with a blank go on with the message before */

/* All messages of a stream, each as "[text]", "[text…]" where cut; "!" where the connection must end. */
static void play(const char *bytes, size_t length, size_t (*portion)(void *), void *context, bool broken_off,
                 char *out, size_t room)
{
    struct ind_framing framing = {.join = joining};
    struct ind_buffer buffer = ind_buffer_on(out, room - 1);
    static char message[IND_MESSAGE_LIMIT + 1];
    size_t used = 0, at = 0;
    struct ind_slice piece;
    bool cut, bad = false;
    while (at < length && !bad) {
        size_t size = portion(context);
        size = size < length - at ? size : length - at;
        /* A copy of its own: reading past it would be seen. */
        char *copy = malloc(size ? size : 1);
        assert_non_null(copy);
        memcpy(copy, bytes + at, size);
        struct ind_slice input = {copy, size};
        enum ind_frame frame;
        while (!bad && (frame = ind_framing_next(&framing, &input, &piece, &cut)) != IND_FRAME_MORE) {
            assert_true(used + piece.length <= IND_MESSAGE_LIMIT);
            if (piece.length)
                memcpy(message + used, piece.at, piece.length);
            used += piece.length;
            bad = frame == IND_FRAME_BAD;
            if (frame != IND_FRAME_END)
                continue;
            ind_buffer_byte(&buffer, '[');
            ind_buffer_add(&buffer, message, used);
            ind_buffer_text(&buffer, cut ? "…]" : "]");
            used = 0;
        }
        free(copy);
        at += size;
    }
    if (bad)
        ind_buffer_byte(&buffer, '!');
    else if (ind_framing_end(&framing, broken_off, &piece, &cut)) {
        ind_buffer_byte(&buffer, '[');
        ind_buffer_add(&buffer, message, used);
        ind_buffer_slice(&buffer, piece);
        ind_buffer_text(&buffer, cut ? "…]" : "]");
    }
    out[buffer.length] = '\0';
}

static size_t whole(void *context)
{
    (void)context;
    return SIZE_MAX;
}

static size_t by_byte(void *context)
{
    (void)context;
    return 1;
}

static size_t at_random(void *context)
{
    unsigned *seed = context;
    *seed = *seed * 1103515245u + 12345u;
    return (*seed >> 16) % 7;
}

static void expect(const char *bytes, size_t length, bool broken_off, const char *expected)
{
    static char out[8192];
    play(bytes, length, whole, NULL, broken_off, out, sizeof out);
    assert_string_equal(out, expected);
    play(bytes, length, by_byte, NULL, broken_off, out, sizeof out);
    assert_string_equal(out, expected);
    for (unsigned seed = 1; seed < 20; seed++) {
        unsigned state = seed;
        play(bytes, length, at_random, &state, broken_off, out, sizeof out);
        assert_string_equal(out, expected);
    }
}
#define EXPECT(bytes, expected) expect(bytes, sizeof(bytes) - 1, false, expected)

static void octets_are_counted(void **state)
{
    (void)state;
    EXPECT("5 <13>a9 <13>b c d", "[<13>a][<13>b c d]");
    EXPECT("7 <13>a\nb3 xyz", "[<13>a\nb][xyz]");
    EXPECT("1 <1 x", "[<][x]");
    EXPECT("5 <13>a\n5 <13>b\n", "[<13>a][<13>b]"); /* a line end that nobody counted */
}

static void lines_end_at_lf_nul_or_both(void **state)
{
    (void)state;
    EXPECT("<13>a\n<13>b\n", "[<13>a][<13>b]");
    EXPECT("<13>a\0<13>b\0", "[<13>a][<13>b]");
    EXPECT("<13>a\n\0<13>b\0\n<13>c\n", "[<13>a][<13>b][<13>c]");
    EXPECT("a\n\nb\n", "[a][][b]");
    EXPECT("\n", "[]");
    EXPECT("a\0\0b", "[a][][b]");
}

static void the_first_bytes_decide_once(void **state)
{
    (void)state;
    EXPECT("12 is a number\n5 <13>a\n", "[12 is a number][5 <13>a]");
    EXPECT("0 <13>a\n", "[0 <13>a]");
    EXPECT("123\n4 <5\n", "[123][4 <5]");
    EXPECT(" 5 <13>a\n", "[ 5 <13>a]");
    EXPECT("123456789012 <x\n", "[123456789012 <x]");
    EXPECT("7", "[7]");
}

static void a_bad_count_ends_the_connection(void **state)
{
    (void)state;
    EXPECT("5 <13>a<13>b", "[<13>a]!");
    EXPECT("5 <13>a0 <13>b", "[<13>a]!");
    EXPECT("5 <13>a1000000000 <13>b", "[<13>a]!");
    EXPECT("5 <13>a99999999 <13>b", "[<13>a]!");
    EXPECT("99999999 <13>b", "!");
    EXPECT("5 <13>a 5 <13>b", "[<13>a]!");
}

static void what_is_unfinished_is_told_as_cut(void **state)
{
    (void)state;
    EXPECT("9 <13>a", "[<13>a…]");
    EXPECT("5 <13>a9 ", "[<13>a][…]");
    EXPECT("5 <13>a9", "[<13>a]"); /* half a count: no message was begun */
    EXPECT("<13>a\n<13>b", "[<13>a][<13>b]");
    expect("<13>a\n<13>b", 11, true, "[<13>a][<13>b…]");
    EXPECT("", "");
}

static void what_is_too_long_is_cut_and_its_rest_skipped(void **state)
{
    enum { LONG = IND_MESSAGE_LIMIT + 5 };
    static char bytes[LONG + 40], out[LONG + 200];
    (void)state;
    memset(bytes, 'x', sizeof bytes);
    memcpy(bytes + LONG, "\n<13>b\n", 7);
    play(bytes, LONG + 7, whole, NULL, false, out, sizeof out);
    assert_string_equal(out + 1 + IND_MESSAGE_LIMIT, "…][<13>b]");
    int head = snprintf(bytes, 20, "%d ", LONG);
    bytes[head] = '<';
    memset(bytes + head + 1, 'x', LONG);
    memcpy(bytes + head + LONG, "5 <13>b", 7);
    for (int way = 0; way < 2; way++) {
        play(bytes, (size_t)head + LONG + 7, way ? by_byte : whole, NULL, false, out, sizeof out);
        assert_string_equal(out + 1 + IND_MESSAGE_LIMIT, "…][<13>b]");
    }
    memset(bytes, 'x', IND_MESSAGE_LIMIT);
    bytes[IND_MESSAGE_LIMIT] = '\n';
    play(bytes, IND_MESSAGE_LIMIT + 1, whole, NULL, false, out, sizeof out);
    assert_string_equal(out + 1 + IND_MESSAGE_LIMIT, "]");
}

static void expect_joined(const char *bytes, const char *expected)
{
    joining = true;
    expect(bytes, strlen(bytes), false, expected);
    joining = false;
}

static void indented_lines_go_on_with_the_message_before(void **state)
{
    (void)state;
    expect_joined("a\n  b\n\tc\nd\n", "[a\n  b\n\tc][d]");
    expect_joined("a\n  b", "[a\n  b]");
    expect_joined("a\n", "[a]");
    expect_joined("a\r\n b\r\nc\r\n", "[a\r\n b\r][c\r]");
    expect_joined(" a\n b\n", "[ a\n b]");
    expect_joined("\n b\n\n\n c\nd\n", "[][ b][][][ c][d]");
    expect_joined("12 a\n b\n", "[12 a\n b]");
    expect_joined("6 <1>a\nb6 <1> b\n", "[<1>a\nb][<1> b\n]"); /* counted: nothing is joined */
}

static void what_waits_can_be_ended(void **state)
{
    struct ind_framing framing = {.join = true};
    struct ind_slice input = IND_SLICE("<1>a\n"), bytes;
    bool cut = true;
    (void)state;
    while (ind_framing_next(&framing, &input, &bytes, &cut) != IND_FRAME_MORE)
        ;
    assert_true(framing.waits);
    assert_true(ind_framing_end_wait(&framing, &bytes, &cut));
    assert_false(cut);
    assert_false(ind_framing_end_wait(&framing, &bytes, &cut));
    input = IND_SLICE(" b\nc");
    assert_int_equal(ind_framing_next(&framing, &input, &bytes, &cut), IND_FRAME_END); /* too late: its own */
    assert_slice(bytes, " b");
    assert_false(framing.waits);
}

/* Line by line, the plain way. */
static void joined_lines_agree_with_a_second_way(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 2000; round++) {
        char text[64], expected[256] = "";
        size_t length = 0, lines = 1 + ind_random(&random, 6), used = 0;
        bool open = false;
        for (size_t i = 0; i < lines; i++) {
            static const char *const some[] = {"a", " b", "\tc", "de", "<1>f", " ", "g h"};
            const char *line = some[ind_random(&random, 7)];
            length += (size_t)snprintf(text + length, sizeof text - length, "%s\n", line);
            bool goes_on = open && (*line == ' ' || *line == '\t');
            used += (size_t)snprintf(expected + used, sizeof expected - used, "%s%s",
                                     goes_on ? "\n"
                                     : open  ? "]["
                                             : "[",
                                     line);
            open = true;
        }
        snprintf(expected + used, sizeof expected - used, "]");
        expect_joined(text, expected);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(indented_lines_go_on_with_the_message_before),
        cmocka_unit_test(what_waits_can_be_ended),
        cmocka_unit_test(joined_lines_agree_with_a_second_way),
        cmocka_unit_test(octets_are_counted),
        cmocka_unit_test(lines_end_at_lf_nul_or_both),
        cmocka_unit_test(the_first_bytes_decide_once),
        cmocka_unit_test(a_bad_count_ends_the_connection),
        cmocka_unit_test(what_is_unfinished_is_told_as_cut),
        cmocka_unit_test(what_is_too_long_is_cut_and_its_rest_skipped),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
