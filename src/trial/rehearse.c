#include "trial/rehearse_private.h"

#include "collect/intake/file_reader.h"
#include "collect/runtime/clock.h"
#include "core/message/framing.h"
#include <stdio.h>
#include <stdlib.h>

struct run {
    const struct ind_rehearse_call *call;
    struct ind_rehearser *rehearsers; /* one a thread */
    unsigned threads;
    struct ind_rehearsal *rehearsal;
    ind_time now;
};

/* ---- What is seen of each message ---- */

static void keep_line(struct ind_rehearser *rehearser, struct ind_examples *examples)
{
    struct ind_example *example =
        ind_examples_want(examples) ? ind_examples_add(examples, rehearser->at) : NULL;
    if (example)
        example->after = ind_example_keep(example, ind_rehearser_view(rehearser, 0), IND_EXAMPLE_TEXT);
}

static void look_at_pattern(struct ind_rehearser *rehearser, const struct ind_decided *decided)
{
    struct ind_rehearsal *part = &rehearser->part;
    if (ind_patterns_count(rehearser->call->config->patterns) == 0 ||
        decided->message->transport == IND_TRANSPORT_INTERNAL ||
        ind_answers_pattern(decided->answers, decided->message).length > 0)
        return;
    part->unmatched++;
    ind_notes_count_unfit(&part->unmatched_apps, decided->message->app, 1);
    keep_line(rehearser, &part->unmatched_examples);
}

static void on_decided(void *context, const struct ind_decided *decided)
{
    struct ind_rehearser *rehearser = context;
    struct ind_rehearsal *part = &rehearser->part;
    if (rehearser->call->other && decided->message->transport != IND_TRANSPORT_INTERNAL)
        ind_outcome_note(&rehearser->side[0], rehearser->room[0], decided);
    if (decided->message->original.length == 0)
        return;
    if (decided->dropped) {
        keep_line(rehearser, &part->edits[decided->dropped - rehearser->call->config->edits.list].drops);
        return;
    }
    look_at_pattern(rehearser, decided);
    if (rehearser->alerts)
        ind_alert_trial_note(rehearser->alerts, decided->message, decided->answers);
    if (decided->taken_count == 0)
        keep_line(rehearser, &part->unrouted);
    for (size_t i = 0; i < decided->taken_count; i++)
        keep_line(rehearser, &part->routes[decided->taken[i]].examples);
}

static void on_other_decided(void *context, const struct ind_decided *decided)
{
    struct ind_rehearser *rehearser = context;
    if (decided->message->transport != IND_TRANSPORT_INTERNAL)
        ind_outcome_note(&rehearser->side[1], rehearser->room[0], decided);
}

/* What any mask of the rules would hide is not shown, though it would only be hidden further on. Borrowed
 * until the next call. */
static struct ind_slice hidden(struct ind_rehearser *rehearser, enum ind_place_in_message in,
                               struct ind_slice text)
{
    const struct ind_edits *edits = &rehearser->call->config->edits;
    unsigned which = 0;
    ind_regex_room_next(&rehearser->masker.regex);
    for (size_t i = 0; i < edits->count && text.length; i++) {
        struct ind_buffer out =
            ind_buffer_on(rehearser->room[1] + (size_t)which * IND_MESSAGE_LIMIT, IND_MESSAGE_LIMIT);
        if (edits->list[i].kind != IND_EDIT_MASK ||
            !ind_mask_write(&edits->list[i], in < IND_IN_TEXTS ? in : IND_IN_TEXT, text, &rehearser->masker,
                            &out))
            continue;
        text = ind_buffer_view(&out);
        which ^= 1;
    }
    return text;
}

static void on_change(void *context, const struct ind_change *change, const struct ind_message *message)
{
    struct ind_rehearser *rehearser = context;
    struct ind_examples *examples = &rehearser->part.edits[change->edit].changes;
    if (!ind_examples_want(examples))
        return;
    struct ind_example *example = ind_examples_add(examples, rehearser->at);
    if (!example)
        return;
    example->in = change->in;
    example->device = ind_example_keep(example, hidden(rehearser, IND_IN_HOST, message->device), 64);
    example->name = ind_example_keep(example, change->name, 64);
    example->before =
        ind_example_keep(example, hidden(rehearser, change->in, change->before), IND_EXAMPLE_TEXT);
    struct ind_slice after = hidden(rehearser, change->in, change->after);
    example->after = ind_example_keep(example, after, IND_EXAMPLE_TEXT);
    if (after.at != change->after.at) /* the marks are no more where they were */
        return;
    for (size_t i = 0; i < change->mark_count && i < IND_EXAMPLE_MARKS; i++)
        if (change->marks[i].to <= example->after.length)
            example->marks[example->mark_count++] = change->marks[i];
}

