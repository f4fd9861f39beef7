/* Addresses and escaping. */
#include "support/random.h"
#include "support/support.h"

#include "core/base/address.h"
#include "core/base/escape.h"
#include "core/base/mask.h"

#include <arpa/inet.h>

static void addresses_keep_ipv4_plain(void **state)
{
    static const uint8_t mapped[16] = {[10] = 0xff, [11] = 0xff, [12] = 192, [13] = 0, [14] = 2, [15] = 9};
    char text[64];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    struct ind_address address = ind_address_v6(mapped), same;
    (void)state;
    ind_address_write(&buffer, &address);
    assert_slice(ind_buffer_view(&buffer), "192.0.2.9");
    assert_true(ind_address_read(IND_SLICE("::ffff:192.0.2.9"), &same));
    assert_true(ind_address_equal(&address, &same));
    assert_false(ind_address_read(IND_SLICE("192.0.2"), &same));
    assert_false(ind_address_read(IND_SLICE(""), &same));
}

static void networks_hold_what_they_should(void **state)
{
    static const struct {
        const char *network, *address;
        bool holds;
    } cases[] = {
        {"192.0.2.0/24", "192.0.2.255", true},      {"192.0.2.0/24", "192.0.3.0", false},
        {"192.0.2.128/25", "192.0.2.127", false},   {"0.0.0.0/0", "203.0.113.1", true},
        {"0.0.0.0/0", "2001:db8::1", false},        {"2001:db8::/33", "2001:db8:8000::1", false},
        {"2001:db8::/32", "2001:db8:ffff::", true}, {"192.0.2.9", "192.0.2.9", true},
    };
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_network network;
        struct ind_address address;
        assert_int_equal(ind_network_read(ind_slice_of(cases[i].network), &network), IND_NETWORK_OK);
        assert_true(ind_address_read(ind_slice_of(cases[i].address), &address));
        assert_int_equal(ind_network_holds(&network, &address), cases[i].holds);
    }
    struct ind_network network;
    assert_int_equal(ind_network_read(IND_SLICE("192.0.2.1/24"), &network), IND_NETWORK_HOST_BITS);
    assert_int_equal(ind_network_read(IND_SLICE("192.0.2.0/33"), &network), IND_NETWORK_PREFIX);
    assert_int_equal(ind_network_read(IND_SLICE("192.0.2.0/"), &network), IND_NETWORK_PREFIX);
}

static void escape_json(struct ind_buffer *buffer, struct ind_slice text)
{
    (void)ind_escape_json(buffer, text, false, false);
}

static void escape_column(struct ind_buffer *buffer, struct ind_slice text)
{
    ind_escape_odd_column(buffer, text, "()");
}

static struct ind_slice escaped(void (*escape)(struct ind_buffer *, struct ind_slice), const char *text,
                                size_t length)
{
    static char room[1024];
    struct ind_buffer buffer = ind_buffer_on(room, sizeof room);
    escape(&buffer, (struct ind_slice){text, length});
    return ind_buffer_view(&buffer);
}

static void escaping_leaves_nothing_that_ends_a_line_or_drives_a_terminal(void **state)
{
    (void)state;
    assert_slice(escaped(ind_escape_text, "a\nb\tc\x1b[2J\0d\x7f", 12), "a\\nb\\tc\\x1b[2J\\x00d\\x7f");
    assert_slice(escaped(ind_escape_text, "caf\xc3\xa9 \xe2\x82\xac \xf0\x9f\x9a\xa2", 14),
                 "caf\xc3\xa9 \xe2\x82\xac \xf0\x9f\x9a\xa2");
    assert_slice(escaped(ind_escape_text, "\xc2\x85\xff\xc0\xaf\xed\xa0\x80\xc3", 9),
                 "\\xc2\\x85\\xff\\xc0\\xaf\\xed\\xa0\\x80\\xc3");
    assert_slice(escaped(ind_escape_text, "back\\slash", 10), "back\\slash");
    assert_slice(escaped(ind_escape_raw, "a\r\n\0\xff", 5), "a\\r\\n\\x00\xff");
    assert_slice(escaped(escape_json, "q\"b\\n\n\x01\xc2\x9b\xfe", 10),
                 "q\\\"b\\\\n\\n\\u0001\\u009b\\\\xfe");
    assert_slice(escaped(ind_escape_shown,
                         "a\\nb\xe2\x80\xae"
                         "c\xe2\x81\xa6\r",
                         12),
                 "a\\nb\\xe2\\x80\\xaec\\xe2\\x81\\xa6\\r");
}

