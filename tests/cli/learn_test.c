/* The built program proposes patterns: those of known layouts, which can be included as they are. */
#include "support/live.h"
#include "support/random.h"

enum { LAYOUTS = 200, MESSAGES = 60000, PARTS = 11 };

static const char *const words[] = {
    "link",    "port",   "session", "neighbour", "route",   "table",   "queue",   "packet",  "buffer",
    "memory",  "fan",    "power",   "supply",    "sensor",  "module",  "slot",    "card",    "license",
    "feature", "policy", "rule",    "zone",      "tunnel",  "peer",    "group",   "vlan",    "bridge",
    "tree",    "root",   "cost",    "hello",     "retry",   "limit",   "rate",    "burst",   "map",
    "list",    "cache",  "lookup",  "update",    "lease",   "pool",    "scope",   "gateway", "channel",
    "radio",   "client", "station", "roam",      "beacon",  "added",   "removed", "changed", "started",
    "stopped", "failed", "expired", "refused",   "dropped", "blocked", "learned", "flushed", "synced",
    "lost",    "found",  "reset",   "detected",  "reached", "ignored", "restored"};
enum { WORDS = sizeof words / sizeof *words };
static const char *const people[] = {"tern",   "auk",   "gull", "skua", "puffin",
                                     "gannet", "bosun", "mate", "cook", "pilot"};
static const char *const types[] = {"ip", "int", "mac", "interface", "duration", "word", "decimal", "quoted"};

struct known {
    char app;
    unsigned count;
    int parts[PARTS]; /* of `words`; below 0: -1 - type */
    unsigned messages;
};

static struct known layouts[LAYOUTS];
static uint64_t numbers = IND_RANDOM_START;

static unsigned draw(unsigned below)
{
    return ind_random(&numbers, below);
}

static void make_layouts(void)
{
    for (size_t i = 0; i < LAYOUTS; i++) {
        struct known *known = &layouts[i];
        unsigned literals = 0;
        do {
            literals = 0;
            known->app = (char)('a' + draw(10));
            known->count = 4 + draw(PARTS - 3);
            for (unsigned k = 0; k < known->count; k++) {
                const bool literal = k == 0 || known->parts[k - 1] < 0 || draw(100) < 60;
                known->parts[k] = literal ? (int)draw(WORDS) : -1 - (int)draw(8);
                literals += literal;
            }
        } while (literals < 3);
    }
}

static void write_value(FILE *file, int type)
{
    switch (type) {
    case 0:
        fprintf(file, "192.0.2.%u", draw(256));
        break;
    case 1:
        fprintf(file, "%u", draw(70000));
        break;
    case 2:
        fprintf(file, "02:00:5e:%02x:%02x:%02x", draw(256), draw(256), draw(256));
        break;
    case 3:
        fprintf(file, "ge0/%u", draw(48));
        break;
    case 4:
        fprintf(file, "%u ms", draw(900));
        break;
    case 5:
        fprintf(file, "%s", people[draw(10)]);
        break;
    case 6:
        fprintf(file, "0.%03u", draw(1000));
        break;
    default:
        fprintf(file, "\"%s net\"", people[draw(10)]);
    }
}

/* One message in twenty has no order; a layout has as many as it is frequent, and five at least. */
static void write_messages(void)
{
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    for (unsigned i = 0; i < MESSAGES; i++) {
        const bool noise = draw(20) == 0;
        size_t which = i < 5 * LAYOUTS ? i % LAYOUTS : draw(LAYOUTS) * draw(LAYOUTS) / LAYOUTS;
        const struct known *known = &layouts[which];
        fprintf(file, "<38>1 - pier1-rtr app-%c - - - ",
                noise && i >= 5 * LAYOUTS ? 'a' + (int)draw(10) : known->app);
        if (noise && i >= 5 * LAYOUTS) {
            for (unsigned k = 3 + draw(7); k > 0; k--)
                fprintf(file, "%s ", words[draw(WORDS)]);
        } else {
            layouts[which].messages++;
            for (unsigned k = 0; k < known->count; k++) {
                fprintf(file, k ? " " : "");
                if (known->parts[k] < 0)
                    write_value(file, -1 - known->parts[k]);
                else
                    fprintf(file, "%s", words[known->parts[k]]);
            }
        }
        fprintf(file, "\n");
    }
    fclose(file);
}

/* Whether the layout that was proposed is that one: its words, and a field of its type at each other place.
 */
static bool is_layout(const char *layout, const struct known *known)
{
    for (unsigned k = 0; k < known->count; k++) {
        size_t length = 0;
        if (k > 0 && *layout++ != ' ')
            return false;
        if (known->parts[k] >= 0) {
            length = strlen(words[known->parts[k]]);
            if (strncmp(layout, words[known->parts[k]], length) != 0)
                return false;
        } else {
            const char *end = strchr(layout, '}'), *colon = strchr(layout, ':');
            const char *type = types[-1 - known->parts[k]];
            if (*layout != '{' || !end || !colon || strncmp(colon + 1, type, strlen(type)) != 0)
                return false;
            length = (size_t)(end - layout) + 1;
        }
        layout += length;
    }
    return *layout == '\0';
}

static json_t *learn(const char *arguments)
{
    struct ind_ran ran = ind_shell(folder, "%s learn --json %s", IND_PROGRAM, arguments);
    json_error_t error;
    json_t *object = json_loads(ran.out, 0, &error);
    if (!object)
        print_error("%s%s", ran.out, ran.err);
    assert_non_null(object);
    ind_ran_free(&ran);
    return object;
}

