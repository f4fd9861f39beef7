#include "cli/explain_trap.h"
#include "core/base/escape.h"

#include <jansson.h>

static json_t *text_json(struct ind_explaining *run, struct ind_slice text)
{
    struct ind_buffer out = ind_buffer_on(run->room, IND_EXPLAIN_ROOM);
    ind_escape_shown(&out, text);
    return json_stringn(run->room, out.length);
}

static json_t *reasons_json(struct ind_explaining *run, const struct ind_reason *reasons, size_t count)
{
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++) {
        json_t *reason = json_object();
        if (reasons[i].name.length)
            json_object_set_new(reason, "condition", text_json(run, reasons[i].name));
        json_object_set_new(reason, "test", text_json(run, reasons[i].test));
        json_object_set_new(reason, "holds", json_boolean(reasons[i].held));
        if (reasons[i].present)
            json_object_set_new(reason, "seen", json_string(reasons[i].seen));
        json_array_append_new(list, reason);
    }
    return list;
}

static json_t *parts_json(const struct ind_explanation *explanation)
{
    json_t *list = json_array();
    for (size_t i = 0; i < explanation->part_count; i++) {
        json_t *part = json_object();
        json_object_set_new(part, "part", json_string(explanation->parts[i].name));
        json_object_set_new(part, "offset", json_integer((json_int_t)explanation->parts[i].offset));
        json_object_set_new(part, "length", json_integer((json_int_t)explanation->parts[i].length));
        json_array_append_new(list, part);
    }
    return list;
}

/* The message as the layout `json` stores it. */
static json_t *message_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    struct ind_line_clock clock = {0};
    struct ind_buffer line = ind_buffer_on(run->room, IND_EXPLAIN_ROOM);
    (void)ind_line_write(IND_LAYOUT_JSON, &explanation->message, &clock, &line);
    return json_loadb(run->room, line.length, JSON_ALLOW_NUL, NULL);
}

static json_t *payload_json(const struct ind_payload *payload)
{
    json_t *list = json_array();
    for (size_t i = 0; i < IND_EXPLAIN_PAYLOADS; i++)
        if (payload->kinds & ind_explain_payloads[i].kind)
            json_array_append_new(list, json_string(ind_explain_payloads[i].name));
    return list;
}

static json_t *conditions_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    json_t *list = json_array();
    for (size_t i = 0; i < explanation->condition_count; i++) {
        const struct ind_condition_verdict *verdict = &explanation->conditions[i];
        json_t *object = json_object();
        json_object_set_new(object, "condition", json_string(verdict->name));
        json_object_set_new(object, "holds", json_boolean(verdict->holds));
        json_object_set_new(object, "because", reasons_json(run, verdict->reasons, verdict->reason_count));
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *changes_json(struct ind_explaining *run, const struct ind_edit_verdict *verdict)
{
    json_t *list = json_array();
    for (size_t i = 0; i < verdict->change_count; i++) {
        const struct ind_explained_change *change = &verdict->changes[i];
        json_t *object = json_object();
        json_object_set_new(object, "in", json_string(ind_place_name(change->in)));
        if (change->name[0])
            json_object_set_new(object, "name", text_json(run, ind_slice_of(change->name)));
        if (verdict->edit->kind == IND_EDIT_MASK) {
            json_object_set_new(object, "places", json_integer((json_int_t)change->places));
        } else {
            json_object_set_new(object, "before", text_json(run, ind_slice_of(change->before)));
            json_object_set_new(object, "after", text_json(run, ind_slice_of(change->after)));
        }
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *edits_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    static const char *const words[] = {"no", "yes", "on nothing", "by messages before", "not asked"};
    json_t *list = json_array();
    for (size_t i = 0; i < explanation->edit_count; i++) {
        const struct ind_edit_verdict *verdict = &explanation->edits[i];
        json_t *object = json_object();
        json_object_set_new(object, "edit", json_string(verdict->edit->name));
        json_object_set_new(object, "acts", json_string(words[verdict->acts]));
        json_object_set_new(object, "changes", changes_json(run, verdict));
        if (verdict->acts != IND_ACTS_TOO_LATE)
            json_object_set_new(object, "because",
                                reasons_json(run, verdict->reasons, verdict->reason_count));
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *routes_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    static const char *const words[] = {"yes", "no", "not asked", "not needed", "dropped"};
    json_t *list = json_array();
    for (size_t i = 0; i < explanation->route_count; i++) {
        const struct ind_route_verdict *verdict = &explanation->routes[i];
        json_t *object = json_object();
        json_object_set_new(object, "route", json_string(verdict->route->name));
        json_object_set_new(object, "takes", json_string(words[verdict->taken]));
        if (verdict->taken == IND_TAKEN)
            json_object_set_new(object, verdict->route->to == IND_TO_FILE ? "file" : "to",
                                json_string(verdict->path));
        if (verdict->taken == IND_NOT_ASKED)
            json_object_set_new(object, "last_above", json_string(verdict->above->name));
        else if (verdict->taken == IND_NOT_NEEDED)
            json_object_set_new(object, "taken_by", json_string(verdict->above->name));
        else
            json_object_set_new(object, "because",
                                reasons_json(run, verdict->reasons, verdict->reason_count));
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *alerts_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    json_t *list = json_array();
    for (size_t i = 0; i < explanation->alert_count; i++) {
        const struct ind_alert_verdict *verdict = &explanation->alerts[i];
        json_t *object = json_object();
        json_object_set_new(object, "alert", json_string(verdict->rule->name));
        json_object_set_new(object, verdict->ends ? "ends" : "counts", json_boolean(verdict->concerns));
        if (verdict->concerns)
            json_object_set_new(object, "key", json_string(verdict->key));
        json_object_set_new(object, "because", reasons_json(run, verdict->reasons, verdict->reason_count));
        json_array_append_new(list, object);
    }
    return list;
}

void ind_explain_print_json(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    json_t *object = json_object();
    if (run->trap)
        json_object_set_new(object, "trap", ind_explain_trap_json(run->trap));
    json_object_set_new(object, "original", text_json(run, explanation->message.original));
    json_object_set_new(object, "message", message_json(run, explanation));
    json_object_set_new(object, "form_because", json_string(explanation->form_because));
    if (explanation->malformed_because)
        json_object_set_new(object, "malformed_because", json_string(explanation->malformed_because));
    json_object_set_new(object, "parts", parts_json(explanation));
    json_object_set_new(object, "device_because", json_string(ind_explain_whose(explanation)));
    json_object_set_new(object, "payload", payload_json(explanation->message.payload));
    json_object_set_new(object, "edits", edits_json(run, explanation));
    if (explanation->dropped)
        json_object_set_new(object, "dropped_by", json_string(explanation->dropped->name));
    json_object_set_new(object, "conditions", conditions_json(run, explanation));
    json_object_set_new(object, "routes", routes_json(run, explanation));
    if (explanation->alert_count)
        json_object_set_new(object, "alerts", alerts_json(run, explanation));
    json_object_set_new(object, "ends", json_string(ind_explain_end(explanation)));
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}
