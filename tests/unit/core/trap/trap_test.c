/* Traps from bytes, and to bytes again. */
#include "support/random.h"
#include "support/support.h"

#include "core/trap/usm.h"

enum { ROOM = 65536 };

static struct ind_trap_names *names;
static struct ind_trap trap;
static char text[ROOM], bytes[ROOM];

static int begin(void **state)
{
    const struct ind_trap_name own[] = {
        {IND_SLICE("\x2b\x06\x01\x04\x01\x81\xfd\x59\x01"), IND_SLICE("skerryPower"), {0}, -1, -1, false},
        {IND_SLICE("\x2b\x06\x01\x04\x01\x81\xfd\x59\x01\x00\x07"),
         IND_SLICE("skerryDoorOpen"),
         {0},
         -1,
         2,
         false},
        {IND_SLICE("\x2b\x06\x01\x04\x01\x81\xfd\x59\x01\x02\x01"), IND_SLICE("skerryDoorState"),
         IND_SLICE("1=open;2=closed"), -1, -1, false}};
    (void)state;
    names = ind_trap_names_new(own, 3);
    return names ? 0 : 1;
}

static int end(void **state)
{
    (void)state;
    ind_trap_names_free(names);
    return 0;
}

/* Of hexadecimal digits; blanks between them do not count. */
static struct ind_slice hex(const char *digits)
{
    size_t length = 0;
    unsigned byte;
    for (const char *at = digits; *at; at += *at == ' ' ? 1 : 2)
        if (*at != ' ' && sscanf(at, "%2x", &byte) == 1)
            bytes[length++] = (char)byte;
    return (struct ind_slice){bytes, length};
}

static const char *write_trap(void)
{
    struct ind_buffer out = ind_buffer_on(text, ROOM - 1);
    (void)ind_trap_write(&trap, names, IND_NOTHING, &out);
    text[out.length] = '\0';
    return text;
}

/* ---- BER ---- */

static void numbers_come_back(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 20000; i++) {
        const unsigned bits = ind_random(&random, 64);
        const uint64_t count =
            ((uint64_t)ind_random(&random, UINT32_MAX) << 32 | ind_random(&random, UINT32_MAX)) >> bits;
        const int64_t number = i % 2 ? (int64_t)(count >> 1) : -(int64_t)(count >> 1) - 1;
        struct ind_ber_out out = {bytes, 64, 64, false};
        ind_ber_put_integer(&out, number);
        ind_ber_put_count(&out, IND_BER_COUNTER64, count);
        struct ind_ber ber = {ind_ber_written(&out), false};
        assert_true(ind_ber_take_count(&ber, IND_BER_COUNTER64) == count);
        assert_true(ind_ber_take_integer(&ber) == number);
        assert_true(!ber.bad && ber.rest.length == 0);
    }
}

static void numbers_that_are_none_are_told(void **state)
{
    int64_t number;
    uint64_t count;
    (void)state;
    assert_false(ind_ber_integer(hex(""), &number));
    assert_false(ind_ber_integer(hex("010203040506070809"), &number));
    assert_true(ind_ber_integer(hex("8000000000000000"), &number) && number == INT64_MIN);
    assert_true(ind_ber_count(hex("00ffffffffffffffff"), &count) && count == UINT64_MAX);
    assert_false(ind_ber_count(hex("01ffffffffffffffff"), &count));
}

static void lengths_are_not_believed(void **state)
{
    static const char *const bad[] = {
        "30",      "3080",      "3081",         "308201",       "3085 0000000001 00",
        "3005 00", "1f8101 00", "3084ffffffff", "308400000001", "ff"};
    (void)state;
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        struct ind_ber_item item;
        struct ind_ber ber = {hex(bad[i]), false};
        assert_false(ind_ber_next(&ber, &item));
        assert_true(ber.bad);
        assert_false(ind_ber_next(&ber, &item));
    }
}

