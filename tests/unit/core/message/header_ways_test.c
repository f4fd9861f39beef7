/* The short ways of common forms give what the close look gives: on lines put together from the parts that
 * headers are made of, whole and broken. IND_LINES says how many. */
#include "support/random.h"
#include "support/support.h"

#include "core/message/header.h"

enum { MOST = 600 };

static uint64_t state = IND_RANDOM_START;
static char line[MOST];
static size_t length;

static unsigned roll(unsigned sides)
{
    return ind_random(&state, sides);
}

static void put(const char *text)
{
    size_t size = strlen(text);
    if (length + size > MOST)
        return;
    memcpy(line + length, text, size);
    length += size;
}

#define PUT_ONE_OF(...)                                                                                      \
    do {                                                                                                     \
        static const char *const some[] = {__VA_ARGS__};                                                     \
        put(some[roll(sizeof some / sizeof *some)]);                                                         \
    } while (0)

static void put_number(unsigned sides)
{
    char digits[12];
    snprintf(digits, sizeof digits, "%u", roll(sides));
    put(digits);
}

static void put_pri(void)
{
    if (roll(20) == 0) {
        PUT_ONE_OF("", "<>", "<191", "<192>", "<007>", "<1a>", "<1234>", " <13>", "<13> ",
                   "<13>:", "<13>: ", "<<1>");
        return;
    }
    put("<");
    put_number(192);
    put(">");
}

static void put_clock(void)
{
    static const unsigned most[] = {24, 60, 61};
    for (int i = 0; i < 3; i++) {
        char two[4];
        unsigned odd = roll(200) == 0 ? 40 : 0;
        snprintf(two, sizeof two, "%02u", (roll(most[i]) + odd) % 100);
        put(i ? ":" : "");
        put(two);
    }
}

static void put_time(void)
{
    char day[4];
    unsigned number = 1 + roll(31);
    snprintf(day, sizeof day, number < 10 && roll(2) ? "%02u" : "%2u", number);
    if (roll(6) == 0) {
        PUT_ONE_OF("2026-11-23T04:45:00", "2026-02-29T23:59:60", "2024-02-29 00:00:00", "1699-01-01T00:00:00",
                   "2026-13-01T00:00:00", "2026-11-3T04:45:00");
        PUT_ONE_OF("Z", ".123Z", ".123456+01:00", ",5-0330", "", ".1234567890Z", "z");
        return;
    }
    if (roll(4) == 0)
        PUT_ONE_OF("*", ".", "Mon ", "Mon, ");
    PUT_ONE_OF("Jan ", "Feb ", "Mar ", "Apr ", "May ", "Jun ", "Jul ", "Aug ", "Sep ", "Oct ", "Nov ", "Dec ",
               "nov ", "Nox ", "Nov");
    put(day);
    put(" ");
    if (roll(4) == 0)
        PUT_ONE_OF("2026 ", "2024 ", "1969 ", "2261 ", "20x6 ", "1970 ");
    put_clock();
    PUT_ONE_OF("", "", ".123", ".123", ".123", ".5", ".123456", ".1234", ",123", ".");
    PUT_ONE_OF("", "", "", " UTC", " UTC", " 2026", " PM", " am", " CET", " EST", "Z", " +01:00", " UTC+1",
               " XY");
}

static void put_word(void)
{
    PUT_ONE_OF("pier1-rtr", "192.0.2.9", "fe80::1", "2001:db8::131", "harbour-fw", "RP/0/RP0/CPU0", "a", "AB",
               "1d02h", "00:04:10", "cafe", "Nov", "SLOT1", "-", "_", "kernel", "sshd", "ports", "a/b", "CEF",
               "@cee", "su(pam_unix)", "12", "*task", "mains", "CRON", "SNMP", "2026", "[192.0.2.9]",
               "hq-sw1,020000000001", "12345678", "%", "10");
}

static void put_code(void)
{
    PUT_ONE_OF("%LINK-3-CHANGE: Interface ge0/1, changed state to down", "%PKT-LINK-3-CHANGE : up",
               "#OSPF-5-ADJCHG: x", "%%01SHELL/5/LOGIN(l)[12]: user", "%LINK-W-DOWN: x",
               "%LINK-9-CHANGE: no code", "%A-1-B:", "%A-1-B", "100% done", "%LINK-3-: x", "%LINK--3-X: x");
}