/* A backslash is doubled exactly where what is written next would make it the beginning of an escape. */
static void a_backslash_is_doubled_only_where_it_must_be(void **state)
{
    (void)state;
    assert_slice(escaped(ind_escape_text, "C:\\new \\d \\x \\", 14), "C:\\\\new \\d \\\\x \\");
    assert_slice(escaped(ind_escape_text, "a\\\\b\\\n", 6), "a\\\\\\b\\\\\\n");
    assert_slice(escaped(ind_escape_text, "-", 1), "\\x2d");
    assert_slice(escaped(escape_column, "a (b)\\ c", 8), "a\\x20\\x28b\\x29\\\\\\x20c");
    assert_slice(escaped(ind_escape_raw, "\\n\\d\\\n", 6), "\\\\n\\d\\\\\\n");
    assert_slice(escaped(ind_escape_data, "[a b=\"\\\"\\x\\\\x\\d\n\"]", 18),
                 "[a b=\"\\\"\\x5cx\\\\x\\d\\n\"]");
}

static void whatever_is_escaped_is_given_back(void **state)
{
    static const char alphabet[] = "\\\\\\\\\\nxtr2d0a-\" ]()\n\t\r\0\x01\x7f\xff\xc2\x85\xe2\x80\xae";
    static void (*const escapes[])(struct ind_buffer *, struct ind_slice) = {ind_escape_text, escape_column,
                                                                             ind_escape_raw, ind_escape_data};
    unsigned seed = 3;
    (void)state;
    for (int round = 0; round < 200000; round++) {
        char text[12], back[64], room[256];
        seed = seed * 1103515245u + 12345u;
        struct ind_slice value = {text, (seed >> 16) % 13};
        for (size_t i = 0; i < value.length; i++) {
            seed = seed * 1103515245u + 12345u;
            text[i] = alphabet[(seed >> 16) % (sizeof alphabet - 1)];
        }
        for (size_t e = 0; e < 4 && value.length; e++) {
            struct ind_slice written = escaped(escapes[e], value.at, value.length);
            size_t length = e == 3 ? ind_unescape_data(back, written) : ind_unescape(back, written);
            assert_true(ind_slice_equal(value, (struct ind_slice){back, length}));
            assert_null(memchr(written.at, '\n', written.length));
        }
        /* JSON's own escapes are undone by whoever reads it; here they are left out. */
        for (size_t i = 0; i < value.length; i++)
            if ((unsigned char)text[i] < ' ' || text[i] == '"' || text[i] == 0x7f)
                text[i] = 'x';
        struct ind_buffer json = ind_buffer_on(room, sizeof room);
        (void)ind_escape_json(&json, value, true, false);
        size_t out = 0;
        for (size_t i = 0; i < json.length; i++) {
            if (room[i] == '\\' && room[i + 1] == 'u') { /* a C1 control or an override */
                out = SIZE_MAX;
                break;
            }
            i += room[i] == '\\';
            room[out++] = room[i];
        }
        if (out != SIZE_MAX)
            assert_true(ind_slice_equal(
                value, (struct ind_slice){back, ind_unescape_json(back, (struct ind_slice){room, out})}));
    }
}

/* Every byte at every place of a block of eight. */
static void printable_runs_end_at_the_first_odd_byte(void **state)
{
    (void)state;
    for (int byte = 0; byte < 256; byte++)
        for (size_t place = 0; place < 24; place++) {
            char text[24];
            memset(text, 'a', sizeof text);
            text[place] = (char)byte;
            bool printable = byte >= ' ' && byte < 127;
            assert_int_equal(ind_printable_run(text, sizeof text), printable ? sizeof text : place);
        }
}

/* Every byte at every place of texts of every short length: they are looked at by different means. */
static void clean_is_told_from_odd_at_every_length(void **state)
{
    char text[48], copy[48];
    (void)state;
    for (size_t length = 1; length <= sizeof text; length++)
        for (size_t place = 0; place < length; place++)
            for (int byte = 0; byte < 256; byte++) {
                memset(text, 'a', length);
                text[place] = (char)byte;
                bool clean = byte > ' ' && byte < 127 && byte != '/';
                assert_int_equal(ind_is_clean(text, length, ' ' + 1, '/'), clean);
                assert_int_equal(ind_copy_clean(copy, text, length, ' ' + 1, '/'), clean);
                if (clean)
                    assert_memory_equal(copy, text, length);
            }
}