static void identifiers_come_back(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int i = 0; i < 5000; i++) {
        char oid[IND_OID_BYTES], dotted[2000], again[2000];
        const unsigned parts = 2 + ind_random(&random, IND_OID_PARTS - 1), first = ind_random(&random, 3);
        int length =
            snprintf(dotted, sizeof dotted, "%u.%u", first, ind_random(&random, first < 2 ? 40 : UINT32_MAX));
        for (unsigned part = 2; part < parts; part++)
            length += snprintf(dotted + length, sizeof dotted - (size_t)length, ".%u",
                               ind_random(&random, UINT32_MAX) >> ind_random(&random, 32));
        struct ind_buffer encoded = ind_buffer_on(oid, sizeof oid),
                          out = ind_buffer_on(again, sizeof again - 1);
        assert_true(ind_oid_read(ind_slice_of(dotted), &encoded));
        assert_true(ind_oid_is_good(ind_buffer_view(&encoded)));
        ind_oid_write(&out, ind_buffer_view(&encoded));
        again[out.length] = '\0';
        assert_string_equal(again, dotted);
    }
}

static void identifiers_that_are_none_are_told(void **state)
{
    static const char *const bad[] = {
        "", "1", "1.", ".1.3", "3.1", "1.40", "1..3", "1.x", "1.3.01", "1.3.4294967296", "1.3.99999999999"};
    char oid[IND_OID_BYTES], dotted[1000] = "1.3";
    (void)state;
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        struct ind_buffer encoded = ind_buffer_on(oid, sizeof oid);
        assert_false(ind_oid_read(ind_slice_of(bad[i]), &encoded));
    }
    for (int i = 0; i < 198; i++)
        strcat(dotted, ".1");
    struct ind_buffer encoded = ind_buffer_on(oid, sizeof oid);
    assert_false(ind_oid_read(ind_slice_of(dotted), &encoded));
    memset(bytes, 1, 200);
    assert_false(ind_oid_is_good((struct ind_slice){bytes, 200}));
    assert_true(ind_oid_is_good((struct ind_slice){bytes, IND_OID_PARTS - 1}));
    assert_false(ind_oid_is_good(hex("2b80")));
    assert_false(ind_oid_is_good(hex("2b8001")));
    assert_false(ind_oid_is_good(hex("2bffffffffff7f")));
}

/* ---- Messages ---- */

static const char v1[] =
    "30520201000406736b65727279a44506092b0601040181fd59014004c00002070201060201074302126730283011060c2b"
    "0601040181fd59010201000201013013060c2b0601040181fd59010209000403612062";

static void a_trap_of_v1_is_read(void **state)
{
    (void)state;
    assert_int_equal(ind_trap_read(hex(v1), names, &trap), IND_TRAP_GOOD);
    assert_true(ind_slice_equal(trap.community, IND_SLICE("skerry")));
    assert_string_equal(
        write_trap(),
        "<26>1 - - trap - skerryDoorOpen [meta sysUpTime=\"4711\"][origin ip=\"192.0.2.7\" "
        "enterpriseId=\"32473.1\"] skerryDoorOpen skerryDoorState=open skerryPower.2.9.0=\"a b\"");
}

/* RFC 3584's zero, the standard traps that are named without it, and generic ones. */
static void traps_of_v1_have_the_identifiers_of_v2(void **state)
{
    static const struct {
        const char *enterprise;
        int generic, specific;
        const char *name;
    } cases[] = {{"06072b060102012102", 6, 3, " upsTrapAlarmEntryAdded "},
                 {"06062b06010201 11", 6, 2, " topologyChange "},
                 {"06062b0601020111", 4, 99, " authenticationFailure "},
                 {"06062b0601040105", 6, 9, " enterprises.5.0.9 "}};
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_ber_out out = {text, 400, 400, false};
        ind_ber_put_item(&out, IND_BER_SEQUENCE, IND_NOTHING);
        ind_ber_put_count(&out, IND_BER_TICKS, 1);
        ind_ber_put_integer(&out, cases[i].specific);
        ind_ber_put_integer(&out, cases[i].generic);
        ind_ber_put_item(&out, IND_BER_ADDRESS, (struct ind_slice){"\0\0\0\0", 4});
        ind_ber_put(&out, hex(cases[i].enterprise));
        ind_ber_wrap(&out, IND_PDU_TRAP_V1, 400);
        ind_ber_put_item(&out, IND_BER_OCTETS, IND_SLICE("c"));
        ind_ber_put_integer(&out, IND_SNMP_V1);
        ind_ber_wrap(&out, IND_BER_SEQUENCE, 400);
        memcpy(bytes, text, 400);
        const enum ind_trap_fault fault =
            ind_trap_read((struct ind_slice){bytes + out.at, 400 - out.at}, names, &trap);
        assert_int_equal(fault, IND_TRAP_GOOD);
        if (!strstr(write_trap(), cases[i].name))
            fail_msg("%s: %s", cases[i].name, text);
    }
}