static void configure(const char *rest)
{
    char config[3000];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten: [{udp: \"127.0.0.1:0\"}]\n"
             "routes: [{name: all, file: all.log}]\n%s",
             rest);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

static void known_layouts_are_found_again(void **state)
{
    unsigned long all = 0, right = 0;
    const json_t *pattern, *layout;
    size_t i, k;
    (void)state;
    configure("");
    make_layouts();
    write_messages();
    json_t *object = learn("messages.log");
    json_array_foreach(json_object_get(object, "patterns"), i, pattern)
    {
        json_array_foreach(json_object_get(pattern, "layouts"), k, layout)
        {
            const char *text = json_string_value(json_object_get(layout, "layout"));
            const char *app = json_string_value(json_object_get(pattern, "app"));
            for (size_t n = 0; n < LAYOUTS; n++)
                if (app[4] == layouts[n].app && is_layout(text, &layouts[n])) {
                    right += layouts[n].messages;
                    break;
                }
        }
    }
    for (size_t n = 0; n < LAYOUTS; n++)
        all += layouts[n].messages;
    json_decref(object);
    if (right * 100 < all * 95)
        fail_msg("%lu of %lu", right, all);

    /* In another order the same; included, nothing overlaps, and nothing is proposed any more. */
    struct ind_ran ran =
        ind_shell(folder,
                  "%s learn messages.log >a && tac messages.log >other.log && %s learn other.log >b && "
                  "cmp a b && cp a learned.yaml && echo 'include: [learned.yaml]' >>indagator.yaml && "
                  "%s check && %s learn messages.log",
                  IND_PROGRAM, IND_PROGRAM, IND_PROGRAM, IND_PROGRAM);
    if (ran.status != 1)
        print_error("%s%s", ran.out, ran.err);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "no mistakes"));
    assert_non_null(strstr(ran.out, "# nothing is proposed"));
    assert_null(strstr(ran.err, "warning"));
    ind_ran_free(&ran);
}

/* The same from the store, live and by a span of time; what masks hide is in no example. */
static void what_the_store_holds_is_learned(void **state)
{
    (void)state;
    configure("edits: [{name: phones, mask: phone}]\npatterns: [{name: known, text: \"door {door:int} "
              "opened\"}]\n");
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    for (int i = 0; i < 30; i++) {
        fprintf(
            file,
            "<38>1 2026-11-23T04:45:%02dZ pier1-rtr calld - - - call of deck %d to +1 202 555 01%02d ended\n",
            i, i, 10 + i);
        fprintf(file, "<38>1 2026-11-23T04:45:%02dZ pier1-rtr doord - - - door %d opened\n", i, i);
    }
    fclose(file);
    for (int raw = 0; raw < 2; raw++) {
        if (!raw) {
            struct ind_ran ran = ind_shell(folder, "%s collect --from messages.log", IND_PROGRAM);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        }
        json_t *object = learn(raw ? "messages.log" : "--since 2026-11-23");
        char *text = json_dumps(object, 0);
        assert_int_equal(json_integer_value(json_object_get(object, "messages")), 60);
        assert_int_equal(json_integer_value(json_object_get(object, "fit")), 30);
        assert_int_equal(json_array_size(json_object_get(object, "patterns")), 1);
        assert_non_null(strstr(text, "call of deck {deck:int} to "));
        assert_null(strstr(text, "555"));
        free(text);
        json_decref(object);
    }
    json_t *object = learn("--when 'app is \"doord\"' messages.log");
    assert_int_equal(json_array_size(json_object_get(object, "patterns")), 0);
    json_decref(object);
}

static void an_own_pattern_is_looked_at(void **state)
{
    (void)state;
    configure("patterns:\n  - {name: doors, text: \"door {door:int} opened\"}\n"
              "  - {name: lights, text: \"light {light:int} is on\"}\n");
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    for (int i = 0; i < 10; i++)
        fprintf(
            file,
            "<38>1 - h a - - - door %d opened\n<38>1 - h a - - - light %d is on\n<38>1 - h a - - - else\n", i,
            i);
    fclose(file);
    json_t *object = learn("--check lights messages.log");
    assert_int_equal(json_integer_value(json_object_get(object, "messages")), 30);
    assert_int_equal(json_integer_value(json_object_get(object, "fit")), 10);
    assert_int_equal(json_integer_value(json_object_get(object, "newly_fit")), 10);
    json_decref(object);
    struct ind_ran ran = ind_run(folder, "learn", "--check", "lihgts", "messages.log", NULL);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "did you mean \"lights\"?"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "learn", "nothing.log", NULL);
    assert_int_equal(ran.status, 2);
    ind_ran_free(&ran);
}

/* Who only has texts without order is told so. */
static void nothing_is_made_of_nothing(void **state)
{
    uint64_t random = IND_RANDOM_START;
    (void)state;
    configure("");
    FILE *file = fopen(ind_path(folder, "messages.log"), "w");
    assert_non_null(file);
    for (int i = 0; i < 3000; i++) {
        fprintf(file, "<38>1 - h a - - - ");
        for (unsigned k = i % 100 ? ind_random(&random, 90) : 60000; k > 0; k--)
            fputc("abcdefghijklmnopqrstuvwxyz0123456789+/= "[ind_random(&random, 40)], file);
        fprintf(file, "\n");
    }
    fclose(file);
    struct ind_ran ran = ind_run(folder, "learn", "messages.log", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "have no order"));
    assert_non_null(strstr(ran.out, "# nothing is proposed"));
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(known_layouts_are_found_again, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_the_store_holds_is_learned, set_up, tear_down),
        cmocka_unit_test_setup_teardown(an_own_pattern_is_looked_at, set_up, tear_down),
        cmocka_unit_test_setup_teardown(nothing_is_made_of_nothing, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
