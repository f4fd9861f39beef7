#include "trial/explain.h"

#include "collect/intake/viewer.h"
#include "core/base/escape.h"
#include "core/message/framing.h"
#include <stdlib.h>

struct ind_explainer {
    const struct ind_config *config;
    struct ind_viewer *viewer;
    enum ind_transport transport;      /* IND_TRANSPORT_FILE: not said */
    struct ind_answers *answers;       /* the viewer's */
    const struct ind_message *message; /* likewise: the one at hand */
    uint32_t *taken;
    bool all_tests; /* of a route that does not take the message: each that fails */
    struct ind_path_clock clock;
    struct ind_alerting alerting;
    struct ind_explanation explanation;
};

struct ind_explainer *ind_explainer_new(const struct ind_config *config)
{
    struct ind_explainer *explainer = calloc(1, sizeof *explainer);
    if (!explainer)
        return NULL;
    struct ind_explanation *explanation = &explainer->explanation;
    explainer->config = config;
    explainer->clock.zone = config->zone;
    explainer->clock.times = config->times;
    explanation->route_count = config->route_count;
    explanation->edit_count = config->edits.count;
    explanation->condition_count = config->named.count;
    explanation->routes = calloc(config->route_count + 1, sizeof *explanation->routes);
    explanation->conditions = calloc(config->named.count + 1, sizeof *explanation->conditions);
    explanation->edits = calloc(config->edits.count + 1, sizeof *explanation->edits);
    explainer->taken = calloc(config->route_count + 1, sizeof *explainer->taken);
    explainer->viewer = ind_viewer_new(config);
    if (explainer->viewer)
        explainer->answers = ind_viewer_answers(explainer->viewer);
    explanation->alerts = calloc(config->alerts.test_count + 1, sizeof *explanation->alerts);
    if (explainer->viewer && !ind_alerting_begin(&explainer->alerting, config, explainer->answers)) {
        ind_explainer_free(explainer);
        return NULL;
    }
    if (explainer->viewer && explanation->alerts && explanation->routes && explanation->edits &&
        explanation->conditions && explainer->taken)
        return explainer;
    ind_explainer_free(explainer);
    return NULL;
}

void ind_explainer_free(struct ind_explainer *explainer)
{
    if (!explainer)
        return;
    free(explainer->taken);
    ind_viewer_free(explainer->viewer);
    ind_alerting_end(&explainer->alerting);
    free(explainer->explanation.alerts);
    free(explainer->explanation.edits);
    free(explainer->explanation.routes);
    free(explainer->explanation.conditions);
    free(explainer);
}

/* ---- Header ---- */

static const char *form_because(const struct ind_message *message)
{
    bool time = message->timestamp.length > 0;
    if (message->original.length == 0)
        return "there is nothing in it";
    switch (message->form) {
    case IND_FORM_RFC5424:
        return "version 1 follows the PRI";
    case IND_FORM_RFC3164:
        return !message->pri_given   ? "there is a time, but no PRI: user and notice stand in for it"
               : time                ? "a time follows the PRI, without RFC 5424's version"
               : message->app.length ? "a tag follows the PRI, without a time"
                                     : "a host follows the PRI, without a time";
    default:
        return message->malformed == IND_MALFORMED_PRI
                   ? "it begins like a PRI, but is none: all of it is text"
               : message->pri_given ? "neither a time nor a tag follows the PRI"
                                    : "there is neither a PRI nor a time: all of it is text";
    }
}

static const char *malformed_because(const struct ind_message *message)
{
    static const char *const reasons[IND_MALFORMED_KINDS] = {
        [IND_MALFORMED_PRI] = "a PRI is a number from 0 to 191 without leading zeros, in < and >",
        [IND_MALFORMED_TIME] = "where the time should be there is none",
        [IND_MALFORMED_TIME_FORM] = "the time can be read, but is not as RFC 5424 writes it",
        [IND_MALFORMED_HEADER_END] = "the header ends before its last field",
        [IND_MALFORMED_FIELD_LENGTH] = "a field is longer than RFC 5424 allows; it is kept whole",
        [IND_MALFORMED_STRUCTURED_DATA] = "where the structured data should be there is none that is whole",
        [IND_MALFORMED_CUT] = "it is longer than the size limit: its end is gone",
    };
    return reasons[message->malformed];
}

static int by_place(const void *a, const void *b)
{
    const struct ind_part *x = a, *y = b;
    return (x->offset > y->offset) - (x->offset < y->offset);
}