static void put_part(void)
{
    switch (roll(9)) {
    case 0:
        put_time();
        break;
    case 1:
        put_number(roll(2) ? 100000 : 2000000000);
        break;
    case 2:
        put_code();
        break;
    case 3:
        put_word();
        put("[");
        put_number(30000);
        put("]");
        break;
    case 4:
        PUT_ONE_OF("[a@1 b=\"c\"]", "-", "- - - -", "[x y=\"z\\\"]\"][q r=\"\"]", "\xEF\xBB\xBF",
                   "{\"a\":1}");
        break;
    case 5:
        PUT_ONE_OF("link is down", "has returned after minutes: 5", "a=b c=\"d e\"",
                   "Failed password for deckhand");
        break;
    default:
        put_word();
        break;
    }
}

static void put_gap(void)
{
    PUT_ONE_OF(" ", " ", " ", ": ", ": ", ": ", ":", " : ", "  ", "", ",", "(");
}

/* What routers and switches put before a code, in the order in which they do. */
static void put_device_form(void)
{
    if (roll(3) == 0) {
        put_time();
        put(" ");
        put_word();
        put(" ");
    }
    if (roll(2)) {
        put_number(100000);
        put(roll(20) ? ": " : ":");
    }
    if (roll(2)) {
        put_word();
        put(roll(3) ? ": " : ":");
    }
    put_time();
    put(roll(20) ? ": " : ":");
    if (roll(2)) {
        put_word();
        PUT_ONE_OF("[12]: ", "[12] ", ": ", ": ", " : ", ":", "[1 2]: ");
    }
    put_code();
}

/* A form as devices have it, or any parts in any order; then some bytes are changed. */
static void make_line(void)
{
    length = 0;
    put_pri();
    if (roll(3) == 0) {
        put_device_form();
    } else if (roll(4) == 0) {
        put("1 ");
        put_time();
        for (int i = 0; i < 4; i++) {
            put(" ");
            put_word();
        }
        PUT_ONE_OF(" - text", " [a@1 b=\"c\"] text", " -", " [x",
                   "  - text of some length that fills the block of sixty-four");
    } else {
        for (unsigned parts = 1 + roll(6); parts > 0; parts--) {
            put_part();
            put_gap();
        }
        if (roll(2))
            put_code();
    }
    for (unsigned changes = roll(3) ? 0 : 1 + roll(3); changes > 0 && length > 0; changes--)
        line[roll((unsigned)length)] = " :[]%<>.\0-1Za\xC3\n\"="[roll(17)];
    if (roll(8) == 0)
        length = roll((unsigned)length + 1);
}

static void assert_same_slice(struct ind_slice a, struct ind_slice b, const char *name)
{
    if (a.length == b.length && (a.length == 0 || a.at == b.at))
        return;
    fail_msg("%s differs: \"%.*s\" and \"%.*s\" in: %.*s", name, IND_ARG(a), IND_ARG(b), (int)length, line);
}

static void common_forms_are_read_as_a_close_look_reads_them(void **unused)
{
    (void)unused;
    const char *wanted = getenv("IND_LINES");
    const ind_time reference = INT64_C(1795409100) * IND_SECOND;
    struct ind_zone *zone = ind_zone_fixed(-12600);
    for (long left = wanted ? atol(wanted) : 300000; left > 0; left--) {
        struct ind_message a, b;
        make_line();
        /* at the end of its memory, where a look too far is seen by sanitizers */
        char *own = malloc(length + 1);
        memcpy(own, line, length);
        ind_header_read(own, length, reference, zone, &a);
        ind_header_read_closely(own, length, reference, zone, &b);
        assert_same_slice(a.host, b.host, "host");
        assert_same_slice(a.app, b.app, "app");
        assert_same_slice(a.procid, b.procid, "procid");
        assert_same_slice(a.msgid, b.msgid, "msgid");
        assert_same_slice(a.data, b.data, "data");
        assert_same_slice(a.text, b.text, "text");
        assert_same_slice(a.timestamp, b.timestamp, "timestamp");
        assert_same_slice(a.sequence, b.sequence, "sequence");
        assert_same_slice(a.location, b.location, "location");
        if (a.sent != b.sent || a.form != b.form || a.mark != b.mark || a.malformed != b.malformed ||
            a.facility != b.facility || a.severity != b.severity || a.pri_given != b.pri_given)
            fail_msg("time, form, mark or PRI differ: %.*s", (int)length, line);
        free(own);
    }
    ind_zone_free(zone);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(common_forms_are_read_as_a_close_look_reads_them),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