/* ---- Batches that nobody writes ---- */

/* As the writer would enter it into the book. */
static void settle(struct ind_side *side, struct ind_batch *batch)
{
    const struct ind_tallies tallies = ind_batch_tallies(batch);
    ind_book_add(side->book, 0, &tallies);
    for (size_t g = 0; g < batch->group_count; g++) {
        const struct ind_batch_group *group = &batch->groups[g];
        bool file = side->config->routes[group->route].to == IND_TO_FILE;
        ind_book_route(side->book, group->route, group->lines, group->bytes, group->cut);
        if (batch->copies_count == 0) { /* every line is a message of its own */
            side->settled[file ? IND_END_STORED : IND_END_HANDED] += group->lines;
            continue;
        }
        for (uint32_t line = group->first; line; line = ind_batch_after(batch, group, line)) {
            uint32_t owner = ind_book_owner(side->book, 0, batch->lines[line - 1].owner, batch->copies);
            if (file)
                ind_book_settle(side->book, owner, 1, true);
            else
                ind_book_settle_handed_on(side->book, owner, true);
        }
    }
    ind_book_carry(side->book, 0, batch->copies_count ? &batch->copies[batch->copies_count - 1] : NULL);
}

static struct ind_batch *pass_on(void *context, struct ind_batch *full)
{
    struct ind_side *side = context;
    if (full)
        settle(side, full);
    if (full)
        ind_batch_clear(full);
    return full;
}

static void submit_lines(void *context, unsigned thread, uint64_t block, enum ind_line_form form,
                         struct ind_slice lines)
{
    struct run *run = context;
    struct ind_rehearser *rehearser = &run->rehearsers[thread];
    rehearser->side[0].source.form = rehearser->side[1].source.form = form;
    for (uint64_t number = 0; ind_slice_line(&lines, &rehearser->line); number++) {
        rehearser->at = block << 32 | number;
        ind_file_source_line(&rehearser->side[0].source, rehearser->line);
        if (run->call->other && rehearser->line.length > 0) {
            ind_file_source_line(&rehearser->side[1].source, rehearser->line);
            ind_rehearser_compare(rehearser);
        }
    }
}

static void end_side(struct ind_side *side)
{
    ind_file_source_end(&side->source);
    (void)pass_on(side, side->source.batch);
}

static void end(void *context, unsigned thread)
{
    struct run *run = context;
    for (unsigned i = 0; i < (run->call->other ? 2u : 1u); i++)
        end_side(&run->rehearsers[thread].side[i]);
}

/* ---- Beginning and end ---- */

static bool begin_side(struct ind_rehearser *rehearser, unsigned number, const struct ind_config *config)
{
    struct ind_side *side = &rehearser->side[number];
    const struct ind_onlooker onlooker = {number == 0 ? on_decided : on_other_decided,
                                          number == 0 ? on_change : NULL, rehearser};
    side->config = config;
    side->clock.zone = config->zone;
    side->clock.times = side->line_clock.zone = config->times;
    side->accounts = ind_accounts_new();
    side->book = ind_book_new(&side->accounts);
    /* With edits that remember there is one thread, and these are its own. */
    side->states = config->edits.remember ? ind_edit_states_new(ind_file_source_report, &side->source) : NULL;
    side->intake = side->accounts ? ind_intake_new(config, side->accounts, side->states) : NULL;
    side->source.batch = ind_batch_new();
    if (!side->intake || !side->book || !side->source.batch || (config->edits.remember && !side->states) ||
        !ind_book_adopt(side->book, config))
        return false;
    ind_intake_look_on(side->intake, &onlooker);
    side->source.intake = side->intake;
    side->source.origin =
        ind_file_source_origin(side->intake, rehearser->call->sender, rehearser->call->received);
    side->source.origin.now = rehearser->now; /* both sides stand at one moment */
    side->source.pass_on = pass_on;
    side->source.context = side;
    side->source.states = side->states;
    return true;
}