/* A list of variables as v2c: the two first ones, and then those. */
static struct ind_slice message_of(struct ind_slice variables, uint8_t pdu)
{
    struct ind_ber_out out = {bytes, ROOM, ROOM, false};
    struct ind_slice where;
    ind_ber_put(&out, variables);
    assert_true(ind_trap_bindings(IND_SLICE("linkDown"), names, 7, &out, &where));
    ind_trap_put_pdu(&out, pdu, 5, ROOM);
    ind_trap_put_v2c(&out, IND_SLICE("skerry"), ROOM);
    return ind_ber_written(&out);
}

static void check_variables(const char *variables, const char *written)
{
    char list[2000];
    const struct ind_slice read = hex(variables);
    memcpy(list, read.at, read.length);
    assert_int_equal(
        ind_trap_read(message_of((struct ind_slice){list, read.length}, IND_PDU_TRAP), names, &trap),
        IND_TRAP_GOOD);
    const char *found = strstr(write_trap(), "] linkDown");
    assert_non_null(found);
    assert_string_equal(found + strlen("] linkDown"), written);
}

static void every_kind_of_value_is_written(void **state)
{
    (void)state;
    /* ifDescr.1 = …, of each kind */
#define DESCR(length, value) "30 " length " 060a 2b0601020102020102 01 " value
    check_variables(DESCR("0f", "0401 61"), " ifDescr=a index=1");
    check_variables(DESCR("0e", "0400"), " ifDescr=\"\" index=1");
    check_variables(DESCR("13", "0405 6765302033"), " ifDescr=\"ge0 3\" index=1");
    check_variables(DESCR("12", "0404 61225c62"), " ifDescr=\"a\\\"\\\\b\" index=1");
    check_variables(DESCR("11", "0403 616200"), " ifDescr=ab index=1");
    check_variables(DESCR("14", "0406 02005e100001"), " ifDescr=02:00:5e:10:00:01 index=1");
    check_variables(DESCR("11", "0403 611b5b"), " ifDescr=61:1b:5b index=1");
    check_variables(DESCR("12", "0404 e280ae61"), " ifDescr=e2:80:ae:61 index=1");
    check_variables(DESCR("10", "0402 c3a9"), " ifDescr=\"\xc3\xa9\" index=1");
    check_variables(DESCR("10", "0202 ff7f"), " ifDescr=-129 index=1");
    check_variables(DESCR("17", "0209 010203040506070809"), " ifDescr=01:02:03:04:05:06:07:08:09 index=1");
    check_variables(DESCR("17", "4609 00ffffffffffffffff"), " ifDescr=18446744073709551615 index=1");
    check_variables(DESCR("10", "4302 1267"), " ifDescr=4711 index=1");
    check_variables(DESCR("12", "4004 c0000207"), " ifDescr=192.0.2.7 index=1");
    check_variables(DESCR("11", "4003 c00002"), " ifDescr=c0:00:02 index=1");
    check_variables(DESCR("0e", "0500"), " ifDescr=\"\" index=1");
    check_variables(DESCR("0e", "8000"), " ifDescr=noSuchObject index=1");
    check_variables(DESCR("11", "0603 2b0601"), " ifDescr=internet index=1");
    check_variables(DESCR("10", "0602 2b80"), " ifDescr=2b:80 index=1");
    check_variables(DESCR("11", "4403 9f7801"), " ifDescr=9f:78:01 index=1");
    check_variables(DESCR("10", "4f02 0102"), " ifDescr=01:02 index=1");
#undef DESCR
}

