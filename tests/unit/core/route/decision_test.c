/* Random conditions and routes on random messages, against a second evaluator that walks trees and compares
 * byte by byte: no difference is allowed. More cases than usual: IND_CASES=1000000. */
#include "support/moment.h"
#include "support/random.h"
#include "support/support.h"

#include "core/condition/logic.h"
#include "core/message/device.h"
#include "core/route/route.h"

#include <stdio.h>
#include <stdlib.h>

/* ---- What is asked, as trees ---- */

enum field { FACILITY, SEVERITY, HOST, SENDER, APP, TEXT, LABEL, DATA, LAG, TIME, DAY, FIELDS };
enum op { IS, IN, CONTAINS, MENTIONS, STARTS, ENDS, MATCHES, WITHIN, AT_LEAST, AT_MOST, PRESENT };
enum kind { TEST, NOT, ALL, ANY, NAME };

struct tree {
    enum kind kind;
    struct tree *parts[3]; /* of a name: the tree named */
    int count;
    enum field field;
    enum op op;
    bool nocase, negated;
    const char *values[3];
    int value_count, number;
};

enum { TREES = 8192, NAMES = 4 };
static struct tree trees[TREES];
static size_t used;
static struct tree *named[NAMES];
static uint64_t state = IND_RANDOM_START;

static unsigned any(unsigned below)
{
    return ind_random(&state, below);
}

#define ONE_OF(list) ((list)[any(sizeof(list) / sizeof *(list))])

static const char *const hosts[] = {"pier1-rtr",  "PIER1-RTR", "pier1-rtr.skerry.example",
                                    "pier1",      "pier12-sw", "pier2-rtr",
                                    "harbour-fw", "p",         "mv-tern-ap1"};
static const char *const addresses[] = {"192.0.2.9",   "192.0.2.200", "198.51.100.7",
                                        "203.0.113.7", "2001:db8::7", "2001:db8:1::7"};
static const char *const networks[] = {"192.0.2.0/24", "192.0.2.8/29",   "192.0.2.0/25",  "198.51.100.0/24",
                                       "0.0.0.0/0",    "203.0.113.7/32", "2001:db8::/32", "2001:db8:1::/48"};
static const char *const words[] = {"link down", "link",       "down", "DOWN",         "port 7",
                                    "portal",    "a",          "ab",   "abc",          "deny",
                                    "Deny",      "lnk dwn up", "x",    "link down on", "user=tern",
                                    "é",         "tern.",      "k d",  "own on port"};
static const char *const apps[] = {"kernel", "sshd", "SSHD", "dhcpd", "sshd-session", "k"};
static const char *const spans[] = {"22:00-06:00", "00:00-12:00", "04:45-04:46", "09:00-17:30"};
static const char *const days[] = {"mon", "tue", "sat", "sun"};
static const char *const regexes[] = {"^link", "down$", "port [0-9]+", "a.c", "(?i)deny"};

static const char *value_for(enum field field)
{
    switch (field) {
    case HOST:
        return ONE_OF(hosts);
    case SENDER:
        return ONE_OF(addresses);
    case APP:
        return ONE_OF(apps);
    case LABEL:
        return any(2) ? "pier" : "harbour";
    default:
        return ONE_OF(words);
    }
}

static struct tree *new_tree(void)
{
    struct tree *tree = &trees[used++];
    *tree = (struct tree){0};
    return tree;
}

