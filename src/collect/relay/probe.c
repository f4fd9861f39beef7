#include "collect/relay/probe.h"

#include "core/base/fingerprint.h"

#include <curl/curl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define HOST "{host}"

void ind_probe_begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

static size_t pass_over(char *bytes, size_t size, size_t count, void *context)
{
    (void)bytes;
    (void)context;
    return size * count;
}

static int look_for_stop(void *context, curl_off_t all, curl_off_t now, curl_off_t all_up, curl_off_t now_up)
{
    struct pollfd poller = {*(const int *)context, POLLIN, 0};
    (void)all;
    (void)now;
    (void)all_up;
    (void)now_up;
    return poller.fd >= 0 && poll(&poller, 1, 0) > 0;
}

/* The address with the target's host in it; "" where it is of another target. */
static void address_for(const struct ind_relay_rule *rule, unsigned target, char *address, size_t room)
{
    const char *place = strstr(rule->probe, HOST), *host = rule->targets[target].host;
    if (place) {
        const bool six = strchr(host, ':') != NULL;
        snprintf(address, room, "%.*s%s%s%s%s", (int)(place - rule->probe), rule->probe, six ? "[" : "", host,
                 six ? "]" : "", place + sizeof HOST - 1);
        return;
    }
    CURLU *url = curl_url();
    char *named = NULL;
    bool other = false, own = false;
    if (url && curl_url_set(url, CURLUPART_URL, rule->probe, 0) == CURLUE_OK &&
        curl_url_get(url, CURLUPART_HOST, &named, 0) == CURLUE_OK)
        for (unsigned i = 0; i < rule->target_count; i++) {
            const bool same = strcmp(named, rule->targets[i].host) == 0;
            own |= same && strcmp(rule->targets[i].host, host) == 0;
            other |= same && strcmp(rule->targets[i].host, host) != 0;
        }
    curl_free(named);
    curl_url_cleanup(url);
    snprintf(address, room, "%s", other && !own ? "" : rule->probe);
}

bool ind_probe(const struct ind_relay_rule *rule, unsigned target, int stop, char *reason, size_t room)
{
    enum { SECONDS = 5, ADDRESS = 2048 };
    char address[ADDRESS], detail[CURL_ERROR_SIZE] = "";
    long status = 0;
    if (!rule->probe)
        return true;
    address_for(rule, target, address, sizeof address);
    if (!address[0])
        return true;
    CURL *curl = curl_easy_init();
    if (!curl) {
        snprintf(reason, room, "out of memory");
        return false;
    }
    (void)curl_easy_setopt(curl, CURLOPT_URL, address);
    (void)curl_easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "http,https");
    (void)curl_easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
    (void)curl_easy_setopt(curl, CURLOPT_PROXY, "");
    (void)curl_easy_setopt(curl, CURLOPT_TIMEOUT, (long)SECONDS);
    (void)curl_easy_setopt(curl, CURLOPT_MAXFILESIZE, 1L << 20);
    (void)curl_easy_setopt(curl, CURLOPT_WRITEFUNCTION, pass_over);
    (void)curl_easy_setopt(curl, CURLOPT_ERRORBUFFER, detail);
    (void)curl_easy_setopt(curl, CURLOPT_NOPROGRESS, 0L);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFOFUNCTION, look_for_stop);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFODATA, &stop);
    struct ind_fingerprint fingerprint;
    if (rule->trust && !ind_fingerprint_read(ind_slice_of(rule->trust), &fingerprint))
        (void)curl_easy_setopt(curl, CURLOPT_CAINFO, rule->trust);
    const CURLcode code = curl_easy_perform(curl);
    (void)curl_easy_getinfo(curl, CURLINFO_RESPONSE_CODE, &status);
    curl_easy_cleanup(curl);
    if (code == CURLE_OK && status == 200)
        return true;
    if (code == CURLE_OK)
        snprintf(reason, room, "its probe answers %ld, not 200", status);
    else
        snprintf(reason, room, "its probe does not answer: %s", *detail ? detail : curl_easy_strerror(code));
    return false;
}
