#include "cli/learn_show.h"

#include "cli/lines.h"
#include "core/base/escape.h"

#include <jansson.h>

static double share(uint64_t part, uint64_t all)
{
    return all ? 100.0 * (double)part / (double)all : 0;
}

/* In double quotes, as YAML has them. What was learned is UTF-8 without control characters. */
static void print_quoted(struct ind_slice text)
{
    putchar('"');
    for (size_t i = 0; i < text.length; i++) {
        if (text.at[i] == '"' || text.at[i] == '\\')
            putchar('\\');
        putchar(text.at[i]);
    }
    putchar('"');
}

static void print_layout(const struct ind_proposed_layout *layout)
{
    char number[32];
    printf("      # %s%s message%s\n", layout->learned->estimated ? "about " : "",
           ind_grouped(layout->learned->count, number), layout->learned->count == 1 ? "" : "s");
    printf("      - layout: ");
    print_quoted(layout->learned->layout);
    printf("\n        example: ");
    print_quoted(layout->examples[0]);
    if (layout->field_count) {
        printf("\n        gives: {");
        for (size_t i = 0; i < layout->field_count; i++) {
            printf("%s%.*s: ", i ? ", " : "", IND_ARG(layout->fields[i].name));
            print_quoted(layout->fields[i].value);
        }
        putchar('}');
    }
    putchar('\n');
    for (size_t i = 1; i < layout->example_count; i++)
        printf("        # also: %.*s\n", IND_ARG(layout->examples[i]));
}

static void print_pattern(const struct ind_proposed_pattern *pattern)
{
    printf("  - name: %s\n", pattern->name);
    if (pattern->app.length) {
        printf("    app: ");
        print_quoted(pattern->app);
        putchar('\n');
    }
    printf("    text:\n");
    for (size_t i = 0; i < pattern->layout_count; i++)
        print_layout(&pattern->layouts[i]);
}

static void print_summary(const struct ind_learning_result *result, uint64_t at_least)
{
    char a[32], b[32], c[32];
    const uint64_t unfit = result->messages - result->fit;
    printf("# %s messages, of which patterns fit %s (%.1f %%); with these %zu patterns %.1f %%\n",
           ind_grouped(result->messages, a), ind_grouped(result->fit, b),
           share(result->fit, result->messages), result->pattern_count,
           share(result->fit + result->covered, result->messages));
    if (unfit > result->covered)
        printf("# %s have no order that was seen in %s messages or more\n", ind_grouped(result->rest, c),
               ind_grouped(at_least, a));
    if (result->overlapping)
        printf("# %zu layouts are left out, as they fit texts that others do too\n", result->overlapping);
    for (size_t i = 0; i < result->app_count && i < 5; i++)
        printf("# no pattern fits %s of %s messages of %s\n", ind_grouped(result->apps[i].unfit, a),
               ind_grouped(result->apps[i].messages, b),
               result->apps[i].app[0] ? result->apps[i].app : "no app");
}

/* ---- As JSON ---- */

static json_t *text_of(struct ind_slice text)
{
    return json_stringn(text.at ? text.at : "", text.length);
}

static void set_number(json_t *object, const char *key, uint64_t number)
{
    json_object_set_new(object, key, json_integer((json_int_t)number));
}

static json_t *layout_of(const struct ind_proposed_layout *layout)
{
    json_t *object = json_object(), *examples = json_array(), *gives = json_object();
    json_object_set_new(object, "layout", text_of(layout->learned->layout));
    set_number(object, "messages", layout->learned->count);
    if (layout->learned->estimated)
        json_object_set_new(object, "estimated", json_true());
    for (size_t i = 0; i < layout->example_count; i++)
        json_array_append_new(examples, text_of(layout->examples[i]));
    json_object_set_new(object, "examples", examples);
    for (size_t i = 0; i < layout->field_count; i++) {
        char name[IND_SYNTAX_BYTES];
        snprintf(name, sizeof name, "%.*s", IND_ARG(layout->fields[i].name));
        json_object_set_new(gives, name, text_of(layout->fields[i].value));
    }
    json_object_set_new(object, "gives", gives);
    return object;
}

static json_t *numbers_of(const struct ind_learning_result *result)
{
    json_t *object = json_object(), *apps = json_array();
    set_number(object, "messages", result->messages);
    set_number(object, "fit", result->fit);
    for (size_t i = 0; i < result->app_count; i++) {
        json_t *app = json_object();
        json_object_set_new(app, "app", json_string(result->apps[i].app));
        set_number(app, "messages", result->apps[i].messages);
        set_number(app, "unfit", result->apps[i].unfit);
        json_array_append_new(apps, app);
    }
    json_object_set_new(object, "apps", apps);
    return object;
}

static void print_json(const struct ind_learning_result *result)
{
    json_t *object = numbers_of(result), *patterns = json_array();
    set_number(object, "covered", result->covered);
    set_number(object, "rest", result->rest);
    set_number(object, "overlapping", result->overlapping);
    for (size_t i = 0; i < result->pattern_count; i++) {
        json_t *pattern = json_object(), *layouts = json_array();
        json_object_set_new(pattern, "name", json_string(result->patterns[i].name));
        if (result->patterns[i].app.length)
            json_object_set_new(pattern, "app", text_of(result->patterns[i].app));
        set_number(pattern, "messages", result->patterns[i].count);
        for (size_t k = 0; k < result->patterns[i].layout_count; k++)
            json_array_append_new(layouts, layout_of(&result->patterns[i].layouts[k]));
        json_object_set_new(pattern, "layouts", layouts);
        json_array_append_new(patterns, pattern);
    }
    json_object_set_new(object, "patterns", patterns);
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}

void ind_learn_show(const struct ind_learning_result *result, uint64_t at_least, bool json)
{
    if (json) {
        print_json(result);
        return;
    }
    print_summary(result, at_least);
    if (result->pattern_count == 0) {
        printf("# nothing is proposed\n");
        return;
    }
    printf("patterns:\n");
    for (size_t i = 0; i < result->pattern_count; i++)
        print_pattern(&result->patterns[i]);
}

void ind_learn_show_check(const struct ind_learning_result *result, const char *name, bool json)
{
    char a[32], b[32], room[4096];
    const uint64_t unfit = result->messages - result->fit;
    if (json) {
        json_t *object = numbers_of(result), *examples = json_array();
        json_object_set_new(object, "pattern", json_string(name));
        set_number(object, "newly_fit", result->checked);
        for (size_t i = 0; i < result->check_example_count; i++)
            json_array_append_new(examples, text_of(result->check_examples[i]));
        json_object_set_new(object, "examples", examples);
        ind_print_json(object, stdout);
        printf("\n");
        json_decref(object);
        return;
    }
    printf("%s fits %s of the %s messages that no other pattern does; patterns fit %.1f %% without it, %.1f "
           "%% with "
           "it\n",
           name, ind_grouped(result->checked, a), ind_grouped(unfit, b), share(result->fit, result->messages),
           share(result->fit + result->checked, result->messages));
    for (size_t i = 0; i < result->check_example_count; i++)
        printf("  %s\n", ind_escaped(result->check_examples[i], room, sizeof room));
}
