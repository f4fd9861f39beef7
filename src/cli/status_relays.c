#include "cli/status_relays.h"

#include "cli/cli.h"
#include "cli/status_view.h"

#include <stdio.h>
#include <string.h>

bool ind_relay_is_cut_off(const json_t *relay)
{
    const json_t *target, *targets = json_object_get(relay, "targets");
    size_t i;
    json_array_foreach(targets, i,
                       target) if (strcmp(ind_answer_text(target, "state"), "down") != 0) return false;
    return json_array_size(targets) > 0;
}

bool ind_relay_has_lost(const json_t *relay)
{
    return ind_answer_number(relay, "given_up") + ind_answer_number(relay, "not_taken") +
               ind_answer_number(relay, "looped") + ind_answer_number(relay, "damaged") >
           0;
}

bool ind_relay_lags(const json_t *relay)
{
    return !ind_relay_is_cut_off(relay) && ind_answer_number(relay, "oldest_seconds") > 60;
}

static void span_of(uint64_t seconds, char text[40])
{
    ind_status_span((int64_t)seconds * IND_SECOND, text);
}

/* Only what is out of the ordinary. */
static void show_details(const json_t *relay)
{
    static const struct {
        const char *key, *what;
    } details[] = {
        {"found", "waited on disk when it began"},
        {"sent_again", "were sent once more, and may have come twice"},
        {"given_up", "were given up: the space for what waits was used up"},
        {"not_taken", "were not taken: there was no room for them"},
        {"looped", "were not taken: they had been passed on too often, in a circle"},
        {"damaged", "could not be read from disk again"},
    };
    char number[32];
    for (size_t i = 0; i < sizeof details / sizeof *details; i++)
        if (ind_answer_number(relay, details[i].key))
            printf("%s: %s %s\n", ind_answer_text(relay, "relay"),
                   ind_grouped(ind_answer_number(relay, details[i].key), number), details[i].what);
    if (*ind_answer_text(relay, "disk"))
        printf("%s: its queue on disk takes nothing: %s\n", ind_answer_text(relay, "relay"),
               ind_answer_text(relay, "disk"));
}

static void add_target(struct ind_table *table, const json_t *relay, const json_t *target)
{
    char span[40], state[64];
    span_of(ind_answer_number(target, "for_seconds"), span);
    const char *word = ind_answer_text(target, "state");
    if (strcmp(word, "not tried") == 0)
        snprintf(state, sizeof state, "%s", word);
    else
        snprintf(state, sizeof state, "%s for %s", word, span);
    ind_table_text(table, ind_answer_text(relay, "relay"));
    ind_table_text(table, ind_answer_text(target, "target"));
    ind_table_text(table, state);
    ind_table_number(table, ind_answer_number(target, "sent"));
    ind_table_number(table, ind_answer_number(target, "sent_again"));
    ind_table_text(table, ind_answer_text(target, "reason"));
}

static void show_waiting(const json_t *relays)
{
    static const struct ind_column columns[] = {{"relay", false},   {"taken", true}, {"sent", true},
                                                {"waiting", true},  {"size", false}, {"oldest", false},
                                                {"on disk", false}, {"of", false}};
    struct ind_table *table = ind_table_new(columns, 8);
    const json_t *relay;
    char span[40];
    size_t i;
    json_array_foreach(relays, i, relay)
    {
        const bool waits = ind_answer_number(relay, "waiting") > 0;
        span_of(ind_answer_number(relay, "oldest_seconds"), span);
        ind_table_text(table, ind_answer_text(relay, "relay"));
        ind_table_number(table, ind_answer_number(relay, "taken"));
        ind_table_number(table, ind_answer_number(relay, "sent"));
        ind_table_number(table, ind_answer_number(relay, "waiting"));
        ind_table_size(table, ind_answer_number(relay, "waiting_bytes"));
        ind_table_text(table, waits ? span : "-");
        ind_table_size(table, ind_answer_number(relay, "disk_bytes"));
        ind_table_size(table, ind_answer_number(relay, "space"));
    }
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

static void show_targets(const json_t *relays)
{
    static const struct ind_column columns[] = {{"relay", false}, {"target", false},    {"state", false},
                                                {"sent", true},   {"sent again", true}, {"because", false}};
    struct ind_table *table = ind_table_new(columns, 6);
    const json_t *relay, *target;
    size_t i, n;
    json_array_foreach(relays, i, relay) json_array_foreach(json_object_get(relay, "targets"), n, target)
        add_target(table, relay, target);
    printf("\n");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

void ind_show_takers(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"listener", false}, {"group", false},   {"state", false},          {"messages", true},
        {"batches", true},   {"left out", true}, {"delivered again", true}, {"because", false}};
    const json_t *takers = json_object_get(status, "taken_from"), *taker;
    size_t i;
    if (json_array_size(takers) == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 8);
    json_array_foreach(takers, i, taker)
    {
        ind_table_text(table, ind_answer_text(taker, "listener"));
        ind_table_text(table, ind_answer_text(taker, "group"));
        ind_table_text(table, ind_answer_text(taker, "state"));
        ind_table_number(table, ind_answer_number(taker, "messages"));
        ind_table_number(table, ind_answer_number(taker, "batches"));
        ind_table_number(table, ind_answer_number(taker, "repeated"));
        ind_table_number(table, ind_answer_number(taker, "delivered_again"));
        ind_table_text(table, ind_answer_text(taker, "reason"));
    }
    ind_status_heading("Taken from message systems, stored and acknowledged");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

bool ind_taker_is_down(const json_t *taker)
{
    return strcmp(ind_answer_text(taker, "state"), "up") != 0;
}

void ind_show_relays(const json_t *status)
{
    const json_t *relays = json_object_get(status, "relays"), *relay;
    size_t i;
    if (json_array_size(relays) == 0)
        return;
    ind_status_heading("Passed on by the relays");
    show_waiting(relays);
    json_array_foreach(relays, i, relay) show_details(relay);
    show_targets(relays);
}