/* The parts that lie in the message's own bytes. */
static void find_parts(struct ind_explanation *explanation)
{
    const struct ind_message *m = &explanation->message;
    const char *start = m->original.at;
    const char *close = m->pri_given ? memchr(start, '>', m->original.length) : NULL;
    const struct {
        const char *name;
        struct ind_slice slice;
    } all[] = {{"PRI", {start, close ? (size_t)(close - start) + 1 : 0}},
               {"timestamp", m->timestamp},
               {"sequence", m->sequence},
               {"location", m->location},
               {"host", m->host},
               {"app", m->app},
               {"procid", m->procid},
               {"msgid", m->msgid},
               {"data", m->data},
               {"text", m->text}};
    explanation->part_count = 0;
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (all[i].slice.length)
            explanation->parts[explanation->part_count++] =
                (struct ind_part){all[i].name, (size_t)(all[i].slice.at - start), all[i].slice.length};
    qsort(explanation->parts, explanation->part_count, sizeof *explanation->parts, by_place);
}

static enum ind_whose whose(const struct ind_devices *devices, const struct ind_message *message,
                            const struct ind_device *of_sender)
{
    if (message->configured && message->configured == of_sender)
        return IND_WHOSE_SENDER;
    if (message->configured)
        return ind_devices_by_name(devices, message->host) == message->configured ? IND_WHOSE_HOST
                                                                                  : IND_WHOSE_ORIGIN;
    return message->host.length ? IND_WHOSE_CLAIM : IND_WHOSE_ADDRESS;
}

/* ---- Edits ---- */

static void copy(char *to, size_t room, struct ind_slice text)
{
    struct ind_buffer out = ind_buffer_on(to, room - 4);
    struct ind_slice begun = {text.at, text.length < room / 4 ? text.length : room / 4};
    ind_escape_shown(&out, begun);
    to[out.length] = '\0';
    if (begun.length < text.length)
        memcpy(to + out.length, "…", sizeof "…");
}

static void on_asked(void *context, uint32_t edit, bool holds, const struct ind_message *message,
                     struct ind_answers *answers)
{
    struct ind_explainer *explainer = context;
    struct ind_explanation *explanation = &explainer->explanation;
    const struct ind_edits *edits = &explainer->config->edits;
    struct ind_edit_verdict *verdict = &explanation->edits[edit];
    verdict->edit = &edits->list[edit];
    verdict->change_count = 0;
    verdict->acts = explanation->dropped                   ? IND_ACTS_TOO_LATE
                    : !holds                               ? IND_ACTS_NOT
                    : ind_edit_remembers(verdict->edit)    ? IND_ACTS_BY_OTHERS
                    : verdict->edit->kind == IND_EDIT_DROP ? IND_ACTS
                                                           : IND_ACTS_ON_NOTHING;
    if (verdict->acts == IND_ACTS && !explanation->dropped)
        explanation->dropped = verdict->edit;
    verdict->reason_count = ind_condition_why(edits->set, edits->rules[edit].when, message, answers,
                                              verdict->reasons, IND_REASONS);
}

static void on_change(void *context, const struct ind_change *change)
{
    struct ind_explainer *explainer = context;
    struct ind_explanation *explanation = &explainer->explanation;
    struct ind_edit_verdict *verdict = &explanation->edits[change->edit];
    bool is_mask = verdict->edit->kind == IND_EDIT_MASK;
    explanation->hidden |= is_mask;
    if (verdict->acts == IND_ACTS_TOO_LATE)
        return;
    verdict->acts = IND_ACTS;
    if (verdict->change_count == IND_EXPLAINED_CHANGES)
        return;
    struct ind_explained_change *kept = &verdict->changes[verdict->change_count++];
    *kept = (struct ind_explained_change){.in = change->in, .places = change->mark_count};
    copy(kept->name, sizeof kept->name, change->name);
    if (is_mask)
        return;
    copy(kept->before, sizeof kept->before, change->before);
    copy(kept->after, sizeof kept->after, change->after);
}

/* What was seen, or was there, before a mask hid it is not shown either. */
static void hide_seen(struct ind_explanation *explanation)
{
    const struct ind_slice hidden = IND_SLICE("hidden");
    size_t last = 0;
    for (size_t i = 0; i < explanation->edit_count; i++)
        if (explanation->edits[i].edit->kind == IND_EDIT_MASK)
            last = i + 1;
    for (size_t i = 0; i < last && explanation->hidden; i++) {
        struct ind_edit_verdict *verdict = &explanation->edits[i];
        for (size_t k = 0; k < verdict->reason_count; k++)
            copy(verdict->reasons[k].seen, sizeof verdict->reasons[k].seen, hidden);
        for (size_t k = 0; k < verdict->change_count; k++)
            if (verdict->edit->kind != IND_EDIT_MASK && verdict->changes[k].in != IND_IN_FACILITY &&
                verdict->changes[k].in != IND_IN_SEVERITY && verdict->changes[k].in != IND_IN_TIME) {
                struct ind_explained_change *change = &verdict->changes[k];
                copy(change->before, sizeof change->before, change->before[0] ? hidden : IND_NOTHING);
                copy(change->after, sizeof change->after, change->after[0] ? hidden : IND_NOTHING);
            }
    }
}

