/* config/alerts.c: alerts. */
#include "config/load.h"
#include "config/quantity.h"
#include "config/tells.h"

#include <stdlib.h>

#define DEFAULT_REOPEN (5 * 60 * IND_SECOND)
#define LONGEST (30 * 86400 * IND_SECOND)

/* With the nodes of what can only be judged at the end; NULL where a key is not there. */
struct alert_text {
    struct ind_alert_rule *rule;
    const struct ind_node *name, *when, *more, *fewer, *nothing, *unusual, *by, *over, *not_during, *join;
};

IND_KEEP_NODE(alert_text, more)
IND_KEEP_NODE(alert_text, fewer)
IND_KEEP_NODE(alert_text, nothing)
IND_KEEP_NODE(alert_text, unusual)
IND_KEEP_NODE(alert_text, by)
IND_KEEP_NODE(alert_text, over)
IND_KEEP_NODE(alert_text, not_during)

static void keep_alert_name(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct alert_text *text = into;
    if (!ind_expect_text(loader, value, "the alert's name"))
        return;
    text->name = value;
    text->rule->name = ind_keep(loader, value->text);
    if (value->text.length >= IND_ALERT_NAME)
        ind_wrong(loader, value, "the name of an alert has %d bytes at most", IND_ALERT_NAME - 1);
    for (size_t i = 0; i < value->text.length; i++)
        if ((unsigned char)value->text.at[i] < ' ' || value->text.at[i] == 0x7f) {
            ind_wrong(loader, value, "the name of an alert holds no control characters");
            return;
        }
}

static void read_when(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct alert_text *text = into;
    text->when = value;
    text->rule->when_text = ind_read_when(loader, value, true, &text->rule->when);
}

static void read_span(struct ind_loader *loader, const struct ind_node *value, int64_t *span)
{
    if (ind_expect_text(loader, value, "a span of time such as 15 min") &&
        (!ind_read_span(value->text, span) || *span < IND_SECOND || *span > LONGEST))
        ind_wrong(loader, value, "\"%.*s\" is not a span from 1 s to 30 days; " IND_SPAN_HINT,
                  IND_ARG(value->text));
}

static void read_remind(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_span(loader, value, &((struct alert_text *)into)->rule->remind);
}

static void read_join(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct alert_text *text = into;
    text->join = value;
    read_span(loader, value, &text->rule->join);
}

static void read_tell(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ind_load_tells(loader, value, ((struct alert_text *)into)->rule);
}

/* ---- When it opens ---- */

/* "20 in 5 min" */
static void read_rate(struct ind_loader *loader, const struct ind_node *value, uint64_t least,
                      struct ind_alert_rule *rule)
{
    if (!ind_expect_text(loader, value, "how many in which span, such as 20 in 5 min"))
        return;
    struct ind_slice number = value->text;
    size_t at = 0;
    while (at + 4 <= number.length && memcmp(number.at + at, " in ", 4) != 0)
        at++;
    number.length = at;
    if (at + 4 > value->text.length || !ind_read_count(number, least, 1000000000, &rule->number) ||
        !ind_read_span(ind_slice_from(value->text, at + 4), &rule->span) || rule->span < IND_SECOND ||
        rule->span > LONGEST)
        ind_wrong(
            loader, value,
            "\"%.*s\" does not say how many in which span; write a number from %d on and a span from 1 s "
            "to 30 days, such as 20 in 5 min",
            IND_ARG(value->text), (int)least);
}

static void read_kind(struct ind_loader *loader, const struct alert_text *text)
{
    struct ind_alert_rule *rule = text->rule;
    const struct ind_node *const given[] = {text->more, text->fewer, text->nothing, text->unusual};
    static const char *const names[] = {"more than", "fewer than", "nothing for", "unusual"};
    bool yes = false;
    const struct ind_node *first = NULL;
    for (int i = 0; i < 4; i++) {
        if (first && given[i])
            ind_wrong(loader, given[i], "an alert has one reason; write another one for \"%s\"", names[i]);
        first = first ? first : given[i];
    }
    if (first == NULL)
        return;
    if (first == text->more) {
        rule->kind = IND_ALERT_MORE;
        read_rate(loader, first, 0, rule);
    } else if (first == text->fewer) {
        rule->kind = IND_ALERT_FEWER;
        read_rate(loader, first, 1, rule);
    } else if (first == text->unusual) {
        rule->kind = IND_ALERT_UNUSUAL;
        if (ind_read_yes(loader, first, &yes) && !yes)
            ind_wrong(loader, first, "leave \"unusual\" out, or write \"unusual: yes\"");
    } else {
        rule->kind = IND_ALERT_NOTHING;
        read_span(loader, first, &rule->span);
    }
}

/* ---- By what ---- */

static bool is_key(const struct ind_template_part *part)
{
    static const uint8_t keys[] = {IND_PUT_DEVICE,   IND_PUT_HOST, IND_PUT_SENDER,   IND_PUT_FACILITY,
                                   IND_PUT_SEVERITY, IND_PUT_APP,  IND_PUT_LISTENER, IND_PUT_PROCID,
                                   IND_PUT_MSGID,    IND_PUT_TEXT, IND_PUT_LABEL,    IND_PUT_FIELD};
    return memchr(keys, part->put, sizeof keys) != NULL;
}

