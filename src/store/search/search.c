/* store/search/search.c: a search from its settings to its result. What its parts do is told in
 * search_private.h. */
#include "store/search/search.h"

#include "core/base/escape.h"
#include "store/search/known.h"
#include "store/search/search_private.h"
#include <stdlib.h>
#include <unistd.h>

/* Of plain files, so that what lies beside each other in many files fits into memory. */
enum { LEAST_RANGE = 64 << 10, MOST_RANGE = 1 << 20, ALL_RANGES = 16 << 20, MOST_THREADS = 4 };

/* ---- Literals ---- */

/* A space is one in a text, but not in an app. */
static bool stands_in_text(struct ind_slice literal, bool app)
{
    return ind_is_clean(literal.at, literal.length, app ? ' ' + 1 : ' ', '\\');
}

/* Without a table of several, every line is parsed. */
static void find_literals(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    if (settings->context_lines) /* others are given, too */
        return;
    search->literal_count =
        ind_condition_literals(settings->conditions, settings->when, search->list, IND_SEARCH_LITERALS);
    search->literals_in_json = search->literals_in_text = true;
    bool app = (search->fields & 1u << IND_FIELD_APP) != 0;
    for (size_t i = 0; i < search->literal_count; i++) {
        size_t length = search->list[i].length;
        if (i == 0 || length < search->shortest_literal)
            search->shortest_literal = length;
        search->literals_in_text &= stands_in_text(search->list[i], app);
        search->literals_in_json &=
            stands_in_text(search->list[i], false) && !memchr(search->list[i].at, '"', length);
    }
    if (search->literal_count == 1)
        search->finder = ind_finder_for(search->list[0]);
    else if (search->literal_count > 1 &&
             !(search->literals = ind_literals_new(search->list, search->literal_count, false)))
        search->shortest_literal = 0;
}

/* ---- Beginning ---- */

static unsigned field_of(const struct ind_search_by *by)
{
    return by->what < IND_FIELDS      ? 1u << by->what
           : by->what == IND_BY_EVENT ? 1u << IND_FIELD_PATTERN | 1u << IND_FIELD_TEXT
                                      : 0;
}

/* Whether header and time of a line are all that is asked for. */
static void see_what_is_asked(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    const unsigned quick = 1u << IND_FIELD_FACILITY | 1u << IND_FIELD_SEVERITY | 1u << IND_FIELD_HOST |
                           1u << IND_FIELD_DEVICE | 1u << IND_FIELD_TIME | 1u << IND_FIELD_DAY |
                           1u << IND_FIELD_LABEL;
    const bool counts = settings->by_count || settings->count_only;
    search->fields = ind_condition_fields(settings->conditions, settings->when);
    search->header_only = !(search->fields & ~quick) && !settings->by_sent;
    search->who_decides = search->header_only && !settings->context_lines &&
                          !(search->fields & (1u << IND_FIELD_TIME | 1u << IND_FIELD_DAY));
    for (size_t i = 0; i < settings->by_count; i++)
        search->fields |= field_of(&settings->by[i]);
    for (size_t i = 0; i < settings->column_count; i++)
        search->fields |= field_of(&settings->columns[i]);
    search->fields |= field_of(&settings->sum) | field_of(&settings->distinct);
    search->labels = (search->fields & 1u << IND_FIELD_LABEL) ||
                     (settings->line ? settings->line->has_label : settings->layout == IND_LAYOUT_JSON);
    search->header_is_enough = search->header_only && !(search->fields & ~quick) && !settings->once &&
                               !settings->by_sent &&
                               (counts || (!settings->line && !settings->column_count &&
                                           settings->as_stored && settings->layout == IND_LAYOUT_PLAIN));
    /* Where every line is an answer, its header tells nothing before it is read. */
    search->header_only &= search->header_is_enough || settings->when != IND_CONDITION_ALWAYS ||
                           settings->since != IND_TIME_NONE || settings->until != IND_TIME_NONE;
    search->time_only = search->header_is_enough && !settings->context_lines && !counts &&
                        settings->when == IND_CONDITION_ALWAYS;
    search->measures = field_of(&settings->sum) || field_of(&settings->distinct);
    search->ordered = settings->once || !counts;
    search->lost_in_edits = ind_search_lost_in_edits(settings->config);
    search->range = ALL_RANGES / (settings->file_count + 1);
    search->range = search->range < LEAST_RANGE  ? LEAST_RANGE
                    : search->range > MOST_RANGE ? MOST_RANGE
                                                 : search->range;
}

static size_t thread_count(const struct ind_search_settings *settings)
{
    const long processors = sysconf(_SC_NPROCESSORS_ONLN);
    const size_t count = processors > 0 ? (size_t)processors : 1;
    return settings->threads ? settings->threads : count < MOST_THREADS ? count : MOST_THREADS;
}

static bool prepare(struct ind_search_worker *worker, struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    worker->search = search;
    worker->opened = -1;
    worker->low = IND_KEY_LEAST;
    const bool answers = ind_answers_begin(&worker->answers, settings->conditions);
    worker->reader = ind_line_reader_new();
    worker->clock.zone = worker->by_reader.zone = settings->zone;
    worker->clock.times = worker->line_clock.zone = settings->times;
    worker->unread_file = calloc(settings->file_count + 1, sizeof *worker->unread_file);
    worker->lacks = calloc(settings->file_count + 1, sizeof *worker->lacks);
    return answers && worker->reader && worker->unread_file && worker->lacks;
}