static struct tree *random_test(void)
{
    static const enum op text_ops[] = {IS,       IS,     IN,   CONTAINS, CONTAINS,
                                       MENTIONS, STARTS, ENDS, MATCHES,  PRESENT};
    struct tree *tree = new_tree();
    tree->field = (enum field)any(FIELDS);
    tree->field = any(3) == 0 ? TEXT : tree->field;
    tree->negated = any(5) == 0;
    switch (tree->field) {
    case FACILITY:
        tree->op = IS;
        tree->number = (int)any(3) + 19;
        return tree;
    case SEVERITY:
        tree->op = any(3) == 0 ? IS : any(2) ? AT_LEAST : AT_MOST;
        tree->number = (int)any(8);
        tree->negated &= tree->op == IS;
        return tree;
    case LAG:
        tree->op = any(2) ? AT_LEAST : AT_MOST;
        tree->number = (int)any(10);
        tree->negated = false;
        return tree;
    case TIME:
    case DAY:
        tree->op = tree->field == TIME ? WITHIN : IS;
        tree->values[tree->value_count++] = tree->field == TIME ? ONE_OF(spans) : ONE_OF(days);
        tree->negated &= tree->field == DAY;
        return tree;
    default:
        break;
    }
    tree->op = ONE_OF(text_ops);
    if (tree->field == SENDER && any(2))
        tree->op = WITHIN;
    tree->nocase = tree->field == HOST || (tree->op != PRESENT && tree->op != WITHIN && any(5) == 0);
    bool several = tree->op == IN || tree->op == WITHIN;
    int values = tree->op == PRESENT ? 0 : several ? 1 + (int)any(3) : 1;
    while (tree->value_count < values)
        tree->values[tree->value_count++] = tree->op == WITHIN    ? ONE_OF(networks)
                                            : tree->op == MATCHES ? ONE_OF(regexes)
                                                                  : value_for(tree->field);
    tree->negated &= tree->op == IS || tree->op == IN || tree->op == PRESENT;
    return tree;
}

static struct tree *random_tree(int depth, bool names)
{
    if (depth == 0 || any(4) == 0)
        return random_test();
    struct tree *tree = new_tree();
    unsigned kind = any(names ? 6 : 5);
    tree->kind = kind == 0 ? NOT : kind < 3 ? ALL : kind < 5 ? ANY : NAME;
    tree->count = tree->kind == ALL || tree->kind == ANY ? 2 + (int)any(2) : tree->kind == NOT;
    if (tree->kind == NAME)
        tree->number = (int)any(NAMES);
    for (int i = 0; i < tree->count; i++)
        tree->parts[i] = random_tree(depth - 1, names);
    return tree;
}

/* ---- The same as text ---- */

static void put(char **at, const char *text)
{
    *at += sprintf(*at, "%s", text);
}

static void put_test(char **at, const struct tree *tree)
{
    static const char *const fields[] = {"facility", "severity", "host",       "sender",
                                         "app",      "text",     "label site", "data port@32473 name",
                                         "lag",      "time",     "day"};
    static const char *const ops[] = {"is",      "in",     "contains", "mentions", "starts with", "ends with",
                                      "matches", "within", "at least", "at most",  "is present"};
    put(at, fields[tree->field]);
    put(at, tree->negated && tree->op == IN ? " not " : " ");
    if (tree->negated && tree->op == PRESENT) {
        put(at, "is absent");
        return;
    }
    put(at, ops[tree->op]);
    put(at, tree->negated && tree->op == IS ? " not" : "");
    if (tree->field <= SEVERITY || tree->field == LAG)
        *at += sprintf(*at, " %d", tree->number);
    bool list = tree->op == IN || tree->value_count > 1;
    put(at, list ? " (" : " ");
    for (int i = 0; i < tree->value_count; i++) {
        const char *quote = tree->op == WITHIN || tree->field == DAY ? "" : "\"";
        *at += sprintf(*at, "%s%s%s%s", i ? ", " : "", quote, tree->values[i], quote);
    }
    put(at, list ? ")" : "");
    put(at, tree->nocase && tree->field != HOST ? " ignoring case" : "");
}

static void put_tree(char **at, const struct tree *tree)
{
    if (tree->kind == TEST) {
        put_test(at, tree);
    } else if (tree->kind == NAME) {
        *at += sprintf(*at, "named%d", tree->number);
    } else {
        put(at, tree->kind == NOT ? "not (" : "(");
        for (int i = 0; i < tree->count; i++) {
            put(at, i == 0 ? "" : tree->kind == ALL ? " and " : " or ");
            put_tree(at, tree->parts[i]);
        }
        put(at, ")");
    }
}

/* ---- The simple evaluator ---- */

struct sample {
    struct ind_message message;
    const char *host, *sender, *app, *text, *label, *data[2];
    int data_count, lag, minute, day;
};

static int lower(int c)
{
    return c >= 'A' && c <= 'Z' ? c + 32 : c;
}

static bool same(const char *a, const char *b, size_t length, bool nocase)
{
    for (size_t i = 0; i < length; i++)
        if (nocase ? lower(a[i]) != lower(b[i]) : a[i] != b[i])
            return false;
    return true;
}