static void free_side(struct ind_side *side)
{
    ind_batch_free(side->source.batch);
    ind_file_source_free(&side->source);
    ind_intake_free(side->intake);
    ind_viewer_free(side->viewer);
    ind_edit_states_free(side->states);
    ind_book_free(side->book);
    ind_accounts_free(side->accounts);
}

static bool begin_lists(const struct ind_config *config, struct ind_rehearsal *rehearsal)
{
    rehearsal->routes = calloc(config->route_count + 1, sizeof *rehearsal->routes);
    rehearsal->edits = calloc(config->edits.count + 1, sizeof *rehearsal->edits);
    rehearsal->route_count = rehearsal->routes ? config->route_count : 0;
    rehearsal->edit_count = rehearsal->edits ? config->edits.count : 0;
    for (size_t i = 0; i < rehearsal->route_count; i++)
        rehearsal->routes[i].route = &config->routes[i];
    for (size_t i = 0; i < rehearsal->edit_count; i++)
        rehearsal->edits[i].edit = &config->edits.list[i];
    return rehearsal->routes && rehearsal->edits;
}

static bool begin_alerts(struct ind_rehearser *rehearser, const struct ind_config *config)
{
    if (config->alerts.count == 0)
        return true;
    return ind_answers_begin(&rehearser->alert_answers, config->conditions) &&
           (rehearser->alerts = ind_alert_trial_new(config, &rehearser->alert_answers)) != NULL;
}

/* All threads together. */
static bool play_alerts(struct run *run)
{
    struct ind_alert_trial *trials[IND_MOST_INTAKES];
    if (!run->rehearsers[0].alerts)
        return true;
    for (unsigned i = 0; i < run->threads; i++)
        trials[i] = run->rehearsers[i].alerts;
    return ind_alert_trials_play(trials, run->threads, &run->rehearsal->alerts);
}

static bool begin(struct run *run, struct ind_rehearser *rehearser)
{
    const struct ind_rehearse_call *call = run->call;
    rehearser->call = call;
    rehearser->now = run->now;
    rehearser->room[0] = malloc(IND_REHEARSE_ROOM);
    rehearser->room[1] = malloc(IND_REHEARSE_ROOM);
    return ind_masker_begin(&rehearser->masker) && rehearser->room[0] && rehearser->room[1] &&
           begin_lists(call->config, &rehearser->part) && begin_alerts(rehearser, call->config) &&
           begin_side(rehearser, 0, call->config) && (!call->other || begin_side(rehearser, 1, call->other));
}

static void add_routes(struct ind_rehearsal *rehearsal, const struct ind_book *book)
{
    size_t count;
    const struct ind_route_count *counts = ind_book_routes(book, &count);
    for (size_t i = 0; i < rehearsal->route_count; i++)
        for (size_t k = 0; k < count; k++)
            if (strcmp(counts[k].name, rehearsal->routes[i].route->name) == 0) {
                rehearsal->routes[i].messages += counts[k].lines;
                rehearsal->routes[i].bytes += counts[k].bytes;
                rehearsal->routes[i].cut += counts[k].cut;
                rehearsal->lines += counts[k].lines;
                rehearsal->line_bytes += counts[k].bytes;
            }
}

static void add_edits(struct ind_rehearsal *rehearsal, const struct ind_book *book)
{
    for (const struct ind_edit_count *count = ind_book_edits(book, 0); count; count = count->hh.next)
        for (size_t i = 0; i < rehearsal->edit_count; i++)
            if (strcmp(count->name, rehearsal->edits[i].edit->name) == 0) {
                rehearsal->edits[i].changed += count->changed;
                rehearsal->edits[i].dropped += count->dropped;
                rehearsal->edits[i].dropped_bytes += count->dropped_bytes;
            }
}

