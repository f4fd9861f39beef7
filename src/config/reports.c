/* config/reports.c: reports that are made by themselves. */
#include "config/load.h"
#include "config/tells.h"

#include <stdlib.h>

struct report_text {
    struct ind_report_rule *rule;
    const struct ind_node *name, *every, *at;
};

IND_KEEP_NODE(report_text, every)
IND_KEEP_NODE(report_text, at)

/* It is part of the name of a file. */
static bool is_file_name(struct ind_slice text)
{
    for (size_t i = 0; i < text.length; i++)
        if (!ind_is_alpha(text.at[i]) && !ind_is_digit(text.at[i]) && !strchr("-_", text.at[i]))
            return false;
    return text.length > 0 && text.length < IND_REPORT_NAME;
}

static void read_name(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct report_text *text = into;
    if (!ind_expect_text(loader, value, "the report's name"))
        return;
    text->name = value;
    text->rule->name = ind_keep(loader, value->text);
    if (!is_file_name(value->text))
        ind_wrong(loader, value,
                  "\"%.*s\" becomes part of the name of a file: write 1 to %d letters, digits, - and _",
                  IND_ARG(value->text), IND_REPORT_NAME - 1);
}

static void read_folder(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    if (ind_expect_text(loader, value, "the path of a folder"))
        ((struct report_text *)into)->rule->folder = ind_resolve_path(loader, value);
}

static void read_mail(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ((struct report_text *)into)->rule->mail = ind_read_mail_address(loader, value);
}

static void read_when(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ind_condition when;
    ((struct report_text *)into)->rule->when_text = ind_read_when(loader, value, true, &when);
}

static void read_quick(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)ind_read_yes(loader, value, &((struct report_text *)into)->rule->quick);
}

static void read_every(struct ind_loader *loader, const struct ind_node *value, struct ind_report_rule *rule)
{
    static const char *const words[] = {"day", "week", "month"};
    if (!ind_expect_text(loader, value, "day, week or month"))
        return;
    for (int i = 0; i < 3; i++)
        if (ind_slice_equal(value->text, ind_slice_of(words[i]))) {
            rule->every = (enum ind_report_every)i;
            return;
        }
    ind_wrong(loader, value, "\"%.*s\" is none of day, week and month", IND_ARG(value->text));
}

static void read_at(struct ind_loader *loader, const struct ind_node *value, struct ind_report_rule *rule)
{
    if (!ind_expect_text(loader, value, "a time of day such as \"07:00\""))
        return;
    const struct ind_slice text = value->text;
    const bool form = text.length == 5 && text.at[2] == ':' && ind_is_digit(text.at[0]) &&
                      ind_is_digit(text.at[1]) && ind_is_digit(text.at[3]) && ind_is_digit(text.at[4]);
    const unsigned hour = form ? (unsigned)((text.at[0] - '0') * 10 + text.at[1] - '0') : 24;
    const unsigned minute = form ? (unsigned)((text.at[3] - '0') * 10 + text.at[4] - '0') : 60;
    if (hour > 23 || minute > 59)
        ind_wrong(loader, value, "\"%.*s\" is no time of day; write one such as \"07:00\"", IND_ARG(text));
    else
        rule->at = (hour * 60 + minute) * 60;
}

static void load_report(struct ind_loader *loader, const struct ind_node *node, struct ind_report_rule *rule)
{
    static const struct ind_key keys[] = {{"name", read_name},     {"every", keep_every}, {"at", keep_at},
                                          {"folder", read_folder}, {"mail", read_mail},   {"when", read_when},
                                          {"quick", read_quick}};
    struct report_text text = {.rule = rule};
    *rule = (struct ind_report_rule){.name = ""};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (!text.name)
        ind_wrong(loader, node, "a report without a name; add \"name: …\"");
    if (text.every)
        read_every(loader, text.every, rule);
    else
        ind_wrong(loader, node, "how often? add \"every: day\", week or month");
    if (text.at)
        read_at(loader, text.at, rule);
    if (!rule->folder && !rule->mail && loader->diagnostics->mistakes == 0)
        ind_wrong(loader, node, "where to? add \"folder: PATH\" or \"mail: ADDRESS\"");
    for (const struct ind_report_rule *other = loader->config->reports; other < rule && text.name; other++)
        if (strcmp(other->name, rule->name) == 0)
            ind_wrong(loader, text.name, "the report \"%s\" appears twice; give this one another name",
                      rule->name);
}

void ind_load_reports(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    const size_t count = loader->report_count < IND_MOST_REPORTS ? loader->report_count : IND_MOST_REPORTS;
    if (loader->report_count > IND_MOST_REPORTS)
        ind_wrong(loader, loader->reports[count], "%d reports at most", IND_MOST_REPORTS);
    config->reports = ind_keep_room(loader, (count + 1) * sizeof *config->reports);
    for (size_t i = 0; config->reports && i < count; i++) {
        load_report(loader, loader->reports[i], &config->reports[i]);
        config->report_count++;
    }
}
