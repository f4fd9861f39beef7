/* bench/header.c: the header parser against PCRE2-JIT on the same lines, with the same fields and the times
 * converted on both sides. Every field of every line is compared first; then both run in turn, and the ratio
 * of the best rounds is printed: form  lines/s (ours)  lines/s (PCRE2-JIT)  ratio Usage: bench_header
 * [SECONDS] */
#define PCRE2_CODE_UNIT_WIDTH 8
#include "core/header.h"
#include "config/zones.h"

#include <pcre2.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

enum { LINES = 4000, FORMS = 2 };

struct lines {
    char *text;
    size_t length;
    struct ind_slice line[LINES];
};

struct fields {
    struct ind_slice pri, host, app, procid, msgid, data, text;
    ind_time sent;
};

static unsigned long seed = 42;

static unsigned roll(unsigned sides)
{
    seed = seed * 6364136223846793005ul + 1442695040888963407ul;
    return (unsigned)(seed >> 33) % sides;
}

static const char *const hosts[] = {"harbour-fw", "pier1-rtr", "pier3-sw2.skerry.example", "mv-tern-ap1",
                                    "192.0.2.9"};
static const char *const apps[] = {"kernel", "sshd", "dhcpd", "ospf", "wland", "smtpd"};
static const char *const texts[] = {
    "DENY IN=ge0 OUT= SRC=203.0.113.7 DST=192.0.2.9 LEN=44 TOS=0x00 PREC=0x00 TTL=241 ID=54321 PROTO=TCP "
    "SPT=40112 DPT=23",
    "Failed password for invalid user oracle from 203.0.113.77 port 41007 ssh2",
    "DHCPREQUEST for 198.51.100.77 from 02:00:5e:10:00:7f via ge0.20",
    "neighbour 192.0.2.131 on ge0/1 is down: dead timer expired",
    "station 02:00:5e:20:00:11 associated, ssid crew, channel 36, signal -61 dBm"};
