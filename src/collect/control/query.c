#include "collect/control/query.h"

#include "config/quantity.h"
#include "core/base/slice.h"

#include <stdlib.h>
#include <string.h>

#define LONGEST_MUTE (UINT64_C(366) * 86400 * 1000)
enum { LONGEST_PAUSE = 3600 * 1000 }; /* milliseconds */

static bool read_pair(struct ind_pause_query *query, const struct evkeyval *pair)
{
    uint64_t milliseconds;
    if (strcmp(pair->key, "listener") == 0 && query->count < IND_QUERY_LISTENERS) {
        query->listeners[query->count++] = pair->value;
        return true;
    }
    if (strcmp(pair->key, "after") != 0 ||
        !ind_read_count(ind_slice_of(pair->value), 0, LONGEST_PAUSE, &milliseconds))
        return false;
    query->after = (int64_t)milliseconds * 1000000;
    return true;
}

bool ind_pause_query_read(const char *text, struct ind_pause_query *query, const char **reason)
{
    struct evkeyval *pair;
    *query = (struct ind_pause_query){0};
    *reason = "this query cannot be read\n";
    if (evhttp_parse_query_str(text ? text : "", &query->pairs) != 0)
        return false;
    TAILQ_FOREACH(pair, &query->pairs, next)
    {
        if (read_pair(query, pair))
            continue;
        *reason = "there are \"listener\" and \"after\", in milliseconds\n";
        evhttp_clear_headers(&query->pairs);
        return false;
    }
    return true;
}

void ind_pause_query_clear(struct ind_pause_query *query)
{
    evhttp_clear_headers(&query->pairs);
}

static bool read_protect_pair(struct ind_protect_query *query, const struct evkeyval *pair)
{
    const bool is_archive = strcmp(pair->key, "archive") == 0, is_off = strcmp(pair->key, "off") == 0;
    if (is_archive && query->count < IND_QUERY_LISTENERS)
        query->archives[query->count++] = pair->value;
    else if (is_off)
        query->off = strcmp(pair->value, "1") == 0;
    else if (!is_archive && strcmp(pair->key, "why") == 0)
        query->why = pair->value;
    else
        return false;
    return true;
}

bool ind_protect_query_read(const char *text, struct ind_protect_query *query)
{
    struct evkeyval *pair;
    bool good = true;
    *query = (struct ind_protect_query){0};
    if (evhttp_parse_query_str(text ? text : "", &query->pairs) != 0)
        return false;
    TAILQ_FOREACH(pair, &query->pairs, next)
    good = good && read_protect_pair(query, pair);
    if (good && query->count)
        return true;
    evhttp_clear_headers(&query->pairs);
    return false;
}

void ind_protect_query_clear(struct ind_protect_query *query)
{
    evhttp_clear_headers(&query->pairs);
}

static bool read_alert_pair(struct ind_alert_query *query, const struct evkeyval *pair)
{
    const struct {
        const char *name, **to;
    } texts[] = {
        {"alert", &query->alert}, {"key", &query->key}, {"who", &query->who}, {"note", &query->note}};
    uint64_t milliseconds;
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++)
        if (strcmp(pair->key, texts[i].name) == 0) {
            *texts[i].to = pair->value;
            return true;
        }
    if (strcmp(pair->key, "for") != 0 ||
        !ind_read_count(ind_slice_of(pair->value), 0, LONGEST_MUTE, &milliseconds))
        return false;
    query->span = (int64_t)milliseconds * 1000000;
    return true;
}

bool ind_alert_query_read(const char *text, struct ind_alert_query *query)
{
    struct evkeyval *pair;
    bool good = true;
    *query = (struct ind_alert_query){0};
    if (evhttp_parse_query_str(text ? text : "", &query->pairs) != 0)
        return false;
    TAILQ_FOREACH(pair, &query->pairs, next)
    good = good && read_alert_pair(query, pair);
    if (good && query->alert)
        return true;
    evhttp_clear_headers(&query->pairs);
    return false;
}

void ind_alert_query_clear(struct ind_alert_query *query)
{
    evhttp_clear_headers(&query->pairs);
}

char *ind_query_value(const char *text, const char *key)
{
    struct evkeyvalq pairs;
    if (!text || evhttp_parse_query_str(text, &pairs) != 0)
        return NULL;
    const char *value = evhttp_find_header(&pairs, key);
    char *copy = value ? strdup(value) : NULL;
    evhttp_clear_headers(&pairs);
    return copy;
}

bool ind_query_wants(const char *text, const char *key)
{
    char *value = ind_query_value(text, key);
    bool wanted = value && strcmp(value, "1") == 0;
    free(value);
    return wanted;
}
