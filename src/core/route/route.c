#include "core/route/route.h"

#include "core/base/word.h"
#include "core/condition/cover.h"
#include <stdlib.h>

/* Tests that a route waits for; with more it is asked always. */
enum { MOST_COVER = 1024 };

/* A route that may take messages of one PRI whatever they hold; `sure`: it takes them all. */
struct candidate {
    uint32_t route;
    bool sure;
};

struct ind_router {
    const struct ind_conditions *set;
    const struct ind_route *routes;
    size_t count, words; /* of a bit for each route */
    /* By PRI: candidates from start[p], before start[p + 1]; indexes to be looked at likewise; and the first
     * route that its messages never come to. */
    size_t start[IND_PRIS + 1], look_start[IND_PRIS + 1], end[IND_PRIS];
    struct candidate *candidates;
    bool only[IND_PRIS]; /* the first candidate takes every message, and there is nothing else to ask */
    uint32_t *looks;
    /* Routes that wait for a test: from driven_start[t], before driven_start[t + 1]. */
    uint32_t *driven_start, *driven;
    bool *waits; /* by route: it waits for tests */
    uint32_t *otherwise;
    size_t otherwise_count;
};

static enum ind_verdict verdict_of(const struct ind_router *router, size_t route, unsigned pri)
{
    return ind_condition_by_pri(router->set, router->routes[route].when, pri / 8, pri % 8);
}

/* ---- Making ---- */

static size_t add_candidates(struct ind_router *router, unsigned pri, size_t next)
{
    router->end[pri] = router->count;
    for (size_t i = 0; i < router->end[pri]; i++) {
        enum ind_verdict verdict = router->routes[i].otherwise ? IND_NO : verdict_of(router, i, pri);
        if (verdict == IND_NO || (verdict == IND_OPEN && router->waits[i]))
            continue;
        router->candidates[next++] = (struct candidate){(uint32_t)i, verdict == IND_YES};
        if (verdict == IND_YES && router->routes[i].last)
            router->end[pri] = i + 1;
    }
    return next;
}

/* First how many candidates there are, then they. */
static bool make_candidates(struct ind_router *router)
{
    size_t room = 0;
    for (unsigned pri = 0; pri < IND_PRIS; pri++)
        for (size_t i = 0; i < router->count; i++) {
            enum ind_verdict verdict = verdict_of(router, i, pri);
            room += verdict == IND_YES || (verdict == IND_OPEN && !router->waits[i]);
        }
    router->candidates = malloc((room + 1) * sizeof *router->candidates);
    for (unsigned pri = 0; router->candidates && pri < IND_PRIS; pri++)
        router->start[pri + 1] = add_candidates(router, pri, router->start[pri]);
    return router->candidates != NULL;
}

struct pair {
    uint32_t test, route;
};

static int by_test(const void *a, const void *b)
{
    const struct pair *x = a, *y = b;
    return x->test != y->test ? (x->test > y->test) - (x->test < y->test)
                              : (x->route > y->route) - (x->route < y->route);
}

/* For each route the tests that it waits for; then the other way round. */
static bool make_waits(struct ind_router *router)
{
    uint32_t cover[MOST_COVER];
    struct pair *pairs = NULL;
    size_t count = 0, room = 0, tests = ind_conditions_tests(router->set);
    for (size_t i = 0; i < router->count; i++) {
        size_t found = router->routes[i].otherwise
                           ? 0
                           : ind_condition_cover(router->set, router->routes[i].when, cover, MOST_COVER);
        router->waits[i] = found > 0;
        if (count + found > room) {
            struct pair *grown = realloc(pairs, (room = (count + found) * 2) * sizeof *grown);
            if (!grown) {
                free(pairs);
                return false;
            }
            pairs = grown;
        }
        for (size_t k = 0; k < found; k++)
            pairs[count++] = (struct pair){cover[k], (uint32_t)i};
    }
    if (pairs)
        qsort(pairs, count, sizeof *pairs, by_test);
    router->driven = calloc(count + 1, sizeof *router->driven);
    router->driven_start = calloc(tests + 2, sizeof *router->driven_start);
    bool good = router->driven && router->driven_start;
    for (size_t i = 0; good && i < count; i++) {
        router->driven[i] = pairs[i].route;
        router->driven_start[pairs[i].test + 1]++;
    }
    for (size_t i = 0; good && i <= tests; i++)
        router->driven_start[i + 1] += router->driven_start[i];
    free(pairs);
    return good;
}

/* The indexes in which tests stand that some route of the PRI waits for. */
static size_t add_looks(struct ind_router *router, unsigned pri, bool *wanted, size_t next)
{
    const struct ind_conditions *set = router->set;
    const size_t indexes = ind_conditions_indexes(set), tests = ind_conditions_tests(set);
    memset(wanted, 0, indexes * sizeof *wanted);
    for (uint32_t test = 0; test < tests; test++)
        for (uint32_t i = router->driven_start[test]; i < router->driven_start[test + 1]; i++)
            if (router->driven[i] < router->end[pri] &&
                verdict_of(router, router->driven[i], pri) == IND_OPEN)
                wanted[ind_test_index(set, test)] = true;
    for (uint32_t i = 0; i < indexes; i++)
        if (wanted[i])
            router->looks[next++] = i;
    return next;
}

static bool has_only_one(const struct ind_router *router, unsigned pri)
{
    return router->look_start[pri] == router->look_start[pri + 1] &&
           router->start[pri] + 1 == router->start[pri + 1] && router->candidates[router->start[pri]].sure;
}

