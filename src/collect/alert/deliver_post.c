/* An object to an HTTP address, by libcurl. */
#include "collect/alert/courier.h"
#include "collect/alert/deliver_private.h"

#include <stdio.h>
#include <string.h>

enum { SECONDS = 60, CONNECT_SECONDS = 10 };

void ind_courier_begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

static int look_for_stop(void *context, curl_off_t all, curl_off_t now, curl_off_t all_up, curl_off_t now_up)
{
    (void)all;
    (void)now;
    (void)all_up;
    (void)now_up;
    return atomic_load((atomic_bool *)context);
}

static size_t pass_over(char *bytes, size_t size, size_t count, void *context)
{
    (void)bytes;
    (void)context;
    return size * count;
}

CURL *ind_deliver_curl(atomic_bool *stop)
{
    CURL *curl = curl_easy_init();
    if (!curl)
        return NULL;
    (void)curl_easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
    (void)curl_easy_setopt(curl, CURLOPT_PROXY, "");
    (void)curl_easy_setopt(curl, CURLOPT_TIMEOUT, (long)SECONDS);
    (void)curl_easy_setopt(curl, CURLOPT_CONNECTTIMEOUT, (long)CONNECT_SECONDS);
    (void)curl_easy_setopt(curl, CURLOPT_MAXFILESIZE, 1L << 20);
    (void)curl_easy_setopt(curl, CURLOPT_WRITEFUNCTION, pass_over);
    (void)curl_easy_setopt(curl, CURLOPT_NOPROGRESS, 0L);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFOFUNCTION, look_for_stop);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFODATA, stop);
    return curl;
}

bool ind_deliver_perform(CURL *curl, char *reason, size_t room, long *status)
{
    char detail[CURL_ERROR_SIZE] = "";
    long answer = 0;
    (void)curl_easy_setopt(curl, CURLOPT_ERRORBUFFER, detail);
    const CURLcode code = curl_easy_perform(curl);
    (void)curl_easy_getinfo(curl, CURLINFO_RESPONSE_CODE, &answer);
    (void)curl_easy_setopt(curl, CURLOPT_ERRORBUFFER, NULL);
    if (status)
        *status = answer;
    if (code == CURLE_OK)
        return true;
    for (char *at = detail; *at; at++) /* the other side may have said something of it */
        if ((unsigned char)*at < ' ' || (unsigned char)*at >= 0x7f)
            *at = '?';
    snprintf(reason, room, "%s%s%s", curl_easy_strerror(code), *detail ? ": " : "", detail);
    return false;
}

/* A redirection is not followed: what is told would go to somebody whom nobody has named. */
bool ind_deliver_post(const struct ind_parcel *parcel, atomic_bool *stop, char *reason, size_t room)
{
    long status = 0;
    CURL *curl = ind_deliver_curl(stop);
    struct curl_slist *headers = curl_slist_append(NULL, "Content-Type: application/json");
    bool good = curl && headers && curl_easy_setopt(curl, CURLOPT_URL, parcel->to) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_PROTOCOLS_STR, "http,https") == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_HTTPHEADER, headers) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_POSTFIELDS, parcel->object) == CURLE_OK &&
                curl_easy_setopt(curl, CURLOPT_POSTFIELDSIZE, (long)strlen(parcel->object)) == CURLE_OK;
    if (!good)
        snprintf(reason, room, "out of memory");
    else
        good = ind_deliver_perform(curl, reason, room, &status);
    if (good && (status < 200 || status > 299)) {
        snprintf(reason, room, "it answers %ld%s", status,
                 status >= 300 && status <= 399 ? ", a redirection, which is not followed" : "");
        good = false;
    }
    curl_easy_cleanup(curl);
    curl_slist_free_all(headers);
    return good;
}