static size_t without_domain(const char *host)
{
    const char *domain = strstr(host, ".skerry.example");
    return domain ? (size_t)(domain - host) : strlen(host);
}

static bool letter(char c)
{
    return (lower(c) >= 'a' && lower(c) <= 'z') || (c >= '0' && c <= '9') || (unsigned char)c > 127;
}

static bool stands_at(const struct tree *tree, const char *value, const char *wanted, size_t at)
{
    size_t length = strlen(value), part = strlen(wanted), end = at + part;
    if (end > length || !same(value + at, wanted, part, tree->nocase))
        return false;
    if (tree->op != MENTIONS)
        return true;
    bool begins = at == 0 || !letter(value[at - 1]) || !letter(value[at]);
    return begins && (end == length || !letter(value[end]) || !letter(value[end - 1]));
}

static bool in_network(const char *address, const char *network)
{
    struct ind_address a;
    struct ind_network n;
    return ind_address_read(ind_slice_of(address), &a) &&
           ind_network_read(ind_slice_of(network), &n) == IND_NETWORK_OK && ind_network_holds(&n, &a);
}

/* The five expressions by hand. */
static bool matches(const char *value, const char *regex, bool nocase)
{
    size_t length = strlen(value);
    for (size_t i = 0; i <= length; i++) {
        const char *at = value + i;
        if (regex == regexes[0]   ? i == 0 && length >= 4 && same(at, "link", 4, nocase)
            : regex == regexes[1] ? i + 4 == length && same(at, "down", 4, nocase)
            : regex == regexes[2]
                ? i + 6 <= length && same(at, "port ", 5, nocase) && at[5] >= '0' && at[5] <= '9'
            : regex == regexes[3]
                ? i + 3 <= length && same(at, "a", 1, nocase) && at[1] != '\n' && same(at + 2, "c", 1, nocase)
                : i + 4 <= length && same(at, "deny", 4, true))
            return true;
    }
    return false;
}

static bool value_fits(const struct tree *tree, const char *value)
{
    size_t length = strlen(value);
    for (int i = 0; i < tree->value_count; i++) {
        const char *wanted = tree->values[i];
        size_t part = strlen(wanted);
        bool fits = false;
        if ((tree->op == IS || tree->op == IN) && tree->field == HOST)
            fits = without_domain(value) == without_domain(wanted) &&
                   same(value, wanted, without_domain(value), true);
        else if (tree->op == IS || tree->op == IN)
            fits = length == part && same(value, wanted, part, tree->nocase);
        else if (tree->op == STARTS)
            fits = stands_at(tree, value, wanted, 0);
        else if (tree->op == ENDS)
            fits = length >= part && stands_at(tree, value, wanted, length - part);
        else if (tree->op == WITHIN)
            fits = in_network(value, wanted);
        else if (tree->op == MATCHES)
            fits = matches(value, wanted, tree->nocase);
        else
            for (size_t at = 0; at < length; at++)
                fits |= stands_at(tree, value, wanted, at);
        if (fits)
            return true;
    }
    return tree->op == PRESENT;
}

static bool in_span(const char *span, int minute)
{
    int h1, m1, h2, m2;
    assert_int_equal(sscanf(span, "%d:%d-%d:%d", &h1, &m1, &h2, &m2), 4);
    int from = h1 * 60 + m1, to = h2 * 60 + m2;
    return from <= to ? minute >= from && minute < to : minute >= from || minute < to;
}

static bool test_holds(const struct tree *tree, const struct sample *sample)
{
    const struct ind_message *message = &sample->message;
    const char *values[2] = {NULL, NULL};
    switch (tree->field) {
    case FACILITY:
        return message->facility == tree->number;
    case SEVERITY:
        return tree->op == IS         ? message->severity == tree->number
               : tree->op == AT_LEAST ? message->severity <= tree->number
                                      : message->severity >= tree->number;
    case LAG:
        return sample->lag >= 0 &&
               (tree->op == AT_LEAST ? sample->lag >= tree->number : sample->lag <= tree->number);
    case TIME:
        return in_span(tree->values[0], sample->minute);
    case DAY:
        return strcmp(tree->values[0], days[sample->day]) == 0;
    case HOST:
        values[0] = sample->host;
        break;
    case SENDER:
        values[0] = sample->sender;
        break;
    case APP:
        values[0] = sample->app;
        break;
    case TEXT:
        values[0] = sample->text;
        break;
    case LABEL:
        values[0] = sample->label;
        break;
    default:
        values[0] = sample->data[0];
        values[1] = sample->data[1];
        break;
    }
    return (values[0] && *values[0] && value_fits(tree, values[0])) ||
           (values[1] && *values[1] && value_fits(tree, values[1]));
}

