#include "cli/status_view.h"

#include "cli/cli.h"
#include "cli/table.h"
#include "cli/terminal.h"

#include <stdlib.h>
#include <string.h>

void ind_status_forms(const json_t *device, char *text, size_t room)
{
    const char *name, *between = "";
    json_t *forms = json_object_get(device, "formats"), *count;
    struct ind_buffer out = ind_buffer_on(text, room - 1);
    uint64_t all = 0;
    json_object_foreach(forms, name, count) all += (uint64_t)json_integer_value(count);
    json_object_foreach(forms, name, count)
    {
        uint64_t some = (uint64_t)json_integer_value(count);
        if (some == 0)
            continue;
        ind_buffer_text(&out, between);
        ind_buffer_text(&out, name);
        if (some < all) {
            ind_buffer_byte(&out, ' ');
            ind_buffer_number(&out, some);
        }
        between = ", ";
    }
    ind_buffer_text(&out, all ? "" : "-");
    text[out.length] = '\0';
}

/* A device with what is wrong with it. */
struct shown {
    const json_t *device;
    uint64_t lost;
    bool silent, clock;
};

static int worst_first(const void *one, const void *other)
{
    const struct shown *a = one, *b = other;
    if (a->lost != b->lost)
        return a->lost < b->lost ? 1 : -1;
    if (a->silent != b->silent)
        return a->silent ? -1 : 1;
    if (a->clock != b->clock)
        return a->clock ? -1 : 1;
    uint64_t received_a = ind_answer_number(a->device, "received"),
             received_b = ind_answer_number(b->device, "received");
    if (received_a != received_b)
        return received_a < received_b ? 1 : -1;
    return strcmp(ind_answer_text(a->device, "device"), ind_answer_text(b->device, "device"));
}

static int by_name(const void *one, const void *other)
{
    return strcmp(*(const char *const *)one, *(const char *const *)other);
}

/* Those that have sent, and those that never have. New, with *count of them. */
static struct shown *list_devices(const json_t *status, size_t *count)
{
    const json_t *devices = json_object_get(status, "devices"),
                 *silent = json_object_get(status, "silent_devices"), *device;
    size_t i, silent_count = json_array_size(silent);
    struct shown *list = calloc(json_array_size(devices) + silent_count + 1, sizeof *list);
    const char **names = calloc(silent_count + 1, sizeof *names);
    *count = 0;
    json_array_foreach(silent, i, device) if (names) names[i] = ind_answer_text(device, "device");
    if (names)
        qsort(names, silent_count, sizeof *names, by_name);
    json_array_foreach(devices, i, device) if (list && names)
    {
        const char *name = ind_answer_text(device, "device");
        list[(*count)++] = (struct shown){device, ind_status_lost(device),
                                          bsearch(&name, names, silent_count, sizeof *names, by_name) != NULL,
                                          ind_status_has_wrong_clock(device)};
    }
    json_array_foreach(silent, i, device) if (list && !json_object_get(device, "last")) list[(*count)++] =
        (struct shown){.device = device, .silent = true};
    free((void *)(uintptr_t)names);
    if (list)
        qsort(list, *count, sizeof *list, worst_first);
    return list;
}

/* "12 lost, silent, clock 5 h 00 min behind". */
static void trouble_text(const struct shown *shown, char *text, size_t room)
{
    char number[32];
    struct ind_buffer out = ind_buffer_on(text, room - 1);
    if (shown->lost) {
        ind_buffer_text(&out, ind_grouped(shown->lost, number));
        ind_buffer_text(&out, " lost");
    }
    if (shown->silent) {
        ind_buffer_text(&out, out.length ? ", " : "");
        ind_buffer_text(&out, json_object_get(shown->device, "last") ? "silent" : "silent since the start");
    }
    if (shown->clock) {
        const char *clock = ind_answer_text(shown->device, "clock");
        ind_buffer_text(&out, out.length ? ", clock " : "clock ");
        ind_buffer_slice(&out, (struct ind_slice){clock, strcspn(clock, ":")});
    }
    ind_buffer_text(&out, out.length ? "" : "-");
    text[out.length] = '\0';
}

