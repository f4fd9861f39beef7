#include "cli/search_call.h"
#include "cli/search_groups.h"
#include "cli/search_lines.h"
#include "store/disk/fs.h"
#include "store/search/known.h"

#include <errno.h>
#include <stdlib.h>

/* Words that are to stand somewhere, beside what --when asks: a mistake in that has been shown by now. */
static bool add_words(const struct ind_config *config, const struct ind_search_places *places,
                      struct ind_search_options *given, struct ind_search_settings *settings)
{
    if (!places->word_count)
        return true;
    ind_conditions_free(settings->conditions);
    settings->conditions = NULL;
    char *whole = ind_search_words_condition(places, given->when);
    if (!whole)
        ind_complain("out of memory");
    free(given->when);
    given->when = whole;
    return whole && ind_condition_option(config, whole, &settings->conditions, &settings->when);
}

/* ---- Printing ---- */

static void print_count(const struct ind_search_result *result, bool once, bool json, FILE *out)
{
    char number[32];
    if (!json) {
        fprintf(out, "%s\n", ind_number_text(result->found, ind_goes_to_terminal(out), number));
        return;
    }
    fprintf(out, "{\"messages\":%llu", (unsigned long long)result->found);
    if (once)
        fprintf(out, ",\"copies\":%llu", (unsigned long long)result->copies);
    fputs("}\n", out);
}

/* What is no lines: straight to standard output, so that a terminal is known as one, or by way of memory. */
struct text {
    FILE *stream;
    char *bytes;
    size_t length;
};

static bool begin_text(struct text *text, const struct ind_search_options *given)
{
    text->stream = given->to ? open_memstream(&text->bytes, &text->length) : stdout;
    return text->stream != NULL;
}

static void end_text(struct text *text, struct ind_search_output *output)
{
    if (text->stream == stdout) {
        errno = 0;
        output->failed = fflush(stdout) != 0;
        output->error = errno;
        output->broken = output->failed && errno == EPIPE;
        return;
    }
    (void)fclose(text->stream);
    (void)ind_search_output_write(output, (struct ind_slice){text->bytes, text->length});
    free(text->bytes);
}

/* ---- One search ---- */

enum { CHART_ROWS = 14 }; /* a chart, a heading and totals, at most */

struct searching {
    const struct ind_config *config;
    struct ind_search_options *given;
    struct ind_search_read *read;
    struct ind_search_places places;
    struct ind_search_output *output;
    struct ind_search_asked asked; /* of the catalog */
    bool once;                     /* as it was asked for, or is usual */
    bool is_store;
};

/* Copies stand in files of different routes only. */
static bool have_one_route(const struct ind_search_places *places)
{
    for (size_t i = 0; i < places->count; i++)
        if (!places->files[i].stored || places->files[i].stored->route == 0 ||
            places->files[i].stored->route != places->files[0].stored->route)
            return false;
    return true;
}

static void run_search(struct searching *searching, struct ind_search_result *result)
{
    struct ind_search_settings *settings = &searching->read->settings;
    struct ind_search_places places = searching->places;
    struct ind_search_file *files = calloc(places.count + 1, sizeof *files);
    *result = (struct ind_search_result){.failed = !files};
    if (!files)
        return;
    if (places.count)
        memcpy(files, places.files, places.count * sizeof *files);
    places.files = files;
    settings->known = NULL;
    searching->asked = (struct ind_search_asked){0};
    const ind_condition when = settings->when;
    if (settings->context_lines) /* of what is not found, too, some is given */
        settings->when = IND_CONDITION_ALWAYS;
    if (searching->is_store)
        ind_search_ask_catalog(searching->config, settings, &places, &searching->asked);
    settings->when = when;
    settings->files = files;
    settings->file_count = places.count;
    ind_search_run(settings, result);
    ind_progress_end();
    ind_known_free(settings->known);
    settings->known = NULL;
    free(files);
}

/* What is said beside the result, once that is out. True where it is whole. */
static bool tell(const struct searching *searching, const struct ind_search_result *result)
{
    ind_search_tell_copies(searching->given, result);
    ind_search_tell_absent(result, &searching->read->settings);
    if (searching->given->why)
        ind_search_tell_why(result, &searching->asked);
    return ind_search_tell_gaps(result, searching->places.unreadable);
}

static int code_of(bool whole, bool found)
{
    return !whole ? IND_EXIT_FAILED : found ? IND_EXIT_DONE : IND_EXIT_NO;
}

static void pass_over(void *context, const char *text)
{
    (void)context;
    (void)text;
}

/* Of which devices anything is found: only what these said is looked at for --context. */
static bool find_devices(struct searching *searching, struct ind_among *among)
{
    struct ind_search_settings *settings = &searching->read->settings;
    const struct ind_search_settings as_it_was = *settings;
    struct ind_search_result result;
    settings->context_lines = settings->column_count = 0;
    settings->by_count = 1;
    settings->by[0] = (struct ind_search_by){.what = IND_FIELD_DEVICE, .text = IND_SLICE("device")};
    settings->report = pass_over; /* it is said when they are read again */
    run_search(searching, &result);
    const bool good = !result.failed && !result.groups_cut && ind_among_find(&result, among);
    if (!good)
        ind_complain("--context: there are too many devices, or memory ran out");
    ind_search_free(&result);
    *settings = as_it_was;
    settings->among = among;
    return good;
}