static bool add_key(struct ind_loader *loader, const struct ind_node *node, struct ind_buffer *whole,
                    struct ind_buffer *names)
{
    char text[200];
    struct ind_template template;
    struct ind_mistake mistake = {0};
    struct ind_buffer one = ind_buffer_on(text, sizeof text);
    if (!ind_expect_text(loader, node, "a field such as device, field peer or label site"))
        return false;
    ind_buffer_byte(&one, '{');
    ind_buffer_slice(&one, node->text);
    ind_buffer_byte(&one, '}');
    if (one.full || memchr(node->text.at, '{', node->text.length) ||
        !ind_template_read(ind_buffer_view(&one), IND_TEMPLATE_LINE, &template, &mistake) ||
        template.count != 1 || !is_key(&template.parts[0])) {
        ind_wrong(loader, node,
                  "alerts cannot be told apart by \"%.*s\"; device, host, sender, facility, severity, app, "
                  "listener, procid, msgid, text, \"field NAME\" and \"label NAME\" can",
                  IND_ARG(node->text));
        return false;
    }
    ind_buffer_text(whole, whole->length ? ", " : "");
    ind_buffer_slice(whole, ind_buffer_view(&one));
    ind_buffer_text(names, names->length ? ", " : "");
    ind_buffer_slice(names, node->text);
    return true;
}

static void read_by(struct ind_loader *loader, const struct ind_node *value, struct ind_alert_rule *rule)
{
    enum { MOST = 8 };
    char text[MOST * 210], names[MOST * 210];
    struct ind_buffer whole = ind_buffer_on(text, sizeof text), list = ind_buffer_on(names, sizeof names);
    struct ind_mistake mistake = {0};
    const bool many = value->kind == IND_NODE_LIST;
    const size_t count = many ? value->part_count : 1;
    if (count == 0 || count > MOST) {
        ind_wrong(loader, value, "\"by\" names 1 to %d fields", MOST);
        return;
    }
    for (size_t i = 0; i < count; i++)
        if (!add_key(loader, many ? value->parts[i] : value, &whole, &list))
            return;
    struct ind_template *template = ind_keep_room(loader, sizeof *template);
    const char *kept = ind_keep(loader, ind_buffer_view(&whole));
    rule->by_text = ind_keep(loader, ind_buffer_view(&list));
    if (template && kept && rule->by_text &&
        ind_template_read(ind_slice_of(kept), IND_TEMPLATE_LINE, template, &mistake))
        rule->by = template;
}

/* ---- When it is over ---- */

static void read_over_when(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_alert_rule *rule = into;
    rule->over = IND_OVER_WHEN;
    rule->over_text = ind_read_when(loader, value, false, &rule->over_when);
}

static void read_over(struct ind_loader *loader, const struct ind_node *value, struct ind_alert_rule *rule)
{
    static const struct ind_key keys[] = {{"when", read_over_when}};
    const struct ind_slice quiet = IND_SLICE("quiet for ");
    if (value->kind == IND_NODE_MAP) {
        (void)ind_read_map(loader, value, keys, 1, rule);
        return;
    }
    if (!ind_expect_text(loader, value, "acknowledged, quiet for 30 min, or {when: CONDITION}") ||
        ind_slice_equal(value->text, IND_SLICE("acknowledged")))
        return;
    if (ind_slice_starts(value->text, quiet) &&
        ind_read_span(ind_slice_from(value->text, quiet.length), &rule->quiet) && rule->quiet >= IND_SECOND &&
        rule->quiet <= LONGEST) {
        rule->over = IND_OVER_QUIET;
        return;
    }
    ind_wrong(loader, value,
              "unknown \"%.*s\"; expected acknowledged, quiet for 30 min (from 1 s to 30 days), or "
              "{when: CONDITION}",
              IND_ARG(value->text));
}

/* Nothing of a message is known when something is told. */
static void read_not_during(struct ind_loader *loader, const struct ind_node *value,
                            struct ind_alert_rule *rule)
{
    ind_condition condition = IND_CONDITION_ALWAYS;
    const unsigned only = 1u << IND_FIELD_TIME | 1u << IND_FIELD_DAY;
    rule->not_during = ind_read_when(loader, value, false, &condition);
    if (condition != IND_CONDITION_ALWAYS &&
        ind_condition_fields(loader->config->conditions, condition) & ~only)
        ind_wrong(loader, value,
                  "\"not during\" is a condition on time and day only, such as "
                  "'day is sun and time within 02:00-04:00'; what concerns messages goes under "
                  "\"when\"");
}

/* ---- All of it ---- */

