#include "cli/status_tls.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/table.h"
#include "net/tls_session.h"

/* With the port that it has. */
static const char *name_of(const json_t *listener)
{
    return ind_answer_text(listener, json_object_get(listener, "at") ? "at" : "listener");
}

static uint64_t sum_of(const json_t *numbers)
{
    uint64_t sum = 0;
    const char *key;
    const json_t *number;
    json_object_foreach((json_t *)(uintptr_t)numbers, key, number) sum +=
        (uint64_t)json_integer_value(number);
    return sum;
}

/* The text of a reason by its key; the key itself where it is of another version. */
static const char *reason_text(const char *key)
{
    for (int i = 0; i < IND_TLS_FAILURES; i++)
        if (strcmp(ind_tls_failure_key((enum ind_tls_failure)i), key) == 0)
            return ind_tls_failure_text((enum ind_tls_failure)i);
    return key;
}

static void show_failures(const json_t *listener)
{
    const char *key;
    const json_t *count, *failed = json_object_get(listener, "handshakes_failed");
    char number[32];
    json_object_foreach((json_t *)(uintptr_t)failed, key, count)
        printf("%s: %s failed: %s\n", name_of(listener),
               ind_grouped((uint64_t)json_integer_value(count), number), reason_text(key));
}

static void show_ends(const json_t *listener, ind_time now)
{
    const json_t *end;
    size_t i;
    json_array_foreach(json_object_get(listener, "certificates"), i, end)
    {
        ind_time time = ind_answer_time(end, "ends");
        if (ind_tls_expires_soon(time, now))
            printf("%s: %s of \"%s\" (%s) %s on %.10s\n", name_of(listener),
                   strcmp(ind_answer_text(end, "file"), "revoked") == 0 ? "the revocation list"
                                                                        : "the certificate",
                   ind_answer_text(end, "name"), ind_answer_text(end, "file"),
                   time <= now ? "has expired" : "expires", ind_answer_text(end, "ends"));
    }
}

static void show_peers(const json_t *peers, size_t most)
{
    static const struct ind_column columns[] = {
        {"certificate", false}, {"last from", false}, {"handshakes", true}, {"last", false}};
    struct ind_table *table = ind_table_new(columns, 4);
    const json_t *peer;
    size_t i;
    json_array_foreach(peers, i, peer)
    {
        char last[24];
        if (most && i == most)
            break;
        snprintf(last, sizeof last, "%.19sZ", ind_answer_text(peer, "last"));
        ind_table_text(table, ind_answer_text(peer, "certificate"));
        ind_table_text(table, ind_answer_text(peer, "sender"));
        ind_table_number(table, ind_answer_number(peer, "handshakes"));
        ind_table_text(table, last);
    }
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    if (most && json_array_size(peers) > most)
        printf("and %zu more: --top 0 shows all\n", json_array_size(peers) - most);
}

void ind_show_tls(const json_t *status, size_t most)
{
    const json_t *listener, *peers = json_object_get(status, "certificates");
    ind_time now = ind_answer_time(status, "now");
    bool any = false;
    size_t i;
    json_array_foreach(json_object_get(status, "listeners"), i, listener)
    {
        char number[2][32];
        if (!json_object_get(listener, "handshakes"))
            continue;
        if (!any)
            printf("\n%sTLS%s\n", ind_colour() ? IND_BOLD : "", ind_colour() ? IND_PLAIN : "");
        any = true;
        uint64_t shaken = ind_answer_number(listener, "handshakes");
        printf("%s: %s handshake%s, %s failed\n", name_of(listener), ind_grouped(shaken, number[0]),
               shaken == 1 ? "" : "s",
               ind_grouped(sum_of(json_object_get(listener, "handshakes_failed")), number[1]));
        show_failures(listener);
        show_ends(listener, now);
    }
    if (json_array_size(peers) > 0)
        show_peers(peers, most);
}