static void instances_are_told_once(void **state)
{
    (void)state;
#define INDEX(instance, value) "300f 060a 2b0601020102020101 " instance " 0201 " value
#define STATUS(instance, value) "300f 060a 2b0601020102020108 " instance " 0201 " value
    check_variables(INDEX("03", "03") STATUS("03", "02"), " ifIndex=3 ifOperStatus=down");
    check_variables(STATUS("03", "07") STATUS("03", "09"),
                    " ifOperStatus=lowerLayerDown ifOperStatus=9 index=3");
    check_variables(STATUS("03", "01") STATUS("04", "02"), " ifOperStatus.3=up ifOperStatus.4=down");
    check_variables(STATUS("00", "01"), " ifOperStatus=up");
    check_variables("300c 0607 2b060104010500 0201 05", " enterprises.5.0=5");
    check_variables("300a 0605 5304050607 0201 05", " oid.2.3.4.5.6.7=5");
#undef INDEX
#undef STATUS
}

static void what_breaks_off_is_kept(void **state)
{
    (void)state;
    check_variables("300f 060a 2b0601020102020108 00 0201 01 3005 0203 010203",
                    " ifOperStatus=up unreadable=30:05:02:03:01:02:03");
}

static void what_is_no_trap_is_told(void **state)
{
    (void)state;
    assert_int_equal(ind_trap_read(message_of(IND_NOTHING, IND_PDU_GET), names, &trap), IND_TRAP_NO_TRAP);
    assert_int_equal(ind_trap_read(message_of(IND_NOTHING, IND_PDU_RESPONSE), names, &trap),
                     IND_TRAP_NO_TRAP);
    assert_int_equal(ind_trap_read(message_of(IND_NOTHING, IND_PDU_INFORM), names, &trap), IND_TRAP_GOOD);
    assert_int_equal(trap.request_id, 5);
    assert_int_equal(ind_trap_read(message_of(IND_NOTHING, IND_PDU_TRAP_V1), names, &trap), IND_TRAP_NO_TRAP);
    assert_int_equal(ind_trap_read(IND_SLICE("<34>Oct 11 22:14:15 pier1-rtr su: text"), names, &trap),
                     IND_TRAP_UNREADABLE);
    assert_int_equal(ind_trap_read(hex("3003 020105"), names, &trap), IND_TRAP_VERSION);
}

/* Whatever stands anywhere: no byte is read that is not there (the sanitizers watch), and what is written has
 * no character that drives a terminal. */
static void every_cut_and_flip_is_survived(void **state)
{
    char list[200];
    uint64_t random = IND_RANDOM_START;
    (void)state;
    struct ind_slice read =
        hex("300f 060a 2b0601020102020101 03 0201 03 3012 060a 2b0601020102020102 03 0404 61225c62");
    memcpy(list, read.at, read.length);
    const struct ind_slice whole = message_of((struct ind_slice){list, read.length}, IND_PDU_TRAP);
    for (int round = 0; round < 20000; round++) {
        const size_t length = round % 4 ? whole.length : ind_random(&random, (unsigned)whole.length + 1);
        char *exact = malloc(length ? length : 1);
        assert_non_null(exact);
        memcpy(exact, whole.at, length);
        for (unsigned flips = ind_random(&random, 4); flips > 0 && length; flips--)
            exact[ind_random(&random, (unsigned)length)] = (char)ind_random(&random, 256);
        if (ind_trap_read((struct ind_slice){exact, length}, names, &trap) == IND_TRAP_GOOD)
            for (const char *at = write_trap(); *at; at++)
                assert_true((unsigned char)*at >= ' ' || strchr("\t\r\n", *at));
        free(exact);
    }
}