static void this_machine_is_known_by_its_names(void **state)
{
    static const struct {
        const char *place, *host;
        bool here;
    } cases[] = {{"127.0.0.1", "127.0.0.1", true},
                 {"127.9.8.7:25", "127.9.8.7", true},
                 {"localhost:587", "localhost", true},
                 {"LocalHost", "LocalHost", true},
                 {"[::1]:25", "::1", true},
                 {"[::ffff:127.0.0.1]", "::ffff:127.0.0.1", true},
                 {"", "", false},
                 {":25", "", false},
                 {"[::1", "::1", true},
                 {"127.smtp.skerry.example:25", "127.smtp.skerry.example", false},
                 {"localhost.skerry.example", "localhost.skerry.example", false},
                 {"128.0.0.1", "128.0.0.1", false},
                 {"[2001:db8::1]:25", "2001:db8::1", false}};
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const struct ind_slice host = ind_host_of(ind_slice_of(cases[i].place));
        assert_true(ind_slice_equal(host, ind_slice_of(cases[i].host)));
        assert_int_equal(ind_host_is_loopback(host), cases[i].here);
    }
}

/* Texts of digits and points, some of them addresses. */
static void addresses_of_ipv4_are_read_as_the_system_reads_them(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START;
    unsigned good = 0;
    for (int i = 0; i < 300000; i++) {
        char text[40];
        size_t length = 0;
        const unsigned parts = 3u + (ind_random(&random, 20) > 0) + (ind_random(&random, 20) == 0);
        for (unsigned k = 0; k < parts; k++)
            length += (size_t)snprintf(text + length, sizeof text - length, "%s%0*u", k ? "." : "",
                                       (int)(ind_random(&random, 30) == 0) * 2,
                                       ind_random(&random, ind_random(&random, 4) ? 256 : 1100));
        if (ind_random(&random, 10) == 0)
            text[ind_random(&random, (unsigned)length)] = ". :a\0-0"[ind_random(&random, 7)];
        struct in_addr wanted;
        struct ind_address address;
        const bool is_one = strlen(text) == length && inet_pton(AF_INET, text, &wanted) == 1;
        const bool read = ind_address_read((struct ind_slice){text, length}, &address) && address.bits == 32;
        if (is_one != read || (is_one && memcmp(&wanted, address.bytes, 4) != 0))
            fail_msg("%.*s", (int)length, text);
        good += is_one;
    }
    assert_in_range(good, 10000, 290000);
}

static void masks_say_where_a_byte_stands(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START;
    for (int i = 0; i < 20000; i++) {
        char bytes[IND_BLOCK];
        const char wanted = "\0 =\x7f\x80\xff"[ind_random(&random, 6)];
        uint64_t expected = 0;
        for (unsigned k = 0; k < IND_BLOCK; k++) {
            bytes[k] = (char)(ind_random(&random, 3)
                                  ? wanted ^ (int)(ind_random(&random, 4) * 64 + ind_random(&random, 2))
                                  : wanted);
            expected |= (uint64_t)(bytes[k] == wanted) << k;
        }
        assert_true(ind_mask_of(bytes, wanted) == expected);
        assert_true(ind_mask_eight(bytes, wanted) == (expected & 0xFF));
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(masks_say_where_a_byte_stands),
        cmocka_unit_test(addresses_of_ipv4_are_read_as_the_system_reads_them),
        cmocka_unit_test(addresses_keep_ipv4_plain),
        cmocka_unit_test(this_machine_is_known_by_its_names),
        cmocka_unit_test(networks_hold_what_they_should),
        cmocka_unit_test(escaping_leaves_nothing_that_ends_a_line_or_drives_a_terminal),
        cmocka_unit_test(a_backslash_is_doubled_only_where_it_must_be),
        cmocka_unit_test(whatever_is_escaped_is_given_back),
        cmocka_unit_test(printable_runs_end_at_the_first_odd_byte),
        cmocka_unit_test(clean_is_told_from_odd_at_every_length),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
