/* bench/header.c: the header parser against PCRE2-JIT on the same lines, with the same fields and the times
 * converted on both sides; PCRE2 is told the form, ours finds it out. Every field of every line is compared
 * first; then both run in turn, and the ratio of the best rounds is printed: form  lines/s (ours)  lines/s
 * (PCRE2-JIT)  ratio. The last row but one mixes all forms; there PCRE2 tries its expressions in turn.
 * Usage: bench_header [SECONDS [FORM]] */
#include "forms.h"
#include "measure.h"
#include "regex.h"

#include "config/zones.h"
#include "core/message/header.h"

#include <stdio.h>
#include <stdlib.h>

struct fields {
    struct ind_slice pri, host, app, procid, msgid, data, text, sequence, location;
    ind_time sent;
};

/* ---- Ours ---- */

static ind_time reference;
static struct ind_zone *zone;

static void ours(struct ind_slice line, struct ind_message *message)
{
    ind_header_read(line.at, line.length, reference, zone, message);
}

/* ---- PCRE2 ---- */

#define TIME "(?<month>[A-Z][a-z]{2}) (?<day>[ \\d]\\d) (?<hour>\\d\\d):(?<minute>\\d\\d):(?<second>\\d\\d)"
#define ISO                                                                                                  \
    "(?<year>\\d{4})-(?<mon>\\d\\d)-(?<day>\\d\\d)T(?<hour>\\d\\d):(?<minute>\\d\\d):(?<second>\\d\\d)"
#define FRACTION "(?:\\.(?<fraction>\\d{1,9}))?"
#define PRI "^<(?<pri>\\d{1,3})>"
#define APP "(?<app>[A-Za-z0-9_./+@-]+)(?:\\[(?<procid>[^\\] ]+)\\])?: ?"
#define CODE "(?<text>[%#](?:[A-Z0-9_]+-)+[0-7]-[A-Z0-9_]+ ?:.*)$"

/* In the order of `made`. */
static const struct form {
    const char *pattern;
    bool utc;
} forms[FORMS] = {
    {PRI "1 (?:-|" ISO FRACTION "(?<offset>Z|[+-]\\d\\d:\\d\\d)) (?<host>\\S+) (?<app>\\S+) (?<procid>\\S+) "
         "(?<msgid>\\S+) (?<data>-|(?:\\[[^ =\\]\"]+(?: [^ =\\]\"]+=\"(?:[^\"\\\\]|\\\\.)*+\")*+\\])++)(?: "
         "(?<text>.*))?$",
     true},
    {PRI TIME " (?<host>\\S+) " APP "(?<text>.*)$", false},
    {PRI TIME " " APP "(?<text>.*)$", false},
    {PRI "(?<month>[A-Z][a-z]{2}) (?<day>[ \\d]\\d) (?<year>\\d{4}) "
         "(?<hour>\\d\\d):(?<minute>\\d\\d):(?<second>\\d\\d)" FRACTION " (?<host>\\S+) " APP "(?<text>.*)$",
     false},
    {PRI ISO FRACTION "(?<offset>Z|[+-]\\d\\d:\\d\\d) (?<host>\\S+) " APP "(?<text>.*)$", true},
    {PRI "(?<sequence>\\d+): (?<host>[^ :]+): " TIME FRACTION " UTC: " CODE, true},
    {PRI "(?<location>[A-Za-z0-9/]+):" TIME FRACTION " UTC: " APP CODE, true},
    {PRI "[A-Z][a-z]{2} [ \\d]\\d \\d\\d:\\d\\d:\\d\\d (?<host>\\S+) (?<sequence>\\d+): " TIME FRACTION
         " UTC: " CODE,
     true},
    {PRI APP "(?<text>.*)$", false},
    {PRI "(?<text>.*)$", false},
};

/* Numbers of the groups, by name; 0: the form has none. */
enum {
    G_PRI,
    G_MONTH,
    G_DAY,
    G_HOUR,
    G_MINUTE,
    G_SECOND,
    G_FRACTION,
    G_YEAR,
    G_MON,
    G_OFFSET,
    G_HOST,
    G_APP,
    G_PROCID,
    G_MSGID,
    G_DATA,
    G_TEXT,
    G_SEQUENCE,
    G_LOCATION,
    GROUPS
};
static const char *const group_names[GROUPS] = {
    "pri",    "month", "day", "hour",   "minute", "second", "fraction", "year",     "mon",
    "offset", "host",  "app", "procid", "msgid",  "data",   "text",     "sequence", "location"};
static int groups[FORMS][GROUPS];
static pcre2_code *codes[FORMS];
static pcre2_match_data *match;

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

static int64_t nanoseconds_of(struct ind_slice fraction)
{
    int64_t nanoseconds = number(fraction);
    for (size_t i = fraction.length; i < 9; i++)
        nanoseconds *= 10;
    return nanoseconds;
}

static int month_of(struct ind_slice name)
{
    int month = 0;
    while (month < 11 && memcmp(name.at, months[month], 3) != 0)
        month++;
    return month + 1;
}