static void ten_thousand_variables_find_an_end(void **state)
{
    enum { MANY = 8000 };
    static char list[MANY * 8];
    (void)state;
    for (size_t i = 0; i < MANY; i++)
        memcpy(list + i * 8, "\x30\x06\x06\x02\x2b\x06\x05\x00", 8);
    assert_int_equal(
        ind_trap_read(message_of((struct ind_slice){list, sizeof list}, IND_PDU_TRAP), names, &trap),
        IND_TRAP_GOOD);
    struct ind_buffer out = ind_buffer_on(text, 5000);
    assert_false(ind_trap_write(&trap, names, IND_NOTHING, &out));
    assert_true(out.length <= 5000);
}

/* Zeros behind a text are no part of it, however many there are; steps stay linear. */
static void endless_zeros_find_an_end(void **state)
{
    static char list[60000 + 24];
    struct ind_ber_out out = {list, sizeof list, sizeof list, false};
    static char zeros[60000];
    (void)state;
    ind_ber_put_item(&out, IND_BER_OCTETS, (struct ind_slice){zeros, sizeof zeros});
    ind_ber_put_item(&out, IND_BER_OID, IND_SLICE("\x2b\x06\x01\x02\x01\x01\x05\x00"));
    ind_ber_wrap(&out, IND_BER_SEQUENCE, sizeof list);
    assert_int_equal(ind_trap_read(message_of(ind_ber_written(&out), IND_PDU_TRAP), names, &trap),
                     IND_TRAP_GOOD);
    assert_non_null(strstr(write_trap(), " linkDown sysName=\"\""));
}

/* Text to trap to text. */
static void a_text_comes_back(void **state)
{
    static const char *const variables[] = {"ifDescr=ge0/3", "ifAlias=\"to pier 3\"", "ifOperStatus=down",
                                            "ifInErrors=12", "ifName=\"a\\\"b\\\\\"", "ifLastChange=-5"};
    static const char *const traps[] = {"linkDown", "enterprises.32473.9.0.1", "skerryDoorOpen",
                                        "upsTrapOnBattery"};
    uint64_t random = IND_RANDOM_START;
    (void)state;
    for (int round = 0; round < 2000; round++) {
        char line[400];
        struct ind_slice where;
        struct ind_ber_out out = {bytes, ROOM, ROOM, false};
        int length = snprintf(line, sizeof line, "%s", traps[ind_random(&random, 4)]);
        const unsigned count = ind_random(&random, 5), first = ind_random(&random, 6);
        for (unsigned i = 0; i < count; i++)
            length +=
                snprintf(line + length, sizeof line - (size_t)length, " %s", variables[(first + i) % 6]);
        if (count && round % 2)
            snprintf(line + length, sizeof line - (size_t)length, " index=%u.%u", ind_random(&random, 300),
                     1 + ind_random(&random, 300));
        assert_true(ind_trap_bindings(ind_slice_of(line), names, 99, &out, &where));
        ind_trap_put_pdu(&out, IND_PDU_TRAP, 1, ROOM);
        ind_trap_put_v2c(&out, IND_SLICE("c"), ROOM);
        assert_int_equal(ind_trap_read(ind_ber_written(&out), names, &trap), IND_TRAP_GOOD);
        const char *found = strstr(write_trap(), "\"99\"] ");
        assert_non_null(found);
        assert_string_equal(found + strlen("\"99\"] "), line);
    }
}

/* ---- Version 3 ---- */

