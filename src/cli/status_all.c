#include "cli/status_all.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/grown.h"
#include "cli/status_view.h"

#include <curl/curl.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_COLLECTORS = 256, SECONDS = 10, ANSWER_BYTES = 256 << 20 };

static size_t take(char *bytes, size_t size, size_t count, void *context)
{
    struct ind_grown *answer = context;
    const size_t length = size * count;
    const bool good = answer->length + length < ANSWER_BYTES && ind_grown_add(answer, bytes, length);
    return good ? length : 0;
}

/* New; NULL where it does not answer, which is told. */
static json_t *fetch(const char *url)
{
    char whole[2048], detail[CURL_ERROR_SIZE] = "";
    long status = 0;
    struct ind_grown answer = {0};
    const char *host = strstr(url, "://");
    snprintf(whole, sizeof whole, "%s%s", url, host && strchr(host + 3, '/') ? "" : "/status");
    CURL *curl = curl_easy_init();
    if (!curl)
        return NULL;
    (void)curl_easy_setopt(curl, CURLOPT_URL, whole);
    (void)curl_easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "http,https");
    (void)curl_easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
    (void)curl_easy_setopt(curl, CURLOPT_TIMEOUT, (long)SECONDS);
    (void)curl_easy_setopt(curl, CURLOPT_WRITEFUNCTION, take);
    (void)curl_easy_setopt(curl, CURLOPT_WRITEDATA, &answer);
    (void)curl_easy_setopt(curl, CURLOPT_ERRORBUFFER, detail);
    const CURLcode code = curl_easy_perform(curl);
    (void)curl_easy_getinfo(curl, CURLINFO_RESPONSE_CODE, &status);
    curl_easy_cleanup(curl);
    json_t *object = code == CURLE_OK && status == 200 ? json_loadb(answer.at, answer.length, 0, NULL) : NULL;
    if (code != CURLE_OK)
        ind_complain("%s: %s", whole, *detail ? detail : curl_easy_strerror(code));
    else if (!object)
        ind_complain("%s: it answers %ld, with no status; give the address under serve: of a collector",
                     whole, status);
    free(answer.at);
    return object;
}

static void add_collector(struct ind_table *table, const char *url, const json_t *status)
{
    const json_t *ledger = json_object_get(status, "ledger");
    const size_t bad = json_array_size(json_object_get(status, "not_well"));
    ind_table_text(table, url);
    ind_table_text(table, !status ? "no answer" : bad ? "not well" : "well");
    ind_table_number(table, ind_answer_number(ledger, "received"));
    ind_table_number(table, ind_answer_number(ledger, "stored"));
    ind_table_number(table, ind_answer_number(ledger, "handed_on"));
    ind_table_number(table, ind_status_lost(ledger));
    ind_table_number(table, ind_answer_number(ledger, "waiting"));
}

static void show_collectors(const char *const *urls, json_t *const *status, size_t count, bool json)
{
    static const struct ind_column columns[] = {{"collector", false}, {"state", false},    {"received", true},
                                                {"stored", true},     {"handed on", true}, {"lost", true},
                                                {"waiting", true}};
    struct ind_table *table = ind_table_new(columns, 7);
    for (size_t i = 0; i < count; i++)
        add_collector(table, urls[i], status[i]);
    ind_table_print(table, json, stdout);
    ind_table_free(table);
}

/* What all filers have stored of an origin. */
static uint64_t stored_of(const char *origin, json_t *const *status, size_t count)
{
    uint64_t messages = 0;
    for (size_t i = 0; i < count; i++) {
        const json_t *taker, *one;
        size_t n, o;
        json_array_foreach(json_object_get(status[i], "taken_from"), n, taker)
            json_array_foreach(json_object_get(taker, "origins"), o,
                               one) if (strcmp(ind_answer_text(one, "origin"), origin) == 0) messages +=
            ind_answer_number(one, "messages");
    }
    return messages;
}

static bool is_published(const json_t *relay)
{
    const json_t *first = json_array_get(json_object_get(relay, "targets"), 0);
    return strncmp(ind_answer_text(first, "target"), "nats://", 7) == 0;
}

static void add_origin(struct ind_table *table, const char *url, const json_t *relay, json_t *const *status,
                       size_t count)
{
    const uint64_t sent = ind_answer_number(relay, "sent"),
                   stored = stored_of(ind_answer_text(relay, "origin"), status, count);
    ind_table_text(table, ind_answer_text(relay, "origin"));
    ind_table_text(table, url);
    ind_table_text(table, ind_answer_text(relay, "relay"));
    ind_table_number(table, ind_answer_number(relay, "waiting"));
    ind_table_number(table, sent);
    ind_table_number(table, stored);
    ind_table_number(table, sent > stored ? sent - stored : 0);
    ind_table_number(table, stored > sent ? stored - sent : 0);
}

static bool show_origins(const char *const *urls, json_t *const *status, size_t count, bool json)
{
    static const struct ind_column columns[] = {{"origin", false}, {"collector", false}, {"relay", false},
                                                {"waiting", true}, {"sent", true},       {"stored", true},
                                                {"between", true}, {"more", true}};
    struct ind_table *table = ind_table_new(columns, 8);
    bool any = false;
    for (size_t i = 0; i < count; i++) {
        const json_t *relay;
        size_t n;
        json_array_foreach(json_object_get(status[i], "relays"), n, relay)
        {
            if (!is_published(relay))
                continue;
            any = true;
            add_origin(table, urls[i], relay, status, count);
        }
    }
    if (any && !json)
        ind_status_heading("Passed on through a message system, and stored by those who take from it");
    if (any)
        ind_table_print(table, json, stdout);
    ind_table_free(table);
    return any;
}

int ind_status_all(const char *const *urls, bool json)
{
    json_t *status[MOST_COLLECTORS];
    size_t count = 0;
    bool whole = true;
    for (; urls[count]; count++) {
        if (count == MOST_COLLECTORS) {
            ind_complain("status --all: %d collectors at most", MOST_COLLECTORS);
            whole = false;
            break;
        }
        status[count] = fetch(urls[count]);
        whole &= status[count] != NULL;
    }
    show_collectors(urls, status, count, json);
    if (show_origins(urls, status, count, json) && !json)
        printf("Counts are since the start of each: \"between\" is in the message system, or was stored "
               "before a "
               "start;\n\"more\" came twice, or was sent before a start.\n");
    for (size_t i = 0; i < count; i++)
        json_decref(status[i]);
    return whole ? IND_EXIT_DONE : IND_EXIT_FAILED;
}
