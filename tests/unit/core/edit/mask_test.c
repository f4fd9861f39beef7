/* What masks take for a phone number, an address, a secret; and that they stay within their text. */
#include "support/support.h"

#include "core/edit/mask.h"
#include "support/marked.h"
#include "support/random.h"

enum { ROOM = 4096 };

static struct ind_span room[ROOM];

struct found_case {
    unsigned kind;
    const char *text;
};

/* `~` stands on both sides of what is found. */
static const struct found_case cases[] = {
    {IND_MASK_PHONE, "crew ~+1 202 555 0142~ called"},
    {IND_MASK_PHONE, "~+12025550142~"},
    {IND_MASK_PHONE, "call ~+44 (0)20 7946 0123~, now"},
    {IND_MASK_PHONE, "~(020) 7946 0123~"},
    {IND_MASK_PHONE, "tel:~+12025550142~"},
    {IND_MASK_PHONE, "~020-79460123~ or ~020 7946 0123~"},
    {IND_MASK_PHONE, "0012025550142 tel ~0012025550142~"},
    {IND_MASK_PHONE, "~202-555-0134~ and ~555-0134~"},
    {IND_MASK_PHONE, "2026-11-23 04:45:00, 23-11-2026, 04-11-2026, 11/23/2026"},
    {IND_MASK_PHONE, "000000012345 +12 a+120255501429"},
    {IND_MASK_PHONE, "1.3.6.1.4.1 192.0.2.9 10:02:03 0x0205 550123"},
    {IND_MASK_EMAIL, "<~tern@skerry.example~>, ~crew.one+x@mail.skerry.example~."},
    {IND_MASK_EMAIL, "root@pier1-rtr @skerry.example tern@ a@b.1 a@.example"},
    {IND_MASK_EMAIL, "~a@b.examplec@d.example~"},
    {IND_MASK_EMAIL, "~\xff\xfetern@skerry.example~\xff"},
    {IND_MASK_IPV4, "from ~192.0.2.9~ to ~203.0.113.77~:4022, ~198.51.100.0~/24."},
    {IND_MASK_IPV4, "256.1.1.1 1.2.3 1.2.3.4.5 v1.2.3.4x 1.3.6.1.4.1.9 port:~192.0.2.1~"},
    {IND_MASK_IPV4, "add:~192.0.2.9~ (~192.0.2.9~)"},
    {IND_MASK_IPV6, "~2001:db8::1~ ~fe80::1~: up ~::1~ ~2001:db8:0:0:0:0:0:7~. "},
    {IND_MASK_IPV6, "04:45:00 12:34 std::string a:b 02:00:5e:33:44:55"},
    {IND_MASK_IPV6, "peer:~2001:db8::7~ ~::ffff:192.0.2.9~"},
    {IND_MASK_MAC, "~02:00:5e:33:44:55~ ~02-00-5E-AA-bb-cc~ ~0200.5e33.4455~"},
    {IND_MASK_MAC, "04:45:00 02:00:5e:33:44:55:66 0200.5e33 02:00:5e-33:44:55 g2:00:5e:33:44:55"},
    {IND_MASK_MAC, "MAC=~02:00:5e:10:00:1f:02:00:5e:10:00:20:08:00~ SRC=203.0.113.7"},
    {IND_MASK_CARD, "card ~4111 1111 1111 1111~ ~4111111111111111~ ~4111-1111-1111-1111~"},
    {IND_MASK_CARD, "4111 1111 1111 1112 1111111111111 1234567890 4111-1111 1111 1111"},
    {IND_MASK_CARD, "0000000000000000 x4111111111111111 4111111111111111x"},
    {IND_MASK_SECRET, "password=~hunter2~ user_password: ~x~ apiKey=~abc~, key=~k1~&token=~t~"},
    {IND_MASK_SECRET, "{\"password\":\"~a\\\"b~\",\"secret\" : \"~c d~\"} {\\\"password\\\":\\\"~e f~\\\"}"},
    {IND_MASK_SECRET, "password 7 ~9F2B61E0C4D7~ secret ~tern~ community ~public~ RO, key 0 ~abc~"},
    {IND_MASK_SECRET, "Failed password for root; password has expired; password is wrong"},
    {IND_MASK_SECRET, "password is ~tern4~; Authorization: Bearer ~eyJh.bGci~"},
    {IND_MASK_SECRET, "key exchange failed, monkey=1 keyboard=2 password"},
    {IND_MASK_SECRET, "password='~it is \"x\"~' psk=~\xff\xfe~ PASSWORD=~A~"},
    {IND_MASK_SECRET, "password="},
    {IND_MASK_SECRET, "userPassword=~x~ PrivateKey: ~y~ user[password]=~z~"},
};

static void kinds_are_found_and_others_left(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[400];
        size_t length = 0;
        for (const char *at = cases[i].text; *at; at++)
            if (*at != '~')
                text[length++] = *at;
        text[length] = '\0';
        assert_string_equal(ind_marked(cases[i].kind, text), cases[i].text);
    }
}

