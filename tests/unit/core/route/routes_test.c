/* Routes in their order. */
#include "support/condition.h"
#include "support/message.h"
#include "support/support.h"

#include "core/route/route.h"

static struct ind_conditions *set;
static struct ind_answers answers;

static ind_condition read(const char *text)
{
    return ind_condition_of(set, text);
}

static void routes_stop_at_last(void **state)
{
    struct ind_route routes[3] = {{.when = read("severity at least error"), .last = true},
                                  {.when = read("text contains \"down\"")},
                                  {.when = IND_CONDITION_ALWAYS}};
    struct ind_router *router = ind_router_new(set, routes, 3);
    struct ind_message message = ind_example_message();
    uint32_t taken[3];
    size_t above;
    (void)state;
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set));
    assert_true(ind_router_prepare(router, &answers));
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 2);
    assert_int_equal(taken[0], 1);
    assert_int_equal(taken[1], 2);
    message.severity = 3;
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 1);
    assert_int_equal(taken[0], 0);
    assert_false(ind_router_unreachable(router, 1, &above));
    ind_router_free(router);
    routes[0].when = IND_CONDITION_ALWAYS;
    router = ind_router_new(set, routes, 3);
    assert_true(ind_router_unreachable(router, 2, &above));
    assert_int_equal(above, 0);
    ind_router_free(router);
}

/* Each name is used twice by the next: going through them wherever they are used would never end. */
static enum ind_resolved doubled(void *context, size_t index, ind_condition *condition)
{
    *condition = ((const ind_condition *)context)[index];
    return IND_RESOLVED;
}

static void names_that_use_names_are_asked_once(void **state)
{
    enum { NAMES = 50 };
    static char texts[NAMES][8];
    const char *names[NAMES];
    ind_condition conditions[NAMES];
    struct ind_mistake mistake = {0};
    struct ind_message message = ind_example_message();
    struct ind_reason reasons[8];
    struct ind_slice literals[8];
    char text[64];
    (void)state;
    conditions[0] = read("text contains \"nowhere\"");
    for (size_t i = 0; i < NAMES; i++) {
        const struct ind_named named = {names, i, doubled, conditions};
        snprintf(texts[i], sizeof texts[i], "n%zu", i);
        names[i] = texts[i];
        if (i == 0)
            continue;
        snprintf(text, sizeof text, "n%zu or not n%zu and n%zu", i - 1, i - 1, i - 1);
        assert_true(ind_condition_read(set, ind_slice_of(text), &named, &conditions[i], &mistake));
    }
    ind_condition last = conditions[NAMES - 1];
    struct ind_route route = {.when = last};
    uint32_t taken[1];
    assert_true(ind_conditions_compile(set));
    struct ind_router *router = ind_router_new(set, &route, 1);
    ind_answers_free(&answers);
    assert_true(ind_answers_begin(&answers, set) && ind_router_prepare(router, &answers));
    ind_answers_next(&answers);
    assert_int_equal(ind_router_decide(router, &message, &answers, taken), 0);
    assert_int_equal(ind_condition_why(set, last, &message, &answers, reasons, 8), 8);
    (void)ind_condition_literals(set, last, literals, 8);
    (void)ind_condition_warn(set, last, true, &mistake);
    ind_router_free(router);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(routes_stop_at_last),
        cmocka_unit_test(names_that_use_names_are_asked_once),
    };
    set = ind_conditions_new(IND_SLICE("skerry.example"), NULL, NULL);
    int failed = cmocka_run_group_tests(tests, NULL, NULL);
    ind_answers_free(&answers);
    ind_conditions_free(set);
    return failed;
}