static void judge_edits(struct ind_explainer *explainer, const struct ind_origin *origin)
{
    struct ind_explanation *explanation = &explainer->explanation;
    const struct ind_edit_call call = {
        .changed = on_change, .asked = on_asked, .context = explainer, .go_on = true, .keep_original = true};
    explanation->dropped = NULL;
    explanation->hidden = false;
    if (explainer->config->edits.count == 0 || explanation->message.original.length == 0) {
        explanation->edit_count = 0;
        return;
    }
    explanation->edit_count = explainer->config->edits.count;
    ind_viewer_edit(explainer->viewer, origin, &call);
    explanation->message = *explainer->message;
    hide_seen(explanation);
}

/* ---- Rules ---- */

static void judge_conditions(struct ind_explainer *explainer)
{
    const struct ind_config *config = explainer->config;
    struct ind_explanation *explanation = &explainer->explanation;
    for (size_t i = 0; i < config->named.count; i++) {
        struct ind_condition_verdict *verdict = &explanation->conditions[i];
        ind_condition condition = config->named_conditions[i];
        verdict->name = config->named.names[i];
        verdict->holds =
            ind_condition_holds(config->conditions, condition, &explanation->message, explainer->answers);
        verdict->reason_count = ind_condition_why(config->conditions, condition, &explanation->message,
                                                  explainer->answers, verdict->reasons, IND_REASONS);
    }
}

static void write_path(struct ind_explainer *explainer, struct ind_route_verdict *verdict)
{
    struct ind_buffer path = ind_buffer_on(verdict->path, sizeof verdict->path - 1);
    if (verdict->route->to == IND_TO_FILE)
        ind_template_path(&verdict->route->file, &explainer->explanation.message, &explainer->clock, false,
                          &path);
    else
        ind_route_describe(verdict->route, &path);
    verdict->path[path.length] = '\0';
}

static void describe_target(struct ind_explainer *explainer, struct ind_route_verdict *verdict)
{
    write_path(explainer, verdict);
    verdict->taken = IND_TAKEN;
    explainer->explanation.taken++;
    explainer->explanation.filed += verdict->route->to == IND_TO_FILE;
}

/* What the router decided, and for each route why: its condition, or what keeps the message from it. */
static void judge_routes(struct ind_explainer *explainer, size_t taken)
{
    const struct ind_config *config = explainer->config;
    struct ind_explanation *explanation = &explainer->explanation;
    const struct ind_route *last = NULL;
    const struct ind_route *first = taken ? &config->routes[explainer->taken[0]] : NULL;
    size_t next = 0;
    explanation->taken = explanation->filed = 0;
    for (size_t i = 0; i < config->route_count; i++) {
        struct ind_route_verdict *verdict = &explanation->routes[i];
        const struct ind_route *route = &config->routes[i];
        bool takes = next < taken && explainer->taken[next] == i;
        bool needless = route->otherwise && first && !first->otherwise;
        *verdict = (struct ind_route_verdict){.route = route, .taken = IND_NOT_TAKEN};
        if (explanation->dropped) {
            verdict->taken = IND_DROPPED;
            continue;
        }
        if (explainer->all_tests && !ind_condition_holds(config->conditions, route->when,
                                                         &explanation->message, explainer->answers)) {
            verdict->reason_count =
                ind_condition_why_all(config->conditions, route->when, &explanation->message,
                                      explainer->answers, verdict->reasons, IND_REASONS);
            continue; /* that, and not who is above it */
        }
        if (last || needless) {
            verdict->taken = last ? IND_NOT_ASKED : IND_NOT_NEEDED;
            verdict->above = last ? last : first;
            continue;
        }
        verdict->reason_count = ind_condition_why(config->conditions, route->when, &explanation->message,
                                                  explainer->answers, verdict->reasons, IND_REASONS);
        if (!takes)
            continue;
        next++;
        describe_target(explainer, verdict);
        if (route->last)
            last = route;
    }
}

static bool find_key(void *context, const struct ind_alert_rule *rule, const struct ind_alert_cause *cause)
{
    struct ind_explanation *explanation = context;
    for (size_t i = 0; i < explanation->alert_count; i++) {
        struct ind_alert_verdict *verdict = &explanation->alerts[i];
        if (verdict->rule != rule || verdict->ends != cause->ends)
            continue;
        verdict->concerns = true;
        if (cause->key.length)
            memcpy(verdict->key, cause->key.at, cause->key.length);
        verdict->key[cause->key.length] = '\0';
    }
    return false;
}

