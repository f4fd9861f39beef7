/* bench/patterns.c: many patterns against PCRE2-JIT that tries them in turn, and against Hyperscan that says
 * which it is and PCRE2-JIT that takes the fields out. All take the same messages, of which each fits one
 * pattern; every field is compared first. Then they run in turn, and the best rounds are printed:
 * what  ours  theirs  ratio (rates in million messages/s). Usage: bench_patterns [SECONDS] */
#include "measure.h"
#include "regex.h"

#include "core/message/header.h"
#include "core/pattern/pattern.h"

#ifdef IND_HYPERSCAN
#include <hs.h>
#endif

enum { NOUNS = 40, VERBS = 25, MOST = NOUNS * VERBS, TEXTS = 20000, WIDTH = 320, GROUPS = 8 };

static const char *const nouns[NOUNS] = {
    "link",     "session",  "neighbour",   "lease",  "tunnel",   "fan",     "supply", "clock",
    "station",  "port",     "route",       "rule",   "user",     "group",   "image",  "buffer",
    "queue",    "timer",    "interface",   "card",   "module",   "channel", "cell",   "beacon",
    "password", "key",      "certificate", "policy", "bundle",   "mirror",  "probe",  "address",
    "prefix",   "topology", "root",        "bridge", "instance", "context", "member", "stack"};
static const char *const verbs[VERBS] = {"added",    "removed",   "changed",  "expired",  "failed",
                                         "restored", "started",   "stopped",  "lost",     "found",
                                         "moved",    "refused",   "granted",  "opened",   "closed",
                                         "blocked",  "forwarded", "learned",  "flapping", "aged",
                                         "selected", "elected",   "rejected", "reset",    "synchronised"};

/* What stands behind noun and verb: as a layout, as an expression, and as a text. */
static const struct {
    const char *layout, *regex, *text;
} tails[] = {
    {"on {interface:interface}, changed state to {state:word}", "on (\\S+), changed state to (\\S+)",
     "on ge0/%u, changed state to up"},
    {"for {user:word} from {peer:ip} port {port:int} ssh2",
     "for (\\S+) from (\\d+\\.\\d+\\.\\d+\\.\\d+) port (\\d+) ssh2",
     "for tern from 203.0.113.%u port 4022 ssh2"},
    {"by {peer:ip}({sport:int}) -> {target:ip}({dport:int}), {packets:int} packets",
     "by (\\d+\\.\\d+\\.\\d+\\.\\d+)\\((\\d+)\\) -> (\\d+\\.\\d+\\.\\d+\\.\\d+)\\((\\d+)\\), (\\d+) packets",
     "by 203.0.113.%u(4022) -> 192.0.2.9(443), 17 packets"},
    {"at {interface:interface} after {span:duration}: {reason:text}", "at (\\S+) after (\\S+): (.+)",
     "at ge0/%u after 3d04h: hold timer has expired"},
    {"by {mac:mac} in vlan {vlan:int}", "by ([0-9a-f:]{17}) in vlan (\\d+)",
     "by 02:00:5e:10:00:0a in vlan %u"},
};
enum { TAILS = sizeof tails / sizeof *tails };

static char layouts[MOST][160], expressions[MOST][240];
static pcre2_code *codes[MOST];
static pcre2_match_data *match;
static char bytes[TEXTS * WIDTH];
static struct ind_slice lines[TEXTS]; /* with their header */
static struct ind_slice texts[TEXTS];
static unsigned of_text[TEXTS];
static unsigned long seed = 42;

static unsigned roll(unsigned sides)
{
    seed = seed * 6364136223846793005ul + 1442695040888963407ul;
    return (unsigned)(seed >> 33) % sides;
}

static void make_patterns(void)
{
    for (unsigned i = 0; i < MOST; i++) {
        snprintf(layouts[i], sizeof layouts[i], "%s %s %s", nouns[i % NOUNS], verbs[i / NOUNS],
                 tails[i % TAILS].layout);
        snprintf(expressions[i], sizeof expressions[i], "^%s %s %s$", nouns[i % NOUNS], verbs[i / NOUNS],
                 tails[i % TAILS].regex);
        codes[i] = compiled(expressions[i]);
    }
}

