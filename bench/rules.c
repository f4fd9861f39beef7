/* bench/rules.c: what it costs to decide which routes take a message, with 10 to 10,000 routes of mixed
 * conditions, and with one and fifty literals. All sizes run in turn. Prints: row, ns a message, ns with the
 * set it is compared with, ratio, routes that took a message on average. Usage: bench_rules [SECONDS [ROW]]
 */
#include "measure.h"

#include "core/route/route.h"

#include <stdio.h>
#include <stdlib.h>

enum { MESSAGES = 500, TEXT = 200 };

struct sample {
    struct ind_message message;
    char host[24], sender[20], text[TEXT];
};

struct setting {
    const char *name;
    unsigned routes, base; /* base: the set it is compared with */
    bool compiled;
    struct ind_conditions *set;
    struct ind_route *list;
    struct ind_router *router;
    struct ind_answers answers;
    uint32_t *taken;
    double best;
    unsigned long took;
};

static struct sample *samples;
static const char *const nouns[] = {"port", "session", "tunnel", "lease", "station", "login", "route"};
static const char *const verbs[] = {"down",       "withdrawn", "expired", "denied",
                                    "associated", "failed",    "added"};

static void make_samples(void)
{
    samples = calloc(MESSAGES, sizeof *samples);
    for (unsigned i = 0; i < MESSAGES; i++) {
        struct sample *sample = &samples[i];
        unsigned k = i * 7919u;
        snprintf(sample->host, sizeof sample->host, "pier%u-sw%u", k / 8 % 997, k % 8);
        snprintf(sample->sender, sizeof sample->sender, "10.%u.%u.%u", k / 3 % 40, k / 5 % 256, k % 250 + 1);
        snprintf(sample->text, sizeof sample->text,
                 "%s ge%u/%u %s after %u s, peer 203.0.113.%u, vlan %u, reason code %u, seen %u times",
                 nouns[k % 8], k % 4, k % 48, verbs[k / 8 % 8], k % 3600, k % 250, k % 4000, k % 12000,
                 k % 77);
        sample->message = (struct ind_message){.facility = (uint8_t)(k % 24),
                                               .severity = (uint8_t)(k / 24 % 8),
                                               .host = ind_slice_of(sample->host),
                                               .device = ind_slice_of(sample->host),
                                               .sender = ind_slice_of(sample->sender),
                                               .app = IND_SLICE("kernel"),
                                               .text = ind_slice_of(sample->text),
                                               .original = ind_slice_of(sample->text)};
    }
}

/* Five kinds in turn: PRI (then, all of them used, with an app), host equality, host prefix, literal,
 * network. */
static void mixed(unsigned i, char *text, size_t room)
{
    unsigned k = i / 5, pri = k * 37 % IND_PRIS;
    switch (i % 5) {
    case 0:
        snprintf(text, room, "facility is %u and severity is %u%s", pri / 8, pri % 8,
                 k < IND_PRIS ? "" : " and app is \"bgpd\"");
        break;
    case 1:
        snprintf(text, room, "severity at least info and host is \"pier%u-sw%u\"", k, k % 8);
        break;
    case 2:
        snprintf(text, room, "host starts with \"pier%u-\" and not facility is local7", k * 3 % 2000);
        break;
    case 3:
        snprintf(text, room, "facility in (kern, daemon, local4) and text contains \"reason code %u,\"",
                 k * 5);
        break;
    default:
        snprintf(text, room, "sender within 10.%u.%u.0/24 or sender within 192.0.2.%u/32", k % 40,
                 k / 40 * 3 % 256, k % 256);
        break;
    }
}

static void literals(unsigned i, char *text, size_t room)
{
    static const char *const what[] = {"power supply", "duplicate address", "spanning tree", "loop seen"};
    snprintf(text, room, "text contains \"%s %u\"", what[i % 5], i / 5);
}

static void set_up(struct setting *setting, void (*condition)(unsigned, char *, size_t))
{
    char text[200];
    struct ind_mistake mistake = {0};
    setting->set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    setting->list = calloc(setting->routes, sizeof *setting->list);
    setting->taken = calloc(setting->routes, sizeof *setting->taken);
    for (unsigned i = 0; i < setting->routes; i++) {
        condition(i, text, sizeof text);
        if (!ind_condition_read(setting->set, ind_slice_of(text), NULL, &setting->list[i].when, &mistake)) {
            fprintf(stderr, "%s: %s\n", text, mistake.text);
            exit(1);
        }
    }
    if (setting->compiled && !ind_conditions_compile(setting->set))
        exit(1);
    setting->router = ind_router_new(setting->set, setting->list, setting->routes);
    if (!setting->router || !ind_answers_begin(&setting->answers, setting->set) ||
        !ind_router_prepare(setting->router, &setting->answers))
        exit(1);
}

static void measure(struct setting *setting)
{
    unsigned long took = 0, done = 0;
    double start = now(), end;
    do {
        for (unsigned i = 0; i < MESSAGES; i++) {
            ind_answers_next(&setting->answers);
            took +=
                ind_router_decide(setting->router, &samples[i].message, &setting->answers, setting->taken);
        }
        done += MESSAGES;
        end = now();
    } while (end - start < 0.05);
    double each = (end - start) / (double)done * 1e9;
    setting->best = setting->best > 0 && setting->best < each ? setting->best : each;
    setting->took = took * 1000 / done;
}

int main(int argc, char **argv)
{
    double time = argc > 1 ? strtod(argv[1], NULL) : 4;
    struct setting settings[] = {
        {"10 routes", 10, 0, true, .best = 0},
        {"100 routes", 100, 0, true, .best = 0},
        {"1,000 routes", 1000, 0, true, .best = 0},
        {"10,000 routes", 10000, 0, true, .best = 0},
        {"1,000 routes", 1000, 5, true, .best = 0},
        {"1,000 routes, one after the other", 1000, 5, false, .best = 0},
        {"1 literal", 1, 6, true, .best = 0},
        {"50 literals", 50, 6, true, .best = 0},
        {"1,000 literals", 1000, 6, true, .best = 0},
    };
    const size_t count = sizeof settings / sizeof *settings;
    make_samples();
    for (size_t i = 0; i < count; i++)
        set_up(&settings[i], settings[i].base == 6 ? literals : mixed);
    for (double end = now() + time * (double)count; now() < end;)
        for (size_t i = 0; i < count; i++)
            if (argc < 3 || strcmp(argv[2], settings[i].name) == 0)
                measure(&settings[i]);
    for (size_t i = 0; i < count; i++)
        printf("%s\t%.1f\t%.1f\t%.2f\t%.3f\n", settings[i].name, settings[i].best,
               settings[settings[i].base].best, settings[i].best / settings[settings[i].base].best,
               (double)settings[i].took / 1000);
    for (size_t i = 0; i < count; i++) {
        ind_router_free(settings[i].router);
        ind_answers_free(&settings[i].answers);
        ind_conditions_free(settings[i].set);
        free(settings[i].list);
        free(settings[i].taken);
    }
    free(samples);
    return 0;
}
