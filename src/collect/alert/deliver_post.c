/* An object to an HTTP address, by libcurl. */
#include "collect/alert/courier.h"
#include "collect/alert/deliver_private.h"

#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { CONNECT_SECONDS = 10 };

void ind_courier_begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

static size_t pass_over(char *bytes, size_t size, size_t count, void *context)
{
    (void)bytes;
    (void)context;
    return size * count;
}

static curl_socket_t open_socket(void *context, curlsocktype purpose, struct curl_sockaddr *address)
{
    struct ind_delivery *delivery = context;
    (void)purpose;
    if (delivery->count == IND_DELIVERY_SOCKETS)
        return CURL_SOCKET_BAD;
    const int fd = socket(address->family, address->socktype | SOCK_CLOEXEC, address->protocol);
    if (fd >= 0)
        delivery->open[delivery->count++] = fd;
    return fd;
}

static int close_socket(void *context, curl_socket_t fd)
{
    struct ind_delivery *delivery = context;
    for (size_t i = 0; i < delivery->count; i++)
        if (delivery->open[i] == fd) {
            delivery->open[i] = delivery->open[--delivery->count];
            break;
        }
    return close(fd);
}

/* Called at least once a second, also where libcurl says QUIT to a mail server, before it closes the
 * connection, and waits for the answer: of one that has not answered before, too. */
static int look_at_limits(void *context, curl_off_t all, curl_off_t now, curl_off_t all_up, curl_off_t now_up)
{
    const struct ind_delivery *delivery = context;
    const struct ind_delivery_limits *limits = delivery->limits;
    (void)all;
    (void)now;
    (void)all_up;
    (void)now_up;
    const bool stop = atomic_load(limits->stop);
    if (stop || !ind_steady_lately(delivery->began, ind_steady_now(), limits->patience * IND_SECOND))
        for (size_t i = 0; i < delivery->count; i++)
            (void)shutdown(delivery->open[i], SHUT_RDWR);
    return stop;
}

CURL *ind_deliver_curl(struct ind_delivery *delivery, const struct ind_delivery_limits *limits)
{
    CURL *curl = curl_easy_init();
    *delivery = (struct ind_delivery){.limits = limits, .began = ind_steady_now()};
    if (!curl)
        return NULL;
    (void)curl_easy_setopt(curl, CURLOPT_NOSIGNAL, 1L);
    (void)curl_easy_setopt(curl, CURLOPT_PROXY, "");
    (void)curl_easy_setopt(curl, CURLOPT_TIMEOUT, limits->patience);
    (void)curl_easy_setopt(curl, CURLOPT_CONNECTTIMEOUT, (long)CONNECT_SECONDS);
    (void)curl_easy_setopt(curl, CURLOPT_MAXFILESIZE, 1L << 20);
    (void)curl_easy_setopt(curl, CURLOPT_WRITEFUNCTION, pass_over);
    (void)curl_easy_setopt(curl, CURLOPT_NOPROGRESS, 0L);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFOFUNCTION, look_at_limits);
    (void)curl_easy_setopt(curl, CURLOPT_XFERINFODATA, delivery);
    (void)curl_easy_setopt(curl, CURLOPT_FORBID_REUSE, 1L); /* the end is waited for as all else is */
    (void)curl_easy_setopt(curl, CURLOPT_SERVER_RESPONSE_TIMEOUT, limits->patience);
    (void)curl_easy_setopt(curl, CURLOPT_OPENSOCKETFUNCTION, open_socket);
    (void)curl_easy_setopt(curl, CURLOPT_OPENSOCKETDATA, delivery);
    (void)curl_easy_setopt(curl, CURLOPT_CLOSESOCKETFUNCTION, close_socket);
    (void)curl_easy_setopt(curl, CURLOPT_CLOSESOCKETDATA, delivery);
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
bool ind_deliver_post(const struct ind_parcel *parcel, const struct ind_delivery_limits *limits, char *reason,
                      size_t room)
{
    long status = 0;
    struct ind_delivery delivery;
    CURL *curl = ind_deliver_curl(&delivery, limits);
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