/* Messages that fit the first `count` patterns, all as often; or, spoiled at the end, none. */
static void make_texts(unsigned count, bool spoiled)
{
    size_t used = 0;
    for (size_t i = 0; i < TEXTS; i++) {
        char tail[120], *line = bytes + used;
        of_text[i] = roll(count);
        snprintf(tail, sizeof tail, tails[of_text[i] % TAILS].text, 1 + roll(48));
        int header = snprintf(line, WIDTH, "<189>Nov 23 04:45:%02u pier%u-rtr linkd[%u]: ", roll(60),
                              1 + roll(4), 100 + roll(900));
        int text = snprintf(line + header, (size_t)(WIDTH - header), "%s %s %s%s", nouns[of_text[i] % NOUNS],
                            verbs[of_text[i] / NOUNS], tail, spoiled ? " ?" : "");
        lines[i] = (struct ind_slice){line, (size_t)(header + text)};
        texts[i] = (struct ind_slice){line + header, (size_t)text};
        if (spoiled) /* the last literal or field is another: the layout fits but for its end */
            of_text[i] = MOST;
        used += (size_t)(header + text) + 1;
    }
}

/* ---- Ours ---- */

static struct ind_patterns *make_set(unsigned count)
{
    struct ind_patterns *set = ind_patterns_new();
    struct ind_mistake mistake = {0};
    for (unsigned i = 0; i < count; i++) {
        uint32_t number;
        if (!ind_patterns_add(set, ind_slice_of(layouts[i]), NULL, 0, &number) ||
            !ind_patterns_add_syntax(set, number, ind_slice_of(layouts[i]), &mistake)) {
            fprintf(stderr, "%s: %s\n", layouts[i], mistake.text);
            exit(1);
        }
    }
    if (!ind_patterns_compile(set))
        exit(1);
    return set;
}

static size_t ours(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice *fields,
                   uint32_t *pattern)
{
    const struct ind_pattern_syntax *layout = ind_match(matcher, text, IND_NOTHING, false);
    *pattern = layout ? layout->pattern : MOST;
    if (layout)
        ind_match_fields(matcher, layout, fields);
    return layout ? layout->field_count : 0;
}

/* ---- Theirs ---- */

static size_t take_groups(unsigned pattern, struct ind_slice text, struct ind_slice *fields)
{
    int count = pcre2_jit_match(codes[pattern], (PCRE2_SPTR)text.at, text.length, 0, 0, match, NULL);
    const PCRE2_SIZE *ends = pcre2_get_ovector_pointer(match);
    for (int i = 1; i < count; i++)
        fields[i - 1] = group(text, ends, i);
    return count > 0 ? (size_t)count : 0;
}

static size_t in_turn(unsigned count, struct ind_slice text, struct ind_slice *fields, uint32_t *pattern)
{
    for (unsigned i = 0; i < count; i++) {
        size_t groups = take_groups(i, text, fields);
        if (groups) {
            *pattern = i;
            return groups - 1;
        }
    }
    *pattern = MOST;
    return 0;
}

#ifdef IND_HYPERSCAN
static hs_database_t *database;
static hs_scratch_t *scratch;

static void make_database(unsigned count)
{
    static const char *list[MOST];
    static unsigned flags[MOST], ids[MOST];
    hs_compile_error_t *error;
    for (unsigned i = 0; i < count; i++) {
        list[i] = expressions[i];
        flags[i] = HS_FLAG_SINGLEMATCH;
        ids[i] = i;
    }
    if (hs_compile_multi(list, flags, ids, count, HS_MODE_BLOCK, NULL, &database, &error) != HS_SUCCESS ||
        hs_alloc_scratch(database, &scratch) != HS_SUCCESS) {
        fprintf(stderr, "Hyperscan does not take the expressions\n");
        exit(1);
    }
}

static int found(unsigned id, unsigned long long from, unsigned long long to, unsigned flags, void *context)
{
    (void)from, (void)to, (void)flags;
    *(uint32_t *)context = id;
    return 1; /* the first will do */
}

static size_t by_hyperscan(struct ind_slice text, struct ind_slice *fields, uint32_t *pattern)
{
    *pattern = MOST;
    (void)hs_scan(database, text.at, (unsigned)text.length, 0, scratch, found, pattern);
    size_t groups = *pattern < MOST ? take_groups(*pattern, text, fields) : 0;
    return groups ? groups - 1 : 0;
}
#endif

/* ---- Measuring ---- */

enum way { OURS, IN_TURN, HYPERSCAN, OURS_WITH_HEADER };

static volatile size_t sink;

static size_t one(enum way way, struct ind_matcher *matcher, unsigned count, size_t i,
                  struct ind_slice *fields, uint32_t *pattern)
{
    struct ind_message message;
    switch (way) {
    case OURS:
        return ours(matcher, texts[i], fields, pattern);
    case IN_TURN:
        return in_turn(count, texts[i], fields, pattern);
    case HYPERSCAN:
#ifdef IND_HYPERSCAN
        return by_hyperscan(texts[i], fields, pattern);
#else
        return 0;
#endif
    default:
        ind_header_read(lines[i].at, lines[i].length, INT64_C(1795409100) * 1000000000, NULL, &message);
        return ours(matcher, message.text, fields, pattern);
    }
}