static const char *const months[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                     "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};

static int make_5424(char *at, size_t room)
{
    static const char *const data[] = {"-", "-", "[port@32473 name=\"ge0/24\" speed=\"1000\"]",
                                       "[origin ip=\"192.0.2.9\"][load@32473 cpu=\"31\"]"};
    char procid[12] = "-", zone[8] = "Z";
    if (roll(3))
        snprintf(procid, sizeof procid, "%u", roll(30000));
    if (roll(4) == 0)
        snprintf(zone, sizeof zone, "+%02u:00", roll(12));
    return snprintf(at, room, "<%u>1 2026-%02u-%02uT%02u:%02u:%02u.%0*u%s %s %s %s %s %s %s", roll(192),
                    1 + roll(12), 1 + roll(28), roll(24), roll(60), roll(60), roll(2) ? 3 : 6, roll(1000),
                    zone, hosts[roll(5)], apps[roll(6)], procid, roll(2) ? "-" : "LINK", data[roll(4)],
                    texts[roll(5)]);
}

static int make_3164(char *at, size_t room)
{
    char procid[16] = "";
    if (roll(2))
        snprintf(procid, sizeof procid, "[%u]", roll(30000));
    return snprintf(at, room, "<%u>%s %2u %02u:%02u:%02u %s %s%s: %s", roll(192), months[roll(12)],
                    1 + roll(28), roll(24), roll(60), roll(60), hosts[roll(5)], apps[roll(6)], procid,
                    texts[roll(5)]);
}

static void make_lines(struct lines *lines, int (*make)(char *, size_t))
{
    lines->text = malloc((size_t)LINES * 400);
    for (size_t i = 0; i < LINES; i++) {
        int length = make(lines->text + lines->length, 400);
        lines->line[i] = (struct ind_slice){lines->text + lines->length, (size_t)length};
        lines->length += (size_t)length;
    }
}

/* ---- Ours ---- */

static ind_time reference;
static struct ind_zone *zone;

static void ours(struct ind_slice line, struct ind_message *message)
{
    ind_header_read(line.at, line.length, reference, zone, message);
}

/* ---- PCRE2 ---- */

static const char *const patterns[FORMS] = {
    "^<(\\d{1,3})>1 "
    "(?:-|(\\d{4})-(\\d\\d)-(\\d\\d)T(\\d\\d):(\\d\\d):(\\d\\d)(?:\\.(\\d{1,9}))?(Z|[+-]\\d\\d:\\d\\d)) "
    "(\\S+) (\\S+) (\\S+) "
    "(\\S+) (-|(?:\\[[^ =\\]\"]+(?: [^ =\\]\"]+=\"(?:[^\"\\\\]|\\\\.)*+\")*+\\])++)(?: (.*))?$",
    "^<(\\d{1,3})>([A-Z][a-z]{2}) ([ \\d]\\d) (\\d\\d):(\\d\\d):(\\d\\d) (\\S+) "
    "([A-Za-z0-9_./+@-]+)(?:\\[([^\\] ]+)\\])?: ?(.*)$"};

static pcre2_code *codes[FORMS];
static pcre2_match_data *match;

static struct ind_slice group(struct ind_slice line, const PCRE2_SIZE *ends, int i)
{
    return ends[2 * i] == PCRE2_UNSET
               ? IND_NOTHING
               : (struct ind_slice){line.at + ends[2 * i], ends[2 * i + 1] - ends[2 * i]};
}

static int number(struct ind_slice digits)
{
    int value = 0;
    for (size_t i = 0; i < digits.length; i++)
        value = value * 10 + (digits.at[i] == ' ' ? 0 : digits.at[i] - '0');
    return value;
}

static struct ind_slice not_nil(struct ind_slice slice)
{
    return slice.length == 1 && slice.at[0] == '-' ? IND_NOTHING : slice;
}

static ind_time time_5424(struct ind_slice line, const PCRE2_SIZE *ends)
{
    if (ends[4] == PCRE2_UNSET)
        return IND_TIME_NONE;
    int64_t seconds = ind_days_from_civil(number(group(line, ends, 2)), number(group(line, ends, 3)),
                                          number(group(line, ends, 4))) *
                          IND_DAY_SECONDS +
                      number(group(line, ends, 5)) * 3600 + number(group(line, ends, 6)) * 60 +
                      number(group(line, ends, 7));
    struct ind_slice fraction = group(line, ends, 8), offset = group(line, ends, 9);
    int64_t nanoseconds = number(fraction);
    for (size_t i = fraction.length; i < 9; i++)
        nanoseconds *= 10;
    if (offset.length == 6) {
        int shift = number((struct ind_slice){offset.at + 1, 2}) * 3600 +
                    number((struct ind_slice){offset.at + 4, 2}) * 60;
        seconds -= offset.at[0] == '-' ? -shift : shift;
    }
    return seconds * IND_SECOND + nanoseconds;
}

/* The year rule, with the same zone conversion as ours. */
static ind_time time_3164(struct ind_slice line, const PCRE2_SIZE *ends)
{
    struct ind_slice name = group(line, ends, 2);
    int month = 0, day = number(group(line, ends, 3));
    while (month < 12 && memcmp(name.at, months[month], 3) != 0)
        month++;
    int of_day = number(group(line, ends, 4)) * 3600 + number(group(line, ends, 5)) * 60 +
                 number(group(line, ends, 6));
    int64_t now = ind_time_seconds(reference);
    for (int year = 2027;; year--) {
        int64_t utc =
            ind_zone_to_utc(zone, ind_days_from_civil(year, month + 1, day) * IND_DAY_SECONDS + of_day);
        if (utc <= now + IND_DAY_SECONDS)
            return utc * IND_SECOND;
    }
}

static bool theirs(int form, struct ind_slice line, struct fields *fields)
{
    if (pcre2_jit_match(codes[form], (PCRE2_SPTR)line.at, line.length, 0, 0, match, NULL) < 0)
        return false;
    const PCRE2_SIZE *ends = pcre2_get_ovector_pointer(match);
    *fields = (struct fields){.pri = group(line, ends, 1)};
    if (form == 0) {
        fields->sent = time_5424(line, ends);
        fields->host = not_nil(group(line, ends, 10));
        fields->app = not_nil(group(line, ends, 11));
        fields->procid = not_nil(group(line, ends, 12));
        fields->msgid = not_nil(group(line, ends, 13));
        fields->data = not_nil(group(line, ends, 14));
        fields->text = group(line, ends, 15);
    } else {
        fields->sent = time_3164(line, ends);
        fields->host = group(line, ends, 7);
        fields->app = group(line, ends, 8);
        fields->procid = group(line, ends, 9);
        fields->text = group(line, ends, 10);
    }
    return true;
}

/* ---- ---- */

static bool same(const struct ind_message *a, const struct fields *b)
{
    return a->facility * 8 + a->severity == number(b->pri) && a->sent == b->sent &&
           ind_slice_equal(a->host, b->host) && ind_slice_equal(a->app, b->app) &&
           ind_slice_equal(a->procid, b->procid) && ind_slice_equal(a->msgid, b->msgid) &&
           ind_slice_equal(a->data, b->data) && ind_slice_equal(a->text, b->text);
}

static void compare(const struct lines *lines, int form)
{
    for (size_t i = 0; i < LINES; i++) {
        struct ind_message message;
        struct fields fields;
        ours(lines->line[i], &message);
        if (!theirs(form, lines->line[i], &fields) || !same(&message, &fields)) {
            fprintf(stderr, "the two differ: %.*s\n", IND_ARG(lines->line[i]));
            exit(1);
        }
    }
}

static double now(void)
{
    struct timespec time;
    clock_gettime(CLOCK_MONOTONIC, &time);
    return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

static volatile uint64_t sink;

static double round_ours(const struct lines *lines)
{
    double start = now();
    uint64_t sum = 0;
    for (size_t i = 0; i < LINES; i++) {
        struct ind_message message;
        ours(lines->line[i], &message);
        sum += message.text.length + (uint64_t)message.sent + message.facility;
    }
    sink = sum;
    return LINES / (now() - start);
}

static double round_theirs(const struct lines *lines, int form)
{
    double start = now();
    uint64_t sum = 0;
    for (size_t i = 0; i < LINES; i++) {
        struct fields fields;
        (void)theirs(form, lines->line[i], &fields);
        sum += fields.text.length + (uint64_t)fields.sent + (uint64_t)number(fields.pri);
    }
    sink = sum;
    return LINES / (now() - start);
}

int main(int argc, char **argv)
{
    static struct lines lines[FORMS];
    static const char *const names[FORMS] = {"RFC 5424", "RFC 3164"};
    double seconds = argc > 1 ? atof(argv[1]) : 3, best[FORMS][2] = {{0}};
    zone = ind_zone_named("Europe/Lisbon");
    reference = INT64_C(1795409100) * IND_SECOND;
    make_lines(&lines[0], make_5424);
    make_lines(&lines[1], make_3164);
    for (int form = 0; form < FORMS; form++) {
        int error;
        PCRE2_SIZE offset;
        codes[form] =
            pcre2_compile((PCRE2_SPTR)patterns[form], PCRE2_ZERO_TERMINATED, 0, &error, &offset, NULL);
        if (!codes[form] || pcre2_jit_compile(codes[form], PCRE2_JIT_COMPLETE) != 0) {
            fprintf(stderr, "no JIT, or a pattern that does not compile (at %zu)\n", (size_t)offset);
            return 1;
        }
        match = pcre2_match_data_create(20, NULL);
        compare(&lines[form], form);
    }
    for (double end = now() + seconds; now() < end;)
        for (int form = 0; form < FORMS; form++) {
            double a = round_ours(&lines[form]), b = round_theirs(&lines[form], form);
            best[form][0] = a > best[form][0] ? a : best[form][0];
            best[form][1] = b > best[form][1] ? b : best[form][1];
        }
    double ours_time = 0, theirs_time = 0;
    for (int form = 0; form < FORMS; form++) {
        printf("%s\t%.2f\t%.2f\t%.2f\n", names[form], best[form][0] / 1e6, best[form][1] / 1e6,
               best[form][0] / best[form][1]);
        ours_time += 1 / best[form][0];
        theirs_time += 1 / best[form][1];
    }
    printf("both\t%.2f\t%.2f\t%.2f\n", FORMS / ours_time / 1e6, FORMS / theirs_time / 1e6,
           theirs_time / ours_time);
    return 0;
}