static bool make_looks(struct ind_router *router)
{
    size_t indexes = ind_conditions_indexes(router->set);
    bool *wanted = calloc(indexes + 1, sizeof *wanted);
    router->looks = malloc((indexes * IND_PRIS + 1) * sizeof *router->looks);
    for (unsigned pri = 0; wanted && router->looks && pri < IND_PRIS; pri++) {
        router->look_start[pri + 1] = add_looks(router, pri, wanted, router->look_start[pri]);
        router->only[pri] = has_only_one(router, pri);
    }
    free(wanted);
    return wanted && router->looks;
}

struct ind_router *ind_router_new(const struct ind_conditions *set, const struct ind_route *routes,
                                  size_t count)
{
    struct ind_router *router = calloc(1, sizeof *router);
    if (!router)
        return NULL;
    router->set = set;
    router->routes = routes;
    router->count = count;
    router->words = count / 64 + 1;
    router->waits = calloc(count + 1, sizeof *router->waits);
    router->otherwise = calloc(count + 1, sizeof *router->otherwise);
    bool good = router->waits && router->otherwise && make_waits(router) && make_candidates(router) &&
                make_looks(router);
    for (size_t i = 0; good && i < count; i++)
        if (routes[i].otherwise)
            router->otherwise[router->otherwise_count++] = (uint32_t)i;
    if (good)
        return router;
    ind_router_free(router);
    return NULL;
}

void ind_router_free(struct ind_router *router)
{
    if (!router)
        return;
    free(router->candidates);
    free(router->looks);
    free(router->driven);
    free(router->driven_start);
    free(router->waits);
    free(router->otherwise);
    free(router);
}

/* ---- Deciding ---- */

/* A bit for each route, and above them one for each word of those. */
static size_t mark_words(const struct ind_router *router)
{
    return router->words + router->words / 64 + 1;
}

bool ind_router_prepare(const struct ind_router *router, struct ind_answers *answers)
{
    size_t words = mark_words(router);
    if (words <= answers->mark_words)
        return true;
    free(answers->marks);
    answers->marks = calloc(words, sizeof *answers->marks);
    answers->mark_words = answers->marks ? words : 0;
    return answers->marks != NULL;
}

/* Marks the routes that waited for what the message has. */
static void mark_driven(const struct ind_router *router, unsigned pri, const struct ind_message *message,
                        struct ind_answers *answers)
{
    uint64_t *marks = answers->marks, *above = marks + router->words;
    for (size_t i = router->look_start[pri]; i < router->look_start[pri + 1]; i++)
        if (answers->looked[router->looks[i]] != answers->round)
            ind_index_look(router->set, router->looks[i], message, answers);
    for (size_t h = 0; h < answers->hit_count; h++) {
        uint32_t test = answers->hits[h];
        for (uint32_t i = router->driven_start[test]; i < router->driven_start[test + 1]; i++) {
            uint32_t route = router->driven[i];
            if (route >= router->end[pri])
                break; /* they stand in the order of the routes */
            marks[route / 64] |= UINT64_C(1) << route % 64;
            above[route / 4096] |= UINT64_C(1) << route / 64 % 64;
        }
    }
}

/* The first marked route, which is then no more marked; `count`: none is left. */
static size_t next_mark(const struct ind_router *router, uint64_t *marks, size_t *from)
{
    uint64_t *above = marks + router->words;
    for (; *from <= router->words / 64; ++*from)
        if (above[*from]) {
            size_t word = *from * 64 + ind_lowest_bit(above[*from]);
            size_t route = word * 64 + ind_lowest_bit(marks[word]);
            marks[word] &= marks[word] - 1;
            if (!marks[word])
                above[*from] &= above[*from] - 1;
            return route;
        }
    return router->count;
}

static size_t decide_otherwise(const struct ind_router *router, const struct ind_message *message,
                               struct ind_answers *answers, uint32_t *taken)
{
    size_t count = 0;
    for (size_t i = 0; i < router->otherwise_count; i++) {
        const struct ind_route *route = &router->routes[router->otherwise[i]];
        if (!ind_condition_holds(router->set, route->when, message, answers))
            continue;
        taken[count++] = router->otherwise[i];
        if (route->last)
            break;
    }
    return count;
}

size_t ind_router_decide(const struct ind_router *router, const struct ind_message *message,
                         struct ind_answers *answers, uint32_t *taken)
{
    const unsigned pri = message->facility * 8u + message->severity;
    if (router->only[pri]) {
        taken[0] = router->candidates[router->start[pri]].route;
        return 1;
    }
    const size_t last_candidate = router->start[pri + 1];
    size_t count = 0, from = 0, next = router->start[pri], marked = router->count;
    bool driven = router->look_start[pri] < router->look_start[pri + 1];
    if (driven) {
        mark_driven(router, pri, message, answers);
        marked = next_mark(router, answers->marks, &from);
    }
    for (;;) {
        size_t listed = next < last_candidate ? router->candidates[next].route : router->count;
        size_t route = listed < marked ? listed : marked;
        if (route == router->count)
            break;
        bool sure = listed == route && router->candidates[next].sure;
        next += listed == route;
        if (marked == route)
            marked = next_mark(router, answers->marks, &from);
        if (!sure && !ind_condition_holds(router->set, router->routes[route].when, message, answers))
            continue;
        taken[count++] = (uint32_t)route;
        if (router->routes[route].last)
            break;
    }
    while (marked < router->count)
        marked = next_mark(router, answers->marks, &from);
    return count ? count : decide_otherwise(router, message, answers, taken);
}

bool ind_router_unreachable(const struct ind_router *router, size_t route, size_t *above)
{
    bool ever = false;
    *above = route;
    for (unsigned pri = 0; pri < IND_PRIS; pri++) {
        if (verdict_of(router, route, pri) == IND_NO)
            continue;
        ever = true;
        if (route < router->end[pri])
            return false;
        *above = router->end[pri] - 1;
    }
    if (!ever)
        *above = route;
    return true;
}
