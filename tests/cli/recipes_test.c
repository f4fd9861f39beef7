/* docs/recipes.md: each command prints what stands below it. IND_REWRITE=1 writes that anew. */
#include "support/archives.h"

#include <string.h>

#define RECIPES IND_SOURCE_FOLDER "/docs/recipes.md"

static bool is_fence(const char *line)
{
    return strncmp(line, "```", 3) == 0;
}

/* The next line of the text, without its end; NULL behind the last. */
static char *next_line(char **rest)
{
    char *line = *rest, *end = line ? strchr(line, '\n') : NULL;
    if (end)
        *end = '\0';
    *rest = end ? end + 1 : NULL;
    return line && (*line || end) ? line : NULL;
}

static void write_config(char **rest)
{
    FILE *out = fopen(ind_path(folder, "indagator.yaml"), "w");
    for (char *line; (line = next_line(rest)) && !is_fence(line);)
        fprintf(out, "%s\n", line);
    fclose(out);
}

/* What the command prints, on both of its outputs. */
static char *printed(const char *command)
{
    const char *end = strrchr(IND_PROGRAM, '/');
    struct ind_ran ran = ind_shell(folder, "export PATH=%.*s:$PATH; { %s; } 2>&1", (int)(end - IND_PROGRAM),
                                   IND_PROGRAM, command);
    if (ran.status == 2 || ran.status > 3 || ran.status < 0)
        fail_msg("%s: %s", command, ran.out);
    free(ran.err);
    return ran.out;
}

/* A block of commands, each with what it printed: asked again, and written to `now`. */
static unsigned ask_block(char **rest, FILE *now)
{
    unsigned count = 0;
    fputs("```\n", now);
    for (char *line; (line = next_line(rest)) && !is_fence(line);) {
        if (strncmp(line, "$ ", 2) != 0)
            continue;
        char *out = printed(line + 2);
        fprintf(now, "%s\n%s", line, out);
        free(out);
        count++;
    }
    fputs("```\n", now);
    return count;
}

static void each_recipe_gives_what_is_printed(void **state)
{
    (void)state;
    char *recipes = ind_read_file(RECIPES, NULL), *was = strdup(recipes), *rest = recipes, *text = NULL;
    size_t length;
    unsigned count = 0;
    FILE *now = open_memstream(&text, &length);
    run("cp " IND_SOURCE_FOLDER "/demo/messages.log .");
    for (char *line; (line = next_line(&rest)) != NULL;) {
        if (strcmp(line, "```") == 0) {
            count += ask_block(&rest, now);
            continue;
        }
        fprintf(now, "%s\n", line);
        if (strcmp(line, "```yaml") == 0) {
            char *config = rest;
            char *end = strstr(rest, "\n```\n");
            fprintf(now, "%.*s\n```\n", (int)(end - config), config);
            write_config(&rest);
        }
    }
    fclose(now);
    if (getenv("IND_REWRITE"))
        ind_write_file(RECIPES, text);
    else
        assert_string_equal(text, was);
    assert_true(count > 20);
    free(recipes);
    free(was);
    free(text);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(each_recipe_gives_what_is_printed, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
