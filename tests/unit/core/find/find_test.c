/* Finding one literal. */
#include "support/support.h"

#include "core/find/find.h"

static void finding_agrees_with_a_simple_search(void **state)
{
    char text[600];
    unsigned seed = 1;
    (void)state;
    for (int round = 0; round < 4000; round++) {
        for (size_t i = 0; i < sizeof text; i++) {
            seed = seed * 1103515245u + 12345u;
            text[i] = (char)("ab c"[(seed >> 16) & 3]);
        }
        size_t length = 1 + (seed >> 8) % 7, start = (seed >> 4) % 500, size = 100 + (seed >> 12) % 500;
        char literal[8];
        memcpy(literal, text + start, length);
        struct ind_finder finder = ind_finder_for((struct ind_slice){literal, length});
        const char *expected = NULL;
        for (size_t i = 0; i + length <= size && !expected; i++)
            if (memcmp(text + i, literal, length) == 0)
                expected = text + i;
        assert_ptr_equal(ind_find(&finder, text, size), expected);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(finding_agrees_with_a_simple_search),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