static void an_envelope_comes_back(void **state)
{
    struct ind_slice where;
    struct ind_usm usm;
    size_t digest;
    struct ind_ber_out out = {bytes, ROOM, ROOM, false};
    const struct ind_usm_message message = {.id = 77,
                                            .engine = IND_SLICE("\x80\0\0\0\1engine"),
                                            .user = IND_SLICE("ops"),
                                            .boots = 3,
                                            .time = 1000,
                                            .digest = 24};
    (void)state;
    assert_true(ind_trap_bindings(IND_SLICE("coldStart sysName=x"), names, 1, &out, &where));
    ind_trap_put_pdu(&out, IND_PDU_TRAP, 1, ROOM);
    ind_usm_put_scoped(&out, message.engine, IND_SLICE("context"), ROOM);
    ind_usm_put_message(&out, &message, ROOM, &digest);
    const struct ind_slice whole = ind_ber_written(&out);
    assert_int_equal(ind_usm_read(whole, &usm), IND_TRAP_GOOD);
    assert_int_equal(ind_trap_version(whole), IND_SNMP_V3);
    assert_true(usm.id == 77 && usm.boots == 3 && usm.time == 1000 && usm.authenticated && !usm.enciphered);
    assert_true(ind_slice_equal(usm.user, message.user) && ind_slice_equal(usm.engine, message.engine));
    assert_int_equal(usm.digest.length, 24);
    assert_int_equal(whole.at + whole.length - usm.digest.at, digest);
    assert_int_equal(ind_usm_read_trap(&usm, names, &trap), IND_TRAP_GOOD);
    assert_true(ind_slice_equal(trap.context_name, IND_SLICE("context")));
    assert_non_null(strstr(write_trap(), "coldStart sysName=x"));
    for (size_t length = 0; length < whole.length; length++) {
        char *exact = malloc(length ? length : 1);
        assert_non_null(exact);
        memcpy(exact, whole.at, length);
        assert_int_not_equal(ind_usm_read((struct ind_slice){exact, length}, &usm), IND_TRAP_GOOD);
        free(exact);
    }
}

static void late_and_repeated_messages_are_told(void **state)
{
    static const struct {
        int64_t now; /* seconds */
        uint32_t boots, time;
        const char *digest;
        enum ind_trap_fault fault;
    } cases[] = {{0, 5, 1000, "a1234567", IND_TRAP_GOOD},   {1, 5, 1000, "a1234567", IND_TRAP_REPEATED},
                 {1, 5, 860, "b1234567", IND_TRAP_GOOD},    {1, 5, 850, "c1234567", IND_TRAP_LATE},
                 {1, 4, 9000, "d1234567", IND_TRAP_LATE},   {200, 5, 1040, "e1234567", IND_TRAP_LATE},
                 {200, 5, 1060, "f1234567", IND_TRAP_GOOD}, {201, 6, 0, "g1234567", IND_TRAP_GOOD},
                 {201, 5, 2000, "h1234567", IND_TRAP_LATE}, {202, INT32_MAX, 2000, "i1234567", IND_TRAP_LATE},
                 {202, 6, 5, "a1234567", IND_TRAP_REPEATED}};
    struct ind_usm_engine engine = {.id_length = 3};
    (void)state;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const struct ind_usm usm = {
            .boots = cases[i].boots, .time = cases[i].time, .digest = ind_slice_of(cases[i].digest)};
        const struct ind_steady now = {(cases[i].now + 1) * IND_SECOND};
        if (ind_usm_window(&engine, &usm, now) != cases[i].fault)
            fail_msg("case %zu", i);
    }
    const struct ind_usm usm = {.boots = 2, .time = 1000};
    assert_true(ind_usm_in_time(&usm, 2, 850) && ind_usm_in_time(&usm, 2, 1150));
    assert_false(ind_usm_in_time(&usm, 2, 849) || ind_usm_in_time(&usm, 2, 1151) ||
                 ind_usm_in_time(&usm, 3, 1000));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(numbers_come_back),
        cmocka_unit_test(numbers_that_are_none_are_told),
        cmocka_unit_test(lengths_are_not_believed),
        cmocka_unit_test(identifiers_come_back),
        cmocka_unit_test(identifiers_that_are_none_are_told),
        cmocka_unit_test(a_trap_of_v1_is_read),
        cmocka_unit_test(traps_of_v1_have_the_identifiers_of_v2),
        cmocka_unit_test(every_kind_of_value_is_written),
        cmocka_unit_test(instances_are_told_once),
        cmocka_unit_test(what_breaks_off_is_kept),
        cmocka_unit_test(what_is_no_trap_is_told),
        cmocka_unit_test(every_cut_and_flip_is_survived),
        cmocka_unit_test(ten_thousand_variables_find_an_end),
        cmocka_unit_test(endless_zeros_find_an_end),
        cmocka_unit_test(a_text_comes_back),
        cmocka_unit_test(an_envelope_comes_back),
        cmocka_unit_test(late_and_repeated_messages_are_told),
    };
    return cmocka_run_group_tests(tests, begin, end);
}