/* What goes together, and what does not. */
static void check(struct ind_loader *loader, const struct ind_node *node, const struct alert_text *text)
{
    struct ind_alert_rule *rule = text->rule;
    const bool unusual = rule->kind == IND_ALERT_UNUSUAL;
    const bool waits = rule->kind == IND_ALERT_FEWER || rule->kind == IND_ALERT_NOTHING || unusual;
    if (unusual && text->when)
        ind_wrong(
            loader, text->when,
            "\"unusual\" goes by the volumes of the catalog, which knows no conditions; leave \"when\" out");
    if (unusual && rule->by_text && strcmp(rule->by_text, "device") != 0)
        ind_wrong(loader, text->by, "\"unusual\" goes by device, or by all together; write \"by: device\"");
    if (!text->name)
        ind_wrong(loader, node, "an alert without a name; add \"name: …\"");
    if (waits && (rule->over == IND_OVER_QUIET || rule->over == IND_OVER_WHEN))
        ind_wrong(loader, text->over,
                  "this one is over when %s; leave \"over\" out, or write \"over: acknowledged\"",
                  unusual ? "an hour is usual again" : "messages come again");
    else if (waits && !text->over)
        rule->over = IND_OVER_HEARD;
    if (!text->join && rule->over != IND_OVER_ACKNOWLEDGED)
        rule->join = DEFAULT_REOPEN;
    if (!text->when && rule->kind == IND_ALERT_EACH && text->name)
        ind_wrong(loader, node, "every message would be an alert; say which: \"when: …\"");
}

static void load_alert(struct ind_loader *loader, const struct ind_node *node, struct ind_alert_rule *rule)
{
    static const struct ind_key keys[] = {{"name", keep_alert_name},
                                          {"when", read_when},
                                          {"more than", keep_more},
                                          {"fewer than", keep_fewer},
                                          {"nothing for", keep_nothing},
                                          {"unusual", keep_unusual},
                                          {"by", keep_by},
                                          {"over", keep_over},
                                          {"join within", read_join},
                                          {"remind", read_remind},
                                          {"not during", keep_not_during},
                                          {"tell", read_tell}};
    struct alert_text text = {.rule = rule};
    *rule = (struct ind_alert_rule){.name = "", .when = IND_CONDITION_ALWAYS};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    read_kind(loader, &text);
    if (text.by)
        read_by(loader, text.by, rule);
    if (text.over)
        read_over(loader, text.over, rule);
    if (text.not_during)
        read_not_during(loader, text.not_during, rule);
    check(loader, node, &text);
    for (const struct ind_alert_rule *other = loader->config->alerts.list; other < rule && text.name; other++)
        if (strcmp(other->name, rule->name) == 0)
            ind_wrong(loader, text.name, "the alert \"%s\" appears twice; give this one another name",
                      rule->name);
}

void ind_load_alerts(struct ind_loader *loader)
{
    struct ind_alert_rules *alerts = &loader->config->alerts;
    const size_t count = loader->alert_count < IND_MOST_ALERTS ? loader->alert_count : IND_MOST_ALERTS;
    if (loader->alert_count > IND_MOST_ALERTS)
        ind_wrong(loader, loader->alerts[count], "%d alerts at most", IND_MOST_ALERTS);
    alerts->list = ind_keep_room(loader, (count + 1) * sizeof *alerts->list);
    for (size_t i = 0; alerts->list && i < count; i++) {
        load_alert(loader, loader->alerts[i], &alerts->list[i]);
        alerts->count++;
    }
}

/* ---- For people ---- */

const struct ind_alert_rule *ind_config_alert(const struct ind_config *config, const char *name)
{
    for (size_t i = 0; i < config->alerts.count; i++)
        if (strcmp(config->alerts.list[i].name, name) == 0)
            return &config->alerts.list[i];
    return NULL;
}

void ind_alert_describe(const struct ind_alert_rule *rule, struct ind_buffer *buffer)
{
    static const char *const reasons[] = {"each message", "more than ", "fewer than ", "nothing for ",
                                          "an hour's volume that is unusual"};
    ind_buffer_text(buffer, reasons[rule->kind]);
    if (rule->kind == IND_ALERT_MORE || rule->kind == IND_ALERT_FEWER) {
        ind_buffer_number(buffer, rule->number);
        ind_buffer_text(buffer, " in ");
    }
    if (rule->span)
        ind_span_write_short(buffer, rule->span / IND_SECOND);
    if (rule->by_text) {
        ind_buffer_text(buffer, " by ");
        ind_buffer_text(buffer, rule->by_text);
    }
    ind_buffer_text(buffer, ", over ");
    if (rule->over == IND_OVER_QUIET) {
        ind_buffer_text(buffer, "when quiet for ");
        ind_span_write_short(buffer, rule->quiet / IND_SECOND);
    } else if (rule->over == IND_OVER_WHEN) {
        ind_buffer_text(buffer, "when ");
        ind_buffer_text(buffer, rule->over_text);
    } else {
        ind_buffer_text(buffer, rule->kind == IND_ALERT_UNUSUAL && rule->over == IND_OVER_HEARD
                                    ? "when an hour is usual again"
                                : rule->over == IND_OVER_HEARD ? "when heard again"
                                                               : "when acknowledged");
    }
}