static bool tree_holds(const struct tree *tree, const struct sample *sample)
{
    switch (tree->kind) {
    case TEST:
        return test_holds(tree, sample) != tree->negated;
    case NAME:
        return tree_holds(named[tree->number], sample);
    case NOT:
        return !tree_holds(tree->parts[0], sample);
    default:
        for (int i = 0; i < tree->count; i++)
            if (tree_holds(tree->parts[i], sample) == (tree->kind == ANY))
                return tree->kind == ANY;
        return tree->kind == ALL;
    }
}

/* ---- Random messages ---- */

static struct ind_label labels[2][1] = {{{(char *)(uintptr_t) "site", (char *)(uintptr_t) "pier"}},
                                        {{(char *)(uintptr_t) "site", (char *)(uintptr_t) "harbour"}}};
static const struct ind_device devices[2] = {{.labels = labels[0], .label_count = 1},
                                             {.labels = labels[1], .label_count = 1}};

static void random_sample(struct sample *sample, char text[400], char data[400])
{
    static const char *const dates[] = {"2026-11-23", "2026-11-24", "2026-11-28", "2026-11-29"};
    struct ind_message *message = &sample->message;
    char *next = text, moment[40];
    *sample = (struct sample){.lag = -1};
    *text = '\0';
    for (unsigned i = any(5); i-- > 0;)
        next += sprintf(next, "%s%s", ONE_OF(words), any(3) ? " " : "");
    sample->text = text;
    sample->host = any(8) ? ONE_OF(hosts) : "";
    sample->sender = any(8) ? ONE_OF(addresses) : "";
    sample->app = any(8) ? ONE_OF(apps) : "";
    unsigned device = any(3);
    sample->label = device < 2 ? labels[device][0].value : "";
    sample->data_count = (int)any(3);
    next = data;
    *data = '\0';
    if (sample->data_count) {
        next += sprintf(next, "[port@32473");
        for (int i = 0; i < sample->data_count; i++) {
            sample->data[i] = ONE_OF(words);
            next += sprintf(next, " name=\"%s\"", sample->data[i]);
        }
        sprintf(next, "]");
    }
    sample->minute = (int)any(24 * 60);
    sample->day = (int)any(4);
    sprintf(moment, "%sT%02d:%02d:00Z", dates[sample->day], sample->minute / 60, sample->minute % 60);
    *message = (struct ind_message){.facility = (uint8_t)(18 + any(4)), .severity = (uint8_t)any(8)};
    message->received = message->time = at(moment);
    message->sent = IND_TIME_NONE;
    if (any(3)) {
        sample->lag = (int)any(10);
        message->sent = message->received - sample->lag * IND_SECOND;
    }
    message->host = message->device = ind_slice_of(sample->host);
    message->sender = ind_slice_of(sample->sender);
    message->app = ind_slice_of(sample->app);
    message->text = ind_slice_of(text);
    message->data = ind_slice_of(data);
    message->configured = device < 2 ? &devices[device] : NULL;
}

/* ---- Both put to the same ---- */

enum { MOST_ROUTES = 60, MESSAGES = 40, TEXT_ROOM = 1 << 14 };

struct round {
    struct ind_conditions *set;
    struct ind_route routes[MOST_ROUTES];
    struct tree *whens[MOST_ROUTES];
    unsigned count;
    ind_condition named[NAMES];
};

static enum ind_resolved resolve(void *context, size_t index, ind_condition *condition)
{
    *condition = ((struct round *)context)->named[index];
    return IND_RESOLVED;
}

static ind_condition read_tree(struct round *round, const struct tree *tree)
{
    static const char *const names[NAMES] = {"named0", "named1", "named2", "named3"};
    static char text[TEXT_ROOM];
    const struct ind_named known = {names, NAMES, resolve, round};
    struct ind_mistake mistake = {0};
    ind_condition condition;
    char *at = text;
    put_tree(&at, tree);
    if (!ind_condition_read(round->set, ind_slice_of(text), &known, &condition, &mistake))
        print_error("%s\n%s at %zu\n", text, mistake.text, mistake.offset);
    assert_false(mistake.made);
    return condition;
}

