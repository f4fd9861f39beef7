/* Which tests decided an answer, and what they saw. */
#include "core/base/escape.h"
#include "core/condition/condition_private.h"

struct search {
    const struct ind_conditions *set;
    const struct ind_message *message;
    struct ind_answers *answers;
    struct ind_reason *reasons;
    size_t count, room;
    bool all; /* of "a and b" each that fails */
};

/* "mon" or "04:45"; false where no time is known. */
static bool put_local(const struct search *search, bool day, struct ind_buffer *out)
{
    struct ind_civil local;
    if (!ind_message_local(search->set, search->message, &local))
        return false;
    if (day) {
        ind_buffer_add(out, ind_day_names[local.weekday], 3);
        return true;
    }
    ind_buffer_add(out, ind_digit_pairs + 2 * local.hour, 2);
    ind_buffer_byte(out, ':');
    ind_buffer_add(out, ind_digit_pairs + 2 * local.minute, 2);
    return true;
}

/* The field's values, joined by commas; escaped, and cut where they are long. */
static bool put_seen(const struct search *search, const struct ind_test *test, struct ind_buffer *out)
{
    const struct ind_message *message = search->message;
    enum ind_field_kind kind = ind_field_rows[test->field].kind;
    size_t state = 0, values = 0;
    struct ind_slice value;
    double lag;
    switch (kind) {
    case IND_KIND_FACILITY:
        ind_buffer_slice(out, ind_facility_name(message->facility));
        return true;
    case IND_KIND_SEVERITY:
        ind_buffer_slice(out, ind_severity_name(message->severity));
        return true;
    case IND_KIND_NUMBER:
        if (!ind_message_lag(message, &lag))
            return false;
        ind_hundredths_write(out, ind_lag_hundredths(message->received, message->sent));
        return true;
    case IND_KIND_TIME:
    case IND_KIND_DAY:
        return put_local(search, kind == IND_KIND_DAY, out);
    default:
        break;
    }
    while (ind_test_value(test, message, search->answers, &state, &value)) {
        ind_buffer_text(out, values++ ? ", " : "");
        size_t room = out->capacity - out->length, most = room / 4 > 4 ? room / 4 - 4 : 0;
        bool cut = value.length > most && value.length > 120;
        value.length = cut ? (most < 120 ? most : 120) : value.length;
        ind_escape_shown(out, value);
        ind_buffer_text(out, cut ? "…" : "");
    }
    return values > 0;
}

static void add(struct search *search, const struct ind_condition_node *node, const struct ind_test *test,
                bool held, struct ind_slice name)
{
    if (search->count == search->room)
        return;
    struct ind_reason *reason = &search->reasons[search->count++];
    struct ind_buffer seen = ind_buffer_on(reason->seen, sizeof reason->seen - 1);
    reason->test = (struct ind_slice){search->set->kept[node->source] + node->at, node->length};
    reason->name = name;
    reason->held = held;
    reason->present = put_seen(search, test, &seen);
    reason->seen[seen.length] = '\0';
}

static void look(struct search *search, ind_condition condition, struct ind_slice name)
{
    const struct ind_conditions *set = search->set;
    const struct ind_condition_node *node = &set->nodes[condition];
    if (search->count == search->room)
        return; /* a name may be used by many others: not forever */
    bool held = ind_condition_holds(set, condition, search->message, search->answers);
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        add(search, node, &set->tests[node->test], held, name);
        break;
    case IND_CONDITION_NODE_NOT: {
        const struct ind_condition_node *inner = &set->nodes[node->first];
        if (inner->kind == IND_CONDITION_NODE_TEST)
            add(search, node, &set->tests[inner->test], held, name);
        else
            look(search, node->first, name);
        break;
    }
    case IND_CONDITION_NODE_NAME:
        look(search, node->first, (struct ind_slice){set->kept[node->source] + node->at, node->length});
        break;
    case IND_CONDITION_NODE_ALL:
    case IND_CONDITION_NODE_ANY:
        for (uint32_t part = node->first; part; part = set->nodes[part].next) {
            bool part_held = ind_condition_holds(set, part, search->message, search->answers);
            if (part_held != held)
                continue; /* it did not decide */
            look(search, part, name);
            if (held == (node->kind == IND_CONDITION_NODE_ANY) && (held || !search->all))
                break; /* one was enough */
        }
        break;
    default:
        break;
    }
}

size_t ind_condition_why(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers,
                         struct ind_reason *reasons, size_t room)
{
    struct search search = {set, message, answers, reasons, 0, room, false};
    look(&search, condition, IND_NOTHING);
    return search.count;
}

size_t ind_condition_why_all(const struct ind_conditions *set, ind_condition condition,
                             const struct ind_message *message, struct ind_answers *answers,
                             struct ind_reason *reasons, size_t room)
{
    struct search search = {set, message, answers, reasons, 0, room, true};
    look(&search, condition, IND_NOTHING);
    return search.count;
}
