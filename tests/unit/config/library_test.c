/* The patterns that ship: each has an example that it takes, none overlaps with another, and docs/patterns.md
 * is made from them. With IND_REWRITE=1 it is written anew. */
#include "support/support.h"

#include "config/config.h"

#include <string.h>

static void put_fields(const struct ind_matcher *matcher, const struct ind_pattern_syntax *layout, FILE *page)
{
    bool any = false;
    for (size_t i = 0; i < layout->field_count; i++)
        if (layout->fields[i].name.length) {
            struct ind_slice value = ind_match_field(matcher, &layout->fields[i]);
            bool quote = value.length && memchr(value.at, ' ', value.length);
            fprintf(page, "%s%s=%s%.*s%s", any ? " " : "        ", layout->fields[i].name.at,
                    quote ? "\"" : "", IND_ARG(value), quote ? "\"" : "");
            any = true;
        }
    fputs(any ? "\n" : "", page);
}

/* "# Links and interfaces: up, down, …" at the head of a file. */
static void put_title(const char *path, FILE *page)
{
    char *text = ind_read_file(path, NULL);
    const char *colon = strchr(text, ':'), *end = strchr(text, '\n');
    assert_true(text[0] == '#' && end);
    if (!colon || colon > end)
        colon = end;
    fprintf(page, "\n## %.*s\n\n", (int)(colon - text - 2), text + 2);
    const char *name = strrchr(path, '/') + 1;
    fprintf(page, "`patterns/%s`%.*s\n", name, (int)(end - colon), colon);
    free(text);
}

static void put_layout(const struct ind_config *config, size_t number, struct ind_matcher *matcher,
                       FILE *page)
{
    const struct ind_pattern_syntax *layout = ind_patterns_syntax(config->patterns, number), *taken;
    const struct ind_syntax_place *place = &config->layout_places[number];
    const struct ind_pattern_syntax *before =
        number ? ind_patterns_syntax(config->patterns, number - 1) : NULL;
    if (!before || config->layout_places[number - 1].source != place->source)
        put_title(place->source->path, page);
    if (!before || before->pattern != layout->pattern)
        fprintf(page, "\n### %.*s\n\n", IND_ARG(ind_pattern_name(config->patterns, layout->pattern)));
    if (place->example.length == 0)
        print_error("without an example: %.*s\n", IND_ARG(layout->source));
    assert_true(place->example.length > 0);
    taken = ind_match(matcher, place->example, IND_NOTHING, true);
    assert_ptr_equal(taken, layout);
    fprintf(page, "    %.*s\n        %.*s\n", IND_ARG(layout->source), IND_ARG(place->example));
    put_fields(matcher, layout, page);
}

static char *make_page(const struct ind_config *config)
{
    char *text = NULL;
    size_t size = 0;
    FILE *page = open_memstream(&text, &size);
    struct ind_matcher *matcher = ind_matcher_new(config->patterns);
    fprintf(page,
            "# The patterns that ship\n\n"
            "%zu patterns in %zu layouts, for what network devices commonly write. They are in `patterns/`, "
            "and installed to\n"
            "`PREFIX/share/indagator/patterns/`. To use them all, or some:\n\n"
            "```yaml\n"
            "include: /usr/local/share/indagator/patterns/*.yaml\n"
            "```\n\n"
            "Each layout stands with its example and the fields that it gives "
            "([pattern-language.md](pattern-language.md) "
            "tells how to read\n"
            "them). This page is made from the files; a test compares the two.\n",
            ind_patterns_count(config->patterns), ind_patterns_syntax_count(config->patterns));
    for (size_t i = 0; i < ind_patterns_syntax_count(config->patterns); i++)
        put_layout(config, i, matcher, page);
    fclose(page);
    ind_matcher_free(matcher);
    return text;
}

static void every_pattern_that_ships_works_and_is_documented(void **state)
{
    (void)state;
    struct ind_loaded loaded;
    char *folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"), "include: " IND_SOURCE_FOLDER "/patterns/*.yaml\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    ind_config_compare_patterns(&loaded);
    for (size_t i = 0; i < loaded.diagnostics.count; i++)
        print_error("%s:%zu: %s\n",
                    loaded.diagnostics.list[i].source ? loaded.diagnostics.list[i].source->path : "",
                    loaded.diagnostics.list[i].line, loaded.diagnostics.list[i].text);
    assert_int_equal(loaded.diagnostics.count, 0);
    assert_true(ind_patterns_count(loaded.config->patterns) >= 60);
    char *page = make_page(loaded.config);
    if (getenv("IND_REWRITE"))
        ind_write_file(IND_SOURCE_FOLDER "/docs/patterns.md", page);
    char *written = ind_read_file(IND_SOURCE_FOLDER "/docs/patterns.md", NULL);
    assert_non_null(written);
    assert_string_equal(written, page);
    free(written);
    free(page);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(every_pattern_that_ships_works_and_is_documented)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