static bool begin(struct ind_search *search) IND_NOT_SHARED
{
    const struct ind_search_settings *settings = search->settings;
    ind_mutex_begin(&search->mutex);
    ind_condition_variable_begin(&search->work_there);
    ind_condition_variable_begin(&search->room_there);
    ind_condition_variable_begin(&search->found_there);
    see_what_is_asked(search);
    find_literals(search);
    const size_t count = thread_count(settings);
    search->workers = calloc(count, sizeof *search->workers);
    bool good = ind_search_frames_begin(search) && search->workers;
    for (; good && search->worker_count < count; search->worker_count++)
        good = prepare(&search->workers[search->worker_count], search);
    return good && ind_search_queue(search);
}

/* ---- Running ---- */

static void run_workers(struct ind_search *search, struct ind_search_result *result)
{
    size_t started = 0;
    ind_mutex_lock(&search->mutex);
    search->working = search->worker_count;
    ind_mutex_unlock(&search->mutex);
    while (started < search->worker_count && pthread_create(&search->workers[started].thread, NULL,
                                                            ind_search_work, &search->workers[started]) == 0)
        started++;
    ind_mutex_lock(&search->mutex);
    search->working -= search->worker_count - started;
    for (size_t i = started; i < search->worker_count; i++)
        search->workers[i].low = IND_KEY_MOST;
    ind_mutex_unlock(&search->mutex);
    result->failed |= started == 0;
    if (search->ordered && started)
        ind_search_give(search, result);
    for (size_t i = 0; i < started; i++)
        pthread_join(search->workers[i].thread, NULL);
}

static void gather_worker(struct ind_search *search, struct ind_search_worker *worker, uint32_t *lacks,
                          struct ind_search_result *result)
{
    result->found += worker->found;
    result->unread_files += worker->unread;
    result->failed |= worker->failed;
    result->gave_up += ind_answers_gave_up(&worker->answers);
    ind_groups_join(&search->groups, &worker->groups);
    for (size_t i = 0; worker->lacks && lacks && i < search->settings->file_count; i++)
        lacks[i] |= worker->lacks[i];
}

static void gather(struct ind_search *search, struct ind_search_result *result)
{
    uint32_t *lacks = calloc(search->settings->file_count + 1, sizeof *lacks);
    result->failed |= !lacks;
    for (size_t i = 0; i < search->worker_count; i++)
        gather_worker(search, &search->workers[i], lacks, result);
    for (size_t i = 0; lacks && i < search->settings->file_count; i++)
        for (unsigned field = 0; field < IND_FIELDS; field++)
            result->lacking[field] += lacks[i] >> field & 1;
    free(lacks);
    result->bytes = atomic_load(&search->bytes);
    result->archives = atomic_load(&search->archives);
    result->frames = atomic_load(&search->frames);
    result->bytes_left_out = atomic_load(&search->bytes_left_out);
    for (int i = 0; i < IND_LEFT_OUT_KINDS; i++)
        result->left_out[i] = atomic_load(&search->left_out[i]);
    if (search->settings->once && (search->settings->count_only || search->settings->by_count))
        result->found -= result->copies;
    if (search->settings->known) {
        result->found += ind_known_found(search->settings->known);
        ind_groups_join(&search->groups, ind_known_groups(search->settings->known));
    }
    if (search->settings->by_count)
        ind_groups_list(&search->groups, search->settings, result);
}

void ind_search_run(const struct ind_search_settings *settings, struct ind_search_result *result)
{
    *result = (struct ind_search_result){0};
    struct ind_search *search = calloc(1, sizeof *search);
    if (!search) {
        result->failed = true;
        return;
    }
    result->inside = search;
    search->settings = settings;
    if (begin(search))
        run_workers(search, result);
    else
        result->failed = true;
    gather(search, result);
}

/* ---- Ending ---- */

static void free_worker(struct ind_search_worker *worker)
{
    ind_answers_free(&worker->answers);
    ind_line_reader_free(worker->reader);
    ind_frame_reader_free(worker->frame);
    ind_quick_free(&worker->quick);
    ind_run_free(worker->run);
    free(worker->line);
    ind_by_reader_free(&worker->by_reader);
    free(worker->buffer);
    free(worker->unread_file);
    free(worker->lacks);
}

void ind_search_free(struct ind_search_result *result) IND_NOT_SHARED
{
    struct ind_search *search = result->inside;
    if (!search)
        return;
    ind_groups_free(&search->groups);
    for (size_t i = 0; i < search->worker_count; i++)
        free_worker(&search->workers[i]);
    for (size_t i = 0; i < search->unit_count; i++)
        free(search->units[i].parts);
    for (size_t i = 0; i < search->inbox_count; i++)
        ind_run_free(search->inbox[i]);
    free(search->inbox);
    free(search->workers);
    free(search->units);
    free(search->queue);
    ind_search_frames_end(search);
    ind_literals_free(search->literals);
    ind_condition_variable_end(&search->work_there);
    ind_condition_variable_end(&search->room_there);
    ind_condition_variable_end(&search->found_there);
    ind_mutex_end(&search->mutex);
    free(search);
    free(result->groups);
    *result = (struct ind_search_result){0};
}