static void add_part(struct ind_rehearsal *rehearsal, struct ind_rehearser *rehearser)
{
    const struct ind_side *side = &rehearser->side[0];
    struct ind_rehearsal *part = &rehearser->part;
    for (uint32_t i = 0; i < ind_accounts_count(side->accounts); i++)
        ind_ledger_add(&rehearsal->ledger, &ind_account_at(side->accounts, i)->ledger);
    for (int end = 0; end < IND_ENDS; end++)
        rehearsal->ledger.ended[end] += side->settled[end];
    rehearsal->internal += side->source.internal;
    rehearsal->unmatched += part->unmatched;
    for (unsigned i = 0; i < part->unmatched_apps.app_count; i++) {
        const struct ind_note_word *app = &part->unmatched_apps.apps[i];
        ind_notes_count_unfit(&rehearsal->unmatched_apps, (struct ind_slice){app->text, app->length},
                              app->messages);
    }
    ind_examples_merge(&rehearsal->unrouted, &part->unrouted);
    ind_examples_merge(&rehearsal->unmatched_examples, &part->unmatched_examples);
    for (size_t i = 0; i < part->route_count; i++)
        ind_examples_merge(&rehearsal->routes[i].examples, &part->routes[i].examples);
    for (size_t i = 0; i < part->edit_count; i++) {
        ind_examples_merge(&rehearsal->edits[i].changes, &part->edits[i].changes);
        ind_examples_merge(&rehearsal->edits[i].drops, &part->edits[i].drops);
    }
    add_routes(rehearsal, side->book);
    add_edits(rehearsal, side->book);
    ind_differences_merge(rehearsal, part);
}

static void unread(void *context, const char *path, bool all, const char *reason)
{
    const struct run *run = context;
    char text[1400];
    snprintf(text, sizeof text, "cannot read %s%s: %s", all ? "" : "all of ", path, reason);
    run->call->report(run->call->context, text);
    run->rehearsal->unread_files++;
}

static bool goes_on(void *context, uint64_t bytes)
{
    const struct run *run = context;
    if (run->call->progress)
        run->call->progress(run->call->context, bytes);
    return true;
}

static unsigned count_threads(const struct ind_rehearse_call *call)
{
    unsigned here = ind_file_source_threads(call->config),
             there = call->other ? ind_file_source_threads(call->other) : here;
    return here < there ? here : there;
}

bool ind_rehearse(const struct ind_rehearse_call *call, struct ind_rehearsal *rehearsal)
{
    struct run run = {.call = call, .threads = count_threads(call), .rehearsal = rehearsal, .now = ind_now()};
    const struct ind_file_reading reading = {.files = call->files,
                                             .file_count = call->file_count,
                                             .form = call->form,
                                             .threads = run.threads,
                                             .lines = submit_lines,
                                             .end = end,
                                             .goes_on = goes_on,
                                             .unread = unread,
                                             .context = &run};
    *rehearsal = (struct ind_rehearsal){0};
    run.rehearsers = calloc(run.threads, sizeof *run.rehearsers);
    bool good = run.rehearsers && begin_lists(call->config, rehearsal);
    for (unsigned i = 0; good && i < run.threads; i++)
        good = begin(&run, &run.rehearsers[i]);
    good = good && ind_files_read(&reading) == IND_FILE_READING_DONE;
    good = good && play_alerts(&run);
    for (unsigned i = 0; run.rehearsers && i < run.threads; i++) {
        struct ind_rehearser *rehearser = &run.rehearsers[i];
        good &= !rehearser->out_of_memory;
        if (good)
            add_part(rehearsal, rehearser);
        ind_rehearsal_free(&rehearser->part);
        free_side(&rehearser->side[0]);
        free_side(&rehearser->side[1]);
        ind_masker_end(&rehearser->masker);
        ind_alert_trial_free(rehearser->alerts);
        ind_answers_free(&rehearser->alert_answers);
        free(rehearser->room[0]);
        free(rehearser->room[1]);
    }
    free(run.rehearsers);
    ind_differences_sort(rehearsal);
    rehearsal->adds_up = rehearsal->ledger.received == ind_ledger_accounted(&rehearsal->ledger);
    return good;
}

void ind_rehearsal_free(struct ind_rehearsal *rehearsal)
{
    ind_examples_free(&rehearsal->unrouted);
    ind_examples_free(&rehearsal->unmatched_examples);
    for (size_t i = 0; i < rehearsal->route_count; i++)
        ind_examples_free(&rehearsal->routes[i].examples);
    for (size_t i = 0; i < rehearsal->edit_count; i++) {
        ind_examples_free(&rehearsal->edits[i].changes);
        ind_examples_free(&rehearsal->edits[i].drops);
    }
    for (size_t i = 0; i < rehearsal->difference_count; i++)
        ind_examples_free(&rehearsal->differences[i].examples);
    ind_raised_alerts_free(&rehearsal->alerts);
    free(rehearsal->routes);
    free(rehearsal->edits);
    free(rehearsal->differences);
    *rehearsal = (struct ind_rehearsal){0};
}
