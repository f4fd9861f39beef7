#include "core/route.h"

#include <stdlib.h>

/* A route that may take messages of one PRI; `sure`: it takes them all. */
struct candidate {
    uint32_t route;
    bool sure;
};

struct ind_router {
    const struct ind_conditions *set;
    const struct ind_route *routes;
    size_t count;
    bool sure[IND_PRIS];        /* all candidates of the PRI take all its messages: nothing is to be asked */
    size_t start[IND_PRIS + 1]; /* candidates of PRI p: from start[p], before start[p + 1] */
    struct candidate *candidates;
};

static size_t add_candidates(struct ind_router *router, unsigned pri, size_t next)
{
    for (size_t i = 0; i < router->count; i++) {
        enum ind_verdict verdict =
            ind_condition_by_pri(router->set, router->routes[i].when, pri / 8, pri % 8);
        if (verdict == IND_NO)
            continue;
        router->candidates[next++] = (struct candidate){(uint32_t)i, verdict == IND_YES};
        if (verdict == IND_YES && router->routes[i].last)
            break;
    }
    return next;
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
    router->candidates = malloc((count ? count : 1) * IND_PRIS * sizeof *router->candidates);
    if (!router->candidates) {
        free(router);
        return NULL;
    }
    for (unsigned pri = 0; pri < IND_PRIS; pri++) {
        router->start[pri + 1] = add_candidates(router, pri, router->start[pri]);
        router->sure[pri] = true;
        for (size_t i = router->start[pri]; i < router->start[pri + 1]; i++)
            router->sure[pri] &= router->candidates[i].sure;
    }
    return router;
}

void ind_router_free(struct ind_router *router)
{
    if (!router)
        return;
    free(router->candidates);
    free(router);
}

size_t ind_router_decide(const struct ind_router *router, const struct ind_message *message,
                         struct ind_answers *answers, uint32_t *taken)
{
    unsigned pri = message->facility * 8u + message->severity;
    size_t count = 0;
    ind_answers_next(answers);
    for (size_t i = router->start[pri]; i < router->start[pri + 1]; i++) {
        const struct candidate *candidate = &router->candidates[i];
        const struct ind_route *route = &router->routes[candidate->route];
        if (!candidate->sure && !ind_condition_holds(router->set, route->when, message, answers))
            continue;
        taken[count++] = candidate->route;
        if (route->last)
            break;
    }
    return count;
}

static bool possible(const struct ind_router *router, size_t route, unsigned pri)
{
    return ind_condition_by_pri(router->set, router->routes[route].when, pri / 8, pri % 8) != IND_NO;
}

bool ind_router_unreachable(const struct ind_router *router, size_t route, size_t *above)
{
    bool ever = false;
    *above = route;
    for (unsigned pri = 0; pri < IND_PRIS; pri++) {
        if (!possible(router, route, pri))
            continue;
        ever = true;
        for (size_t i = router->start[pri]; i < router->start[pri + 1]; i++)
            if (router->candidates[i].route == route)
                return false;
        *above = router->candidates[router->start[pri + 1] - 1].route;
    }
    if (!ever)
        *above = route;
    return true;
}