static void compare(struct ind_matcher *matcher, unsigned count, enum way way)
{
    for (size_t i = 0; i < TEXTS; i++) {
        struct ind_slice a[IND_SYNTAX_FIELDS], b[GROUPS];
        uint32_t x = MOST, y = MOST;
        size_t fields = one(OURS, matcher, count, i, a, &x), groups = one(way, matcher, count, i, b, &y);
        bool same = x == y && fields == groups && x == of_text[i];
        for (size_t f = 0; same && f < fields; f++)
            same = ind_slice_equal(a[f], b[f]);
        if (!same) {
            fprintf(stderr, "the two differ: %.*s\n", IND_ARG(texts[i]));
            exit(1);
        }
    }
}

static double measure(enum way way, struct ind_matcher *matcher, unsigned count, size_t most)
{
    struct ind_slice fields[IND_SYNTAX_FIELDS];
    uint32_t pattern;
    size_t sum = 0;
    double start = now();
    for (size_t i = 0; i < most; i++) {
        sum += one(way, matcher, count, i, fields, &pattern);
        sum += fields[0].length;
    }
    sink = sum;
    return (double)most / (now() - start) / 1e6;
}

static void keep_best(double *best, double rate)
{
    *best = rate > *best ? rate : *best;
}

static void against(const char *name, struct ind_matcher *matcher, unsigned count, enum way theirs,
                    double seconds)
{
    double best[2] = {0};
    size_t most = theirs == IN_TURN && count > 100 ? TEXTS / 10 : TEXTS;
    compare(matcher, count, theirs);
    for (double end = now() + seconds; now() < end;) {
        keep_best(&best[0], measure(OURS, matcher, count, TEXTS));
        keep_best(&best[1], measure(theirs, matcher, count, most));
    }
    printf("%s\t%.2f\t%.3f\t%.2f", name, best[0], best[1], best[0] / best[1]);
}

static void measure_alone(struct ind_matcher *few, struct ind_matcher *many, double seconds)
{
    double best[5] = {0};
    for (double end = now() + seconds; now() < end;) {
        make_texts(10, false);
        keep_best(&best[0], measure(OURS, few, 10, TEXTS));
        keep_best(&best[1], measure(OURS, many, MOST, TEXTS));
        make_texts(MOST, false);
        keep_best(&best[2], measure(OURS, many, MOST, TEXTS));
        keep_best(&best[3], measure(OURS_WITH_HEADER, many, MOST, TEXTS));
        make_texts(MOST, true);
        keep_best(&best[4], measure(OURS, many, MOST, TEXTS));
    }
    printf("same messages\t%.2f\t%.2f\t%.2f\n", best[1], best[0], best[0] / best[1]);
    printf("other messages\t%.2f\t%.2f\t%.2f\n", best[2], best[0], best[0] / best[2]);
    printf("header\t%.2f\t\t\n", best[3]);
    printf("none fits\t%.2f\t%.2f\t%.2f\n", best[4], best[2], best[4] / best[2]);
}

static void measure_compiling(void)
{
    double best = 1;
    for (int i = 0; i < 20; i++) {
        double start = now();
        struct ind_patterns *set = make_set(MOST);
        double took = now() - start;
        best = took < best ? took : best;
        ind_patterns_free(set);
    }
    printf("compiling\t%.2f\t\t\n", best * 1e3);
}

int main(int argc, char **argv)
{
    static const unsigned counts[] = {10, 100, MOST};
    static const char *const names[] = {"10", "100", "1,000"};
    double seconds = argc > 1 ? atof(argv[1]) : 3;
    struct ind_matcher *matchers[3];
    match = pcre2_match_data_create(GROUPS, NULL);
    make_patterns();
    for (int i = 0; i < 3; i++) {
        matchers[i] = ind_matcher_new(make_set(counts[i]));
        make_texts(counts[i], false);
        against("in turn", matchers[i], counts[i], IN_TURN, seconds);
        printf("\t%s\n", names[i]);
    }
#ifdef IND_HYPERSCAN
    make_database(MOST);
    against("Hyperscan", matchers[2], MOST, HYPERSCAN, seconds);
    printf("\n");
#endif
    measure_alone(matchers[0], matchers[2], seconds);
    measure_compiling();
    return 0;
}
