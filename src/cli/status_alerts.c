#include "cli/status_alerts.h"

#include "cli/cli.h"
#include "cli/status_view.h"

static void show_odd(const json_t *alerts, const char *member, const char *one, const char *many)
{
    char number[32];
    const uint64_t count = ind_answer_number(alerts, member);
    if (count)
        printf("%s %s\n", ind_grouped(count, number), count == 1 ? one : many);
}

void ind_show_alerts(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"told by", false}, {"state", false}, {"delivered", true}, {"waiting", true}, {"because", false}};
    const json_t *alerts = json_object_get(status, "alerts"), *ways = json_object_get(alerts, "ways"), *way;
    char open[32], seen[32];
    size_t i;
    if (!alerts)
        return;
    ind_status_heading("Alerts");
    printf("%s open, %s acknowledged\n", ind_grouped(ind_answer_number(alerts, "open"), open),
           ind_grouped(ind_answer_number(alerts, "acknowledged"), seen));
    if (json_object_get(alerts, "file"))
        printf("they cannot be saved: %s\n", ind_answer_text(alerts, "file"));
    show_odd(alerts, "held_back", "is held back", "are held back");
    show_odd(alerts, "missed", "message that concerns one came too fast to be counted",
             "messages that concern some came too fast to be counted");
    show_odd(alerts, "forgotten", "key was forgotten for want of room",
             "keys were forgotten for want of room");
    show_odd(alerts, "joined", "cause was put under \"(others)\", since too many were open",
             "causes were put under \"(others)\", since too many were open");
    struct ind_table *table = ind_table_new(columns, 5);
    json_array_foreach(ways, i, way)
    {
        ind_table_text(table, ind_answer_text(way, "way"));
        ind_table_text(table, ind_answer_text(way, "state"));
        ind_table_number(table, ind_answer_number(way, "delivered"));
        ind_table_number(table, ind_answer_number(way, "waiting"));
        ind_table_text(table, ind_answer_text(way, "reason"));
    }
    if (json_array_size(ways))
        ind_table_print(table, false, stdout);
    ind_table_free(table);
}
