#include "cli/cli.h"
#include "cli/table.h"
#include "cli/underline.h"
#include "collect/runtime/clock.h"
#include "trial/fit.h"

#include <jansson.h>
#include <stdlib.h>

enum { SHOWN_MISFITS = 5, ROOM = 65536 * 4 };

static struct {
    char *pattern, *name, *app, *from;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"pattern", '\0', POPT_ARG_STRING, &given.pattern, 0, "try this layout (docs/pattern-language.md)",
         "LAYOUT"},
        {"name", '\0', POPT_ARG_STRING, &given.name, 0, "try this pattern of the configuration", "NAME"},
        {"app", '\0', POPT_ARG_STRING, &given.app, 0,
         "samples are texts of this app (otherwise: of whichever the patterns name)", "APP"},
        {"from", '\0', POPT_ARG_STRING, &given.from, 0,
         "samples from a file, one per line; - is standard input", "FILE"},
        POPT_TABLEEND};
    return table;
}

/* What all samples of this call share. */
struct fitting {
    struct ind_fitter *fitter;
    bool json, from_file;
    uint64_t samples, misfits;
    uint64_t *by_pattern;
    char *room;
};

static const char *escaped(struct fitting *run, struct ind_slice text)
{
    return ind_escaped(text, run->room, ROOM);
}

/* ---- For people ---- */

static const char *row_name(const struct ind_pattern_field *field)
{
    return field->name.length ? field->name.at : ind_type_name(field->type).at;
}

/* Each field under its part of the sample. */
static void print_marked_fields(const struct ind_fit *fit)
{
    struct ind_underlined_part parts[IND_SYNTAX_FIELDS];
    char names[IND_SYNTAX_FIELDS][80];
    for (size_t i = 0; i < fit->layout->field_count; i++) {
        const struct ind_pattern_field *field = &fit->layout->fields[i];
        snprintf(names[i], sizeof names[i], "%s%s", field->name.length ? "" : ":", row_name(field));
        parts[i] = (struct ind_underlined_part){names[i], (size_t)(fit->values[i].at - fit->sample.at),
                                                fit->values[i].length};
    }
    ind_print_underlined(fit->sample, parts, fit->layout->field_count, -1, ind_terminal_width(), stdout);
}

static void print_fit(struct fitting *run, const struct ind_fit *fit)
{
    print_marked_fields(fit);
    printf(given.pattern ? "fits\n" : "fits %s: ", escaped(run, fit->pattern));
    if (!given.pattern)
        printf("%s\n", escaped(run, fit->layout->source));
    ind_print_fields(fit->fields, 0, fit->fields->count, 8, run->room, ROOM);
}

/* The place where the first of the layouts stops. One behind the end is shown under a space put there. */
static void print_place(struct fitting *run, const struct ind_fit *fit)
{
    const struct ind_stop *stop = &fit->stops[0];
    size_t before = (size_t)(fit->text.at - fit->sample.at), at = before + stop->found_at;
    struct ind_underlined_part part = {"stops here", at, stop->found.length ? stop->found.length : 1};
    if (stop->kind == IND_STOP_APP) {
        printf("%s\n", escaped(run, fit->sample));
        return;
    }
    if (at + part.length <= fit->sample.length) {
        ind_print_underlined(fit->sample, &part, 1, -1, ind_terminal_width(), stdout);
        return;
    }
    char *longer = malloc(fit->sample.length + 1);
    if (!longer)
        return;
    memcpy(longer, fit->sample.at, fit->sample.length);
    longer[fit->sample.length] = ' ';
    part = (struct ind_underlined_part){"ends here", fit->sample.length, 1};
    ind_print_underlined((struct ind_slice){longer, fit->sample.length + 1}, &part, 1, -1,
                         ind_terminal_width(), stdout);
    free(longer);
}

static void print_stop(struct fitting *run, const struct ind_stop *stop, bool named)
{
    char text[400];
    struct ind_buffer out = ind_buffer_on(text, sizeof text);
    const struct ind_patterns *patterns = ind_fitter_patterns(run->fitter);
    ind_stop_describe(stop, &out);
    printf("  %s\n", escaped(run, ind_buffer_view(&out)));
    printf("    in ");
    if (named)
        printf("%s: ", escaped(run, ind_pattern_name(patterns, stop->layout->pattern)));
    printf("%s\n", escaped(run, stop->layout->source));
    if (stop->others)
        printf("    and in %zu more that begin%s alike\n", stop->others, stop->others == 1 ? "s" : "");
}