/* With the year rule and the zone conversion of ours. */
static ind_time time_of(int form, struct ind_slice line, const PCRE2_SIZE *ends)
{
    const int *at = groups[form];
    if (!at[G_HOUR] || ends[2 * at[G_HOUR]] == PCRE2_UNSET)
        return IND_TIME_NONE;
    int month = at[G_MON] ? number(group(line, ends, at[G_MON])) : month_of(group(line, ends, at[G_MONTH]));
    int day = number(group(line, ends, at[G_DAY]));
    int of_day = number(group(line, ends, at[G_HOUR])) * 3600 + number(group(line, ends, at[G_MINUTE])) * 60 +
                 number(group(line, ends, at[G_SECOND]));
    int64_t seconds = 0, now = ind_time_seconds(reference);
    int64_t nanoseconds = at[G_FRACTION] ? nanoseconds_of(group(line, ends, at[G_FRACTION])) : 0;
    int year = at[G_YEAR] ? number(group(line, ends, at[G_YEAR])) : 2027;
    for (;; year--) {
        seconds = ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + of_day;
        seconds = forms[form].utc ? seconds : ind_zone_to_utc(zone, seconds);
        if (at[G_YEAR] || seconds <= now + IND_DAY_SECONDS)
            break;
    }
    struct ind_slice offset = at[G_OFFSET] ? group(line, ends, at[G_OFFSET]) : IND_NOTHING;
    if (offset.length == 6) {
        int shift = number((struct ind_slice){offset.at + 1, 2}) * 3600 +
                    number((struct ind_slice){offset.at + 4, 2}) * 60;
        seconds -= offset.at[0] == '-' ? -shift : shift;
    }
    return seconds * IND_SECOND + nanoseconds;
}

static struct ind_slice part(int form, struct ind_slice line, const PCRE2_SIZE *ends, int which)
{
    return groups[form][which] ? group(line, ends, groups[form][which]) : IND_NOTHING;
}

static bool theirs_known(int form, struct ind_slice line, struct fields *fields)
{
    if (pcre2_jit_match(codes[form], (PCRE2_SPTR)line.at, line.length, 0, 0, match, NULL) < 0)
        return false;
    const PCRE2_SIZE *ends = pcre2_get_ovector_pointer(match);
    fields->pri = part(form, line, ends, G_PRI);
    fields->sent = time_of(form, line, ends);
    fields->host = not_nil(part(form, line, ends, G_HOST));
    fields->app = not_nil(part(form, line, ends, G_APP));
    fields->procid = not_nil(part(form, line, ends, G_PROCID));
    fields->msgid = not_nil(part(form, line, ends, G_MSGID));
    fields->data = not_nil(part(form, line, ends, G_DATA));
    fields->text = part(form, line, ends, G_TEXT);
    fields->sequence = part(form, line, ends, G_SEQUENCE);
    fields->location = part(form, line, ends, G_LOCATION);
    return true;
}

/* From the most particular to the least, so that the first that matches is right. */
static const int in_turn[] = {0, 7, 5, 6, 3, 4, 1, 2, 8, 9};

static bool theirs(int form, struct ind_slice line, struct fields *fields)
{
    if (form != MIXED)
        return theirs_known(form, line, fields);
    for (size_t i = 0; i < sizeof in_turn / sizeof *in_turn; i++)
        if (theirs_known(in_turn[i], line, fields))
            return true;
    return false;
}

/* ---- ---- */

static bool same(const struct ind_message *a, const struct fields *b)
{
    return a->facility * 8 + a->severity == number(b->pri) && a->sent == b->sent &&
           ind_slice_equal(a->host, b->host) && ind_slice_equal(a->app, b->app) &&
           ind_slice_equal(a->procid, b->procid) && ind_slice_equal(a->msgid, b->msgid) &&
           ind_slice_equal(a->data, b->data) && ind_slice_equal(a->text, b->text) &&
           ind_slice_equal(a->sequence, b->sequence) && ind_slice_equal(a->location, b->location);
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

static void prepare(int form)
{
    codes[form] = compiled(forms[form].pattern);
    for (int i = 0; i < GROUPS; i++) {
        int found = pcre2_substring_number_from_name(codes[form], (PCRE2_SPTR)group_names[i]);
        groups[form][i] = found > 0 ? found : 0;
    }
}

int main(int argc, char **argv)
{
    static struct lines lines[FORMS + 1];
    double seconds = argc > 1 ? atof(argv[1]) : 3, best[FORMS + 1][2] = {{0}};
    zone = ind_zone_named("Europe/Lisbon");
    reference = INT64_C(1795409100) * IND_SECOND;
    match = pcre2_match_data_create(32, NULL);
    make_lines(lines);
    for (int form = 0; form < FORMS; form++) {
        prepare(form);
        compare(&lines[form], form);
    }
    compare(&lines[MIXED], MIXED);
    for (double end = now() + seconds; now() < end;)
        for (int form = 0; form <= FORMS; form++) {
            if (argc > 2 && strcmp(argv[2], name_of(form)) != 0)
                continue;
            double a = round_ours(&lines[form]), b = round_theirs(&lines[form], form);
            best[form][0] = a > best[form][0] ? a : best[form][0];
            best[form][1] = b > best[form][1] ? b : best[form][1];
        }
    double ours_time = 0, theirs_time = 0;
    for (int form = 0; form <= FORMS; form++) {
        printf("%s\t%.2f\t%.2f\t%.2f\n", name_of(form), best[form][0] / 1e6, best[form][1] / 1e6,
               best[form][0] / best[form][1]);
        ours_time += form < 2 ? 1 / best[form][0] : 0;
        theirs_time += form < 2 ? 1 / best[form][1] : 0;
    }
    printf("both\t%.2f\t%.2f\t%.2f\n", 2 / ours_time / 1e6, 2 / theirs_time / 1e6, theirs_time / ours_time);
    return 0;
}