static void kinds_that_overlap_are_one_place(void **state)
{
    (void)state;
    assert_string_equal(
        ind_marked(IND_MASK_EMAIL | IND_MASK_PHONE | IND_MASK_SECRET, "password=+12025550142@a.example x"),
        "password=~+12025550142@a.example~ x");
    assert_string_equal(ind_marked(127, "key: 192.0.2.9 2001:db8::1"), "key: ~192.0.2.9~ ~2001:db8::1~");
    assert_string_equal(ind_marked(0, "192.0.2.9"), "192.0.2.9");
    assert_string_equal(ind_marked(127, ""), "");
}

/* Never out of the text, always in order and apart; and steps do not grow with the square of the length. */
static void any_bytes_can_be_looked_through(void **state)
{
    static const char pieces[] = "0123456789abcdefABCDEF:.-@+() =\"'\\password key\xff\xc3\xa9\n[]/";
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 20000; round++) {
        size_t length = ind_random(&random, 200);
        char *text = malloc(length + 1); /* just as long, so that a look beyond it is seen */
        struct ind_spans spans = {room, 0, ROOM, false};
        assert_non_null(text);
        for (size_t i = 0; i < length; i++)
            text[i] = pieces[ind_random(&random, sizeof pieces - 1)];
        ind_mask_find(1 + ind_random(&random, 127), (struct ind_slice){text, length}, &spans);
        for (size_t i = 0; i < spans.count; i++) {
            assert_true(room[i].from < room[i].to && room[i].to <= length);
            assert_true(i == 0 || room[i - 1].to < room[i].from);
        }
        free(text);
    }
}

/* What any kind alone would hide is hidden by every set that has that kind. */
static void no_kind_keeps_another_from_looking(void **state)
{
    static const char *const words[] = {"password=",
                                        "password ",
                                        "pin: ",
                                        "key=",
                                        "020 7946 0123",
                                        "4111 1111 1111 1111",
                                        "(3504 1280 5543 8133)",
                                        "+1 202 555 0142",
                                        "202-555-0134",
                                        "tern@skerry.example",
                                        "192.0.2.9",
                                        "2001:db8::1",
                                        "02:00:5e:33:44:55",
                                        "::ffff:192.0.2.9",
                                        "1.2.3.4.5",
                                        "0200.5e33.4455",
                                        " ",
                                        ":",
                                        "@",
                                        "=",
                                        "\"",
                                        ",",
                                        "7 ",
                                        "is ",
                                        "(",
                                        "+",
                                        "-",
                                        "x",
                                        "4111"};
    static struct ind_span alone[ROOM];
    uint64_t random = IND_RANDOM_START;
    (void)state;
    assert_string_equal(ind_marked(IND_MASK_PHONE | IND_MASK_CARD, "(3504 1280 5543 8133)"),
                        "(~3504 1280 5543 8133~)");
    assert_string_equal(ind_marked(IND_MASK_PHONE | IND_MASK_SECRET, "password=020 7946 0123"),
                        "password=~020 7946 0123~");
    assert_string_equal(ind_marked(IND_MASK_SECRET | IND_MASK_CARD, "pin: 4111 1111 1111 1111"),
                        "pin: ~4111 1111 1111 1111~");
    for (int round = 0; round < 30000; round++) {
        char text[400];
        struct ind_buffer out = ind_buffer_on(text, sizeof text);
        for (unsigned i = 1 + ind_random(&random, 8); i > 0; i--)
            ind_buffer_text(&out, words[ind_random(&random, sizeof words / sizeof *words)]);
        unsigned kinds = 1 + ind_random(&random, 127);
        struct ind_spans all = {room, 0, ROOM, false};
        ind_mask_find(kinds, ind_buffer_view(&out), &all);
        for (unsigned k = 0; k < IND_MASK_KINDS; k++) {
            struct ind_spans one = {alone, 0, ROOM, false};
            if (!(kinds >> k & 1))
                continue;
            ind_mask_find(1u << k, ind_buffer_view(&out), &one);
            for (size_t i = 0; i < one.count; i++) {
                bool within = false;
                for (size_t j = 0; j < all.count; j++)
                    within |= room[j].from <= alone[i].from && room[j].to >= alone[i].to;
                if (!within)
                    print_error("%s in: %.*s\n", ind_mask_kind_name(k), IND_ARG(ind_buffer_view(&out)));
                assert_true(within);
            }
        }
    }
}

static void places_that_find_no_room_are_told(void **state)
{
    (void)state;
    struct ind_spans spans = {room, 0, 2, false};
    ind_mask_find(IND_MASK_IPV4, ind_slice_of("192.0.2.1 192.0.2.2 192.0.2.3"), &spans);
    assert_true(spans.full);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(kinds_are_found_and_others_left),
                                       cmocka_unit_test(kinds_that_overlap_are_one_place),
                                       cmocka_unit_test(any_bytes_can_be_looked_through),
                                       cmocka_unit_test(no_kind_keeps_another_from_looking),
                                       cmocka_unit_test(places_that_find_no_room_are_told)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