static void print_misfit(struct fitting *run, const struct ind_fit *fit)
{
    if (fit->text.length == 0) {
        printf("%s\ndoes not fit: there is no text in it\n", escaped(run, fit->sample));
        return;
    }
    if (fit->stop_count == 0) {
        printf("%s\ndoes not fit: there are no patterns to try\n", escaped(run, fit->sample));
        return;
    }
    print_place(run, fit);
    printf("does not fit%s\n", fit->stop_count > 1 ? "; these got furthest:" : ":");
    for (size_t i = 0; i < fit->stop_count; i++)
        print_stop(run, &fit->stops[i], !given.pattern);
}

/* ---- For scripts ---- */

static json_t *text_json(struct fitting *run, struct ind_slice text)
{
    return json_string(escaped(run, text));
}

static json_t *stops_json(struct fitting *run, const struct ind_fit *fit)
{
    json_t *list = json_array();
    const struct ind_patterns *patterns = ind_fitter_patterns(run->fitter);
    size_t before = (size_t)(fit->text.at - fit->sample.at);
    for (size_t i = 0; i < fit->stop_count; i++) {
        const struct ind_stop *stop = &fit->stops[i];
        size_t at = before + stop->found_at;
        json_t *object = json_object();
        if (!given.pattern)
            json_object_set_new(object, "pattern",
                                text_json(run, ind_pattern_name(patterns, stop->layout->pattern)));
        json_object_set_new(object, "layout", text_json(run, stop->layout->source));
        json_object_set_new(object, "offset", json_integer((json_int_t)at));
        json_object_set_new(object, "expected", json_string(stop->before ? "" : stop->expected));
        json_object_set_new(object, "found", text_json(run, stop->found));
        if (stop->field && stop->field->name.length)
            json_object_set_new(object, "field", text_json(run, stop->field->name));
        if (stop->would_fit)
            json_object_set_new(object, "would_fit", json_string(stop->would_fit));
        json_object_set_new(object, "others", json_integer((json_int_t)stop->others));
        json_array_append_new(list, object);
    }
    return list;
}

static void print_json(struct fitting *run, const struct ind_fit *fit)
{
    json_t *object = json_object(), *fields = json_object();
    json_object_set_new(object, "sample", text_json(run, fit->sample));
    json_object_set_new(object, "fits", json_boolean(fit->layout != NULL));
    if (fit->layout) {
        if (!given.pattern)
            json_object_set_new(object, "pattern", text_json(run, fit->pattern));
        json_object_set_new(object, "layout", text_json(run, fit->layout->source));
        for (size_t i = 0; i < fit->fields->count; i++) {
            char name[256];
            snprintf(name, sizeof name, "%s", escaped(run, fit->fields->fields[i].name));
            json_object_set_new(fields, name, text_json(run, fit->fields->fields[i].value));
        }
        json_object_set(object, "fields", fields);
    } else {
        json_object_set_new(object, "stops", stops_json(run, fit));
    }
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(fields);
    json_decref(object);
}

/* ---- ---- */

static void try(void *context, struct ind_slice sample)
{
    struct fitting *run = context;
    const struct ind_fit *fit = ind_fit_try(run->fitter, sample);
    run->samples++;
    run->misfits += !fit->layout;
    if (fit->layout)
        run->by_pattern[fit->layout->pattern]++;
    if (run->json) {
        print_json(run, fit);
        return;
    }
    if (run->from_file && (fit->layout || run->misfits > SHOWN_MISFITS))
        return;
    if (run->samples > 1 && (!run->from_file || run->misfits > 1))
        printf("\n");
    (fit->layout ? print_fit : print_misfit)(run, fit);
}

/* What a file of samples came to. */
static void print_sums(const struct fitting *run)
{
    static const struct ind_column columns[] = {{"samples", true}, {"pattern", false}};
    char all[32], misfits[32];
    const struct ind_patterns *patterns = ind_fitter_patterns(run->fitter);
    struct ind_table *table = ind_table_new(columns, 2);
    printf("%s%s samples, %s of them fit nothing%s\n", run->misfits ? "\n" : "",
           ind_grouped(run->samples, all), ind_grouped(run->misfits, misfits),
           run->misfits > SHOWN_MISFITS ? "; the first are shown" : "");
    for (uint32_t i = 0; i < ind_patterns_count(patterns); i++)
        if (run->by_pattern[i]) {
            ind_table_number(table, run->by_pattern[i]);
            ind_table_text(table, ind_pattern_name(patterns, i).at);
        }
    if (run->samples > run->misfits)
        ind_table_print(table, false, stdout);
    ind_table_free(table);
}