/* Whom it concerns is asked as a collector does; why, of each condition. */
static void judge_alerts(struct ind_explainer *explainer)
{
    const struct ind_alert_rules *alerts = &explainer->config->alerts;
    struct ind_explanation *explanation = &explainer->explanation;
    const struct ind_alerting_call call = {find_key, NULL, explanation};
    explanation->alert_count = 0;
    if (!alerts->router || explanation->dropped || explanation->message.original.length == 0)
        return;
    explanation->alert_count = alerts->test_count;
    for (size_t i = 0; i < alerts->test_count; i++) {
        struct ind_alert_verdict *verdict = &explanation->alerts[i];
        *verdict = (struct ind_alert_verdict){.rule = &alerts->list[alerts->of[i].alert],
                                              .ends = alerts->of[i].ends};
        verdict->reason_count =
            ind_condition_why(explainer->config->conditions, alerts->tests[i].when, &explanation->message,
                              explainer->answers, verdict->reasons, IND_REASONS);
    }
    ind_alerting_look(&explainer->alerting, &explanation->message, explainer->answers, &call);
}

/* The message that was read. */
static const struct ind_explanation *judge(struct ind_explainer *explainer, const struct ind_origin *origin)
{
    const struct ind_config *config = explainer->config;
    struct ind_explanation *explanation = &explainer->explanation;
    struct ind_message *message = &explanation->message;
    judge_edits(explainer, origin);
    size_t taken = message->original.length && !explanation->dropped
                       ? ind_router_decide(config->router, message, explainer->answers, explainer->taken)
                       : 0;
    message->payload = ind_answers_payload(explainer->answers, message);
    judge_conditions(explainer);
    judge_routes(explainer, taken);
    judge_alerts(explainer);
    return explanation;
}

void ind_explain_transport(struct ind_explainer *explainer, enum ind_transport transport)
{
    explainer->transport = transport;
}

const struct ind_explanation *ind_explain(struct ind_explainer *explainer, struct ind_slice bytes,
                                          const struct ind_address *sender, ind_time received, ind_time now)
{
    struct ind_explanation *explanation = &explainer->explanation;
    struct ind_message *message = &explanation->message;
    bool from_file = sender->bits == 0 && explainer->transport == IND_TRANSPORT_FILE;
    const enum ind_transport over =
        explainer->transport != IND_TRANSPORT_FILE ? explainer->transport : IND_TRANSPORT_UDP;
    struct ind_sender unknown = {.allowed = true, .account = UINT32_MAX};
    struct ind_sender *who = sender->bits == 0 ? &unknown : ind_viewer_sender(explainer->viewer, sender);
    const struct ind_origin origin = {
        .transport = from_file ? IND_TRANSPORT_FILE : over, .sender = who, .received = received, .now = now};
    explainer->all_tests = false;
    explainer->message = ind_viewer_read(explainer->viewer, IND_LINES_RAW, bytes, &origin);
    *message = *explainer->message;
    explanation->allowed = who->allowed;
    explanation->form_because = form_because(message);
    explanation->malformed_because = malformed_because(message);
    explanation->whose = whose(explainer->config->devices, message, who->device);
    (void)judge(explainer, &origin);
    find_parts(explanation);
    return explanation;
}

const struct ind_explanation *ind_explain_remembered(struct ind_explainer *explainer,
                                                     const struct ind_remembered *remembered, ind_time now)
{
    struct ind_explanation *explanation = &explainer->explanation;
    struct ind_sender *who = ind_viewer_sender(explainer->viewer, &remembered->sender);
    const struct ind_origin origin = {
        .transport = IND_TRANSPORT_FILE, .sender = who, .received = IND_TIME_NONE, .now = now};
    struct ind_message *message =
        ind_viewer_read(explainer->viewer, IND_LINES_PLAIN, remembered->line, &origin);
    message->sender = who->text;
    message->listener = remembered->listener;
    message->transport = (uint8_t)remembered->transport;
    explainer->all_tests = true; /* from here on */
    explainer->message = message;
    explanation->message = *message;
    explanation->part_count = 0;
    explanation->allowed = true; /* otherwise nobody had remembered it */
    explanation->form_because = explanation->malformed_because = NULL;
    explanation->whose = whose(explainer->config->devices, message, who->device);
    (void)judge(explainer, &origin);
    for (size_t i = 0; i < explanation->route_count; i++)
        write_path(explainer, &explanation->routes[i]);
    return explanation;
}