static int search(struct searching *searching)
{
    struct ind_search_settings *settings = &searching->read->settings;
    const struct ind_search_options *given = searching->given;
    struct ind_search_result result;
    struct ind_search_lines lines;
    struct text text = {NULL, NULL, 0};
    const bool counts = settings->by_count || settings->count_only;
    struct ind_among among = {NULL, 0};
    if (settings->context_lines && !find_devices(searching, &among)) {
        (void)ind_search_output_end(searching->output, given, false);
        return IND_EXIT_FAILED;
    }
    if (!counts)
        ind_search_lines_begin(&lines, given, searching->output, settings);
    run_search(searching, &result);
    if (counts && !given->to && result.group_count + CHART_ROWS > ind_terminal_rows() && ind_terminal_rows())
        ind_page_begin();
    bool good = counts ? begin_text(&text, given) : ind_search_lines_end(&lines);
    if (counts && good && settings->by_count)
        ind_search_print_groups(&result, settings, given, text.stream);
    else if (counts && good)
        print_count(&result, searching->once, given->json != 0, text.stream);
    if (counts && good)
        end_text(&text, searching->output);
    const bool written = ind_search_output_end(searching->output, given, good);
    const bool whole = tell(searching, &result) && good;
    const int code = code_of(whole && written, result.found > 0);
    ind_search_free(&result);
    free(among.hashes);
    return code;
}

/* ---- Two spans compared ---- */

/* How much longer the span is than the other; 1 where one of them is open. */
static double scale_of(const struct ind_search_read *read, ind_time now)
{
    const struct ind_search_settings *settings = &read->settings;
    const ind_time until = settings->until == IND_TIME_NONE ? now : settings->until;
    if (settings->since == IND_TIME_NONE || read->against_since == IND_TIME_NONE ||
        read->against_until == IND_TIME_NONE || until <= settings->since)
        return 1;
    return (double)(until - settings->since) / (double)(read->against_until - read->against_since);
}

static int compare(struct searching *searching)
{
    struct ind_search_read *read = searching->read;
    struct ind_search_settings *settings = &read->settings;
    const struct ind_search_settings of_now = *settings;
    struct ind_search_result now, before;
    struct text text = {NULL, NULL, 0};
    size_t changes = 0;
    settings->order = IND_BY_NAME;
    settings->top = 0;
    read->scale = scale_of(read, settings->now);
    run_search(searching, &now);
    bool whole = tell(searching, &now);
    settings->since = read->against_since;
    settings->until = read->against_until;
    run_search(searching, &before);
    whole &= tell(searching, &before);
    settings->since = of_now.since;
    settings->until = of_now.until;
    const bool good = begin_text(&text, searching->given);
    if (good) {
        changes = ind_search_print_change(&now, &before, read, searching->given, text.stream);
        end_text(&text, searching->output);
    }
    const bool written = ind_search_output_end(searching->output, searching->given, good);
    const int code = code_of(whole && written && good, changes > 0);
    ind_search_free(&now);
    ind_search_free(&before);
    return code;
}

/* ---- The call ---- */

static int find_and_search(struct searching *searching, const char **arguments)
{
    struct ind_search_settings *settings = &searching->read->settings;
    struct ind_search_options *given = searching->given;
    struct ind_search_places *places = &searching->places;
    int code = ind_search_places_find(searching->config, arguments, given->as, places);
    if (code == IND_EXIT_DONE) {
        const bool counts = settings->by_count || settings->count_only;
        searching->is_store = places->is_whole_store;
        searching->once = given->once || (counts && places->is_whole_store && !given->copies);
        settings->once = searching->once && !have_one_route(places);
        if (places->read_once && (given->against || settings->context_lines)) {
            ind_complain("--%s reads all of it twice, and a pipe can be read once: name a file",
                         given->against ? "against" : "context");
            code = IND_EXIT_CALL;
        } else if (!add_words(searching->config, places, given, settings))
            code = IND_EXIT_CALL;
        else if (ind_search_output_begin(searching->output, given, searching->config, &code))
            code = given->against ? compare(searching) : search(searching);
    }
    ind_search_places_free(places);
    return code;
}

static int run(struct ind_call *call)
{
    static struct ind_search_output output;
    static struct ind_search_read read;
    struct ind_search_options *given = ind_search_options();
    struct ind_loaded loaded;
    int code = IND_EXIT_CALL;
    given->json = call->json;
    if (!ind_search_options_fit(given, (const char *const *)call->rest) ||
        !ind_load(call, *call->rest != NULL, &loaded))
        return IND_EXIT_CALL;
    ind_fs_raise_file_limit(); /* live files are held open for the snapshot */
    struct searching searching = {.config = loaded.config, .given = given, .read = &read, .output = &output};
    if (ind_search_options_read(given, loaded.config, &read))
        code = find_and_search(&searching, call->rest);
    ind_search_read_free(&read);
    ind_loaded_free(&loaded);
    return code;
}

const struct ind_command ind_command_search = {
    .name = "search",
    .summary = "finds stored messages, live and archived",
    .arguments = "[--when CONDITION] [--since TIME] [--until TIME] [PATH|WORD…]",
    .about =
        "Looks through all files of the store, or through the files and folders named, and prints what it\n"
        "finds in order of time. An argument without a slash that is no file is a word to look for. Exit\n"
        "code 1 where nothing is found.\n\n"
        "Examples:\n"
        "  indagator search -c indagator.yaml --when 'severity at least warning' --since 24h\n"
        "  indagator search -c indagator.yaml --by device,severity --top 10\n"
        "  indagator search -c indagator.yaml --since 'yesterday 22:00' pier1-rtr\n",
    .options = ind_search_option_table,
    .run = run,
};