static bool read_call(const struct ind_call *call, const struct ind_config *config)
{
    uint32_t number;
    if (given.pattern && given.name) {
        ind_complain("--pattern or --name, not both");
        return false;
    }
    if (!given.from && !*call->rest) {
        ind_complain("which sample? indagator fit --pattern '…' 'TEXT', or --from FILE");
        return false;
    }
    if (given.name && !ind_pattern_named(config->patterns, ind_slice_of(given.name), &number)) {
        const char *near = ind_pattern_near(config->patterns, ind_slice_of(given.name));
        ind_complain("--name: no pattern of the configuration is named \"%s\"%s%s%s", given.name,
                     near ? "; did you mean \"" : "", near ? near : "", near ? "\"?" : "");
        return false;
    }
    if (!given.pattern && ind_patterns_count(config->patterns) == 0) {
        ind_complain("the configuration has no patterns; try one with --pattern '…'");
        return false;
    }
    return true;
}

/* The layout of the call, with a caret under its mistake. */
static void report_mistake(const struct ind_mistake *mistake)
{
    if (!mistake->made) {
        ind_complain("out of memory");
        return;
    }
    ind_complain("--pattern:%zu: %s", mistake->offset + 1, mistake->text);
    fprintf(stderr, "%s\n%*s", given.pattern, (int)mistake->offset, "");
    for (size_t i = 0; i < mistake->length || i == 0; i++)
        fputc('^', stderr);
    fputc('\n', stderr);
}

static int fit_all(struct fitting *run, const struct ind_call *call)
{
    bool whole = true;
    for (size_t i = 0; call->rest[i]; i++)
        try(run, ind_slice_of(call->rest[i]));
    if (given.from) {
        run->from_file = true;
        whole = ind_each_line(given.from, try, run);
        if (!run->json)
            print_sums(run);
    }
    return !whole ? IND_EXIT_FAILED : run->misfits ? IND_EXIT_NO : IND_EXIT_DONE;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_mistake mistake = {0};
    int status = IND_EXIT_CALL;
    if (!ind_load(call, given.pattern != NULL, &loaded))
        return IND_EXIT_CALL;
    const struct ind_fit_settings settings = {.config = loaded.config,
                                              .layout = ind_slice_of(given.pattern),
                                              .name = ind_slice_of(given.name),
                                              .app = ind_slice_of(given.app),
                                              .now = ind_now()};
    struct fitting fitting = {.json = call->json != 0, .room = malloc(ROOM)};
    if (read_call(call, loaded.config)) {
        fitting.fitter = ind_fitter_new(&settings, &mistake);
        if (!fitting.fitter)
            report_mistake(&mistake);
        else
            fitting.by_pattern = calloc(ind_patterns_count(ind_fitter_patterns(fitting.fitter)) + 1,
                                        sizeof *fitting.by_pattern);
        if (fitting.by_pattern && fitting.room)
            status = fit_all(&fitting, call);
    }
    ind_fitter_free(fitting.fitter);
    free(fitting.by_pattern);
    free(fitting.room);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_fit = {
    .name = "fit",
    .summary = "tries patterns on samples: what fits, and where it stops",
    .arguments = "[-c FILE] [--pattern LAYOUT | --name NAME] [--app APP] [--from FILE] [SAMPLE…]",
    .about =
        "Lays a pattern over sample texts and draws each field under its part, or marks the place where\n"
        "it stops fitting, with what was expected, what was found, and the type that would fit. With\n"
        "neither --pattern nor --name it tries all patterns of the configuration, and shows those that\n"
        "got furthest. A sample is a text, or a whole message that begins with a PRI. Exit code 1\n"
        "where a sample fits nothing.\n\n"
        "Example:\n"
        "  indagator fit --pattern '{interface:interface} link {state:word}' 'ge0/24 link down'\n",
    .options = options,
    .run = run,
};