void ind_show_devices(const json_t *status, size_t most)
{
    static const struct ind_column columns[] = {
        {"device", false},   {"received", true},      {"stored", true},  {"dropped", true},
        {"malformed", true}, {"last message", false}, {"format", false}, {"trouble", false}};
    size_t count;
    struct shown *list = list_devices(status, &count);
    struct ind_table *table = ind_table_new(columns, 8);
    char text[160];
    for (size_t i = 0; list && i < count && (most == 0 || i < most); i++) {
        const json_t *device = list[i].device;
        char last[48];
        ind_table_text(table, ind_answer_text(device, "device"));
        ind_table_number(table, ind_answer_number(device, "received"));
        ind_table_number(table, ind_answer_number(device, "stored"));
        ind_table_number(table, ind_answer_number(device, "dropped"));
        ind_table_number(table, ind_answer_number(device, "malformed"));
        ind_status_ago(status, device, last);
        ind_table_text(table, last);
        ind_status_forms(device, text, sizeof text);
        ind_table_text(table, text);
        trouble_text(&list[i], text, sizeof text);
        ind_table_text(table, text);
    }
    ind_status_heading("Devices, those with trouble first");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    free(list);
    if (most > 0 && count > most)
        printf("and %zu more: --top 0 shows all\n", count - most);
}

/* A name as YAML can have it bare: as the configuration wants names of devices anyway. */
static void print_name(const char *name)
{
    for (; *name; name++)
        putchar(ind_is_alpha(*name) || ind_is_digit(*name) || strchr("-_.", *name) ? *name : '_');
}

static void print_device(const json_t *stranger)
{
    enum { LIKE_A_RELAY = 3 };
    const json_t *hosts = json_object_get(stranger, "hosts");
    bool relay = json_array_size(hosts) >= LIKE_A_RELAY,
         v6 = strchr(ind_answer_text(stranger, "sender"), ':') != NULL;
    printf("  - name: ");
    if (!relay && json_array_size(hosts) > 0)
        print_name(json_string_value(json_array_get(hosts, 0)));
    else
        printf("%s-", relay ? "relay" : "device");
    if (relay || json_array_size(hosts) == 0)
        print_name(ind_answer_text(stranger, "sender"));
    printf("\n    address: %s%s%s\n", v6 ? "\"" : "", ind_answer_text(stranger, "sender"), v6 ? "\"" : "");
    if (relay)
        printf("    relay: yes                 # it speaks for several: %s, %s, %s…\n",
               json_string_value(json_array_get(hosts, 0)), json_string_value(json_array_get(hosts, 1)),
               json_string_value(json_array_get(hosts, 2)));
}

/* Names of configured devices are not theirs: unless it is a relay, something is wrong. */
static void show_claims(const json_t *stranger)
{
    const json_t *claims = json_object_get(stranger, "claims"), *claim;
    size_t i;
    json_array_foreach(claims, i, claim)
    {
        const char *at = ind_answer_text(claim, "configured_at");
        printf("    calls itself ");
        print_name(ind_answer_text(claim, "device"));
        printf(", which is configured%s%s: filed as its own\n", *at ? " at " : "", at);
    }
}

void ind_show_strangers(const json_t *status, size_t most)
{
    const json_t *strangers = json_object_get(status, "unknown_senders"), *stranger;
    char number[32], last[48];
    bool refused = false;
    size_t i, count = json_array_size(strangers);
    size_t shown = most > 0 && count > most ? most : count;
    if (count == 0)
        return;
    ind_status_heading("Unknown senders");
    json_array_foreach(strangers, i, stranger)
    {
        if (i == shown)
            break;
        ind_status_ago(status, stranger, last);
        printf("%s: %s message%s, the last %s%s\n", ind_answer_text(stranger, "sender"),
               ind_grouped(ind_answer_number(stranger, "received"), number),
               ind_answer_number(stranger, "received") == 1 ? "" : "s", last,
               json_is_true(json_object_get(stranger, "refused")) ? "; refused: not under allow:" : "");
        refused |= json_is_true(json_object_get(stranger, "refused"));
        show_claims(stranger);
    }
    if (shown < count)
        printf("and %zu more: --top 0 shows all\n", count - shown);
    printf("To know them, add to the configuration%s, then send the collector a SIGHUP:\n\ndevices:\n",
           refused ? " (and the refused ones' networks to allow:)" : "");
    json_array_foreach(strangers, i, stranger)
    {
        if (i == shown)
            break;
        print_device(stranger);
    }
}