static void make_round(struct round *round)
{
    used = 0;
    round->set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    assert_non_null(round->set);
    for (int i = 0; i < NAMES; i++)
        named[i] = NULL;
    for (int i = 0; i < NAMES; i++) {
        named[i] = random_tree(2, false);
        round->named[i] = read_tree(round, named[i]);
    }
    round->count = 1 + any(MOST_ROUTES);
    for (unsigned i = 0; i < round->count; i++) {
        round->whens[i] = random_tree((int)any(4), true);
        round->routes[i] = (struct ind_route){
            .when = read_tree(round, round->whens[i]), .last = any(12) == 0, .otherwise = any(12) == 0};
    }
    assert_true(ind_conditions_compile(round->set));
}

static unsigned taken_simply(const struct round *round, const struct sample *sample, uint32_t *taken)
{
    unsigned count = 0;
    for (int otherwise = 0; otherwise < 2 && count == 0; otherwise++)
        for (unsigned i = 0; i < round->count; i++) {
            const struct ind_route *route = &round->routes[i];
            if (route->otherwise != otherwise || !tree_holds(round->whens[i], sample))
                continue;
            taken[count++] = i;
            if (route->last)
                break;
        }
    return count;
}

/* What is said to follow does follow, and what is said never to hold does not. */
static void check_claims(const struct round *round, const bool *held, size_t *claims)
{
    enum { COMPARED = 12 };
    struct ind_clash clash;
    for (unsigned i = 0; i < round->count && i < COMPARED; i++) {
        ind_condition a = round->routes[i].when;
        bool never = ind_condition_never(round->set, a, false, &clash);
        bool always = ind_condition_never(round->set, a, true, &clash);
        assert_false((never && held[i]) || (always && !held[i]));
        *claims += never + always;
        for (unsigned k = 0; k < round->count && k < COMPARED; k++) {
            ind_condition b = round->routes[k].when;
            if (k == i || !ind_condition_implies(round->set, a, b))
                continue;
            ++*claims;
            if (held[i] && !held[k])
                fail_msg("%.*s does not imply %.*s", IND_ARG(ind_condition_text(round->set, a)),
                         IND_ARG(ind_condition_text(round->set, b)));
        }
    }
}

static void no_condition_is_decided_otherwise_than_by_walking_it(void **unused)
{
    const char *wanted = getenv("IND_CASES");
    const size_t cases = wanted ? strtoul(wanted, NULL, 10) : 100000;
    static struct round round;
    struct ind_answers answers;
    struct sample sample;
    char text[400], data[400];
    uint32_t simply[MOST_ROUTES], taken[MOST_ROUTES];
    bool held_by[MOST_ROUTES];
    size_t done = 0, held = 0, claims = 0;
    (void)unused;
    while (done < cases) {
        make_round(&round);
        struct ind_router *router = ind_router_new(round.set, round.routes, round.count);
        assert_non_null(router);
        assert_true(ind_answers_begin(&answers, round.set) && ind_router_prepare(router, &answers));
        for (int m = 0; m < MESSAGES; m++) {
            random_sample(&sample, text, data);
            unsigned count = taken_simply(&round, &sample, simply);
            ind_answers_next(&answers);
            assert_int_equal(ind_router_decide(router, &sample.message, &answers, taken), count);
            for (unsigned i = 0; i < count; i++)
                assert_int_equal(taken[i], simply[i]);
            for (unsigned i = 0; i < round.count; i++) {
                bool holds = tree_holds(round.whens[i], &sample);
                held += holds;
                held_by[i] = holds;
                if (ind_condition_holds(round.set, round.routes[i].when, &sample.message, &answers) != holds)
                    fail_msg("%.*s: %d on \"%s\" from %s",
                             IND_ARG(ind_condition_text(round.set, round.routes[i].when)), !holds, text,
                             sample.sender);
                done++;
            }
            check_claims(&round, held_by, &claims);
        }
        ind_answers_free(&answers);
        ind_router_free(router);
        ind_conditions_free(round.set);
    }
    assert_true(held > done / 10 && held < done && claims > done / 100); /* it is not about nothing */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(no_condition_is_decided_otherwise_than_by_walking_it)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
