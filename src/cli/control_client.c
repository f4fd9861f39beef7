#include "cli/control_client.h"

#include "cli/grown.h"
#include "collect/control/control_socket.h"
#include "collect/daemon/collector.h"
#include <curl/curl.h>
#include <stdlib.h>
#include <string.h>

struct answer {
    CURL *curl;
    void (*accepted)(void *context);
    bool (*receive)(void *context, const char *bytes, size_t length);
    bool (*tick)(void *context); /* or NULL */
    void *context;
    bool begun;     /* answered with 200 */
    bool ended;     /* by `receive`, or `tick` */
    long time;      /* milliseconds, after which it ends, too; 0: no such end */
    char why[2048]; /* what an answer other than 200 says */
    size_t why_length;
};

static size_t on_bytes(char *bytes, size_t size, size_t count, void *context)
{
    struct answer *answer = context;
    size_t length = size * count;
    long status = 0;
    (void)curl_easy_getinfo(answer->curl, CURLINFO_RESPONSE_CODE, &status);
    if (status == 200) {
        answer->ended = !answer->receive(answer->context, bytes, length);
        return answer->ended ? 0 : length;
    }
    size_t room = sizeof answer->why - 1 - answer->why_length;
    memcpy(answer->why + answer->why_length, bytes, length < room ? length : room);
    answer->why_length += length < room ? length : room;
    return length;
}

/* A line of the answer's head; the last one is empty. */
static size_t on_header(char *bytes, size_t size, size_t count, void *context)
{
    struct answer *answer = context;
    long status = 0;
    (void)curl_easy_getinfo(answer->curl, CURLINFO_RESPONSE_CODE, &status);
    if (size * count == 2 && bytes[0] == '\r' && status == 200) {
        answer->begun = true;
        if (answer->accepted)
            answer->accepted(answer->context);
    }
    return size * count;
}

static int on_tick(void *context, curl_off_t all, curl_off_t now, curl_off_t all_up, curl_off_t now_up)
{
    struct answer *answer = context;
    (void)all;
    (void)now;
    (void)all_up;
    (void)now_up;
    answer->ended |= !answer->tick(answer->context);
    return answer->ended;
}

static enum ind_control_client_result result_of(struct answer *answer, CURLcode code)
{
    long status = 0;
    (void)curl_easy_getinfo(answer->curl, CURLINFO_RESPONSE_CODE, &status);
    if (code == CURLE_COULDNT_CONNECT)
        return IND_CONTROL_CLIENT_NOBODY;
    const bool timed_out = answer->time && code == CURLE_OPERATION_TIMEDOUT && status == 200;
    if (answer->ended || timed_out || (code == CURLE_OK && status == 200))
        return IND_CONTROL_CLIENT_ANSWERED;
    if (answer->why_length == 0)
        snprintf(answer->why, sizeof answer->why, "the collector has ended: %s", curl_easy_strerror(code));
    return IND_CONTROL_CLIENT_REFUSED;
}

static enum ind_control_client_result ask(const struct ind_config *config, bool post, const char *path,
                                          struct answer *answer)
{
    char socket[4200], url[16384];
    snprintf(socket, sizeof socket, "%s/" IND_CONTROL_SOCKET, config->state);
    if ((size_t)snprintf(url, sizeof url, "http://collector%s", path) >= sizeof url) {
        snprintf(answer->why, sizeof answer->why, "the question is too long");
        return IND_CONTROL_CLIENT_REFUSED;
    }
    answer->curl = curl_easy_init();
    if (!answer->curl) {
        snprintf(answer->why, sizeof answer->why, "out of memory");
        return IND_CONTROL_CLIENT_REFUSED;
    }
    (void)curl_easy_setopt(answer->curl, CURLOPT_UNIX_SOCKET_PATH, socket);
    (void)curl_easy_setopt(answer->curl, CURLOPT_URL, url);
    (void)curl_easy_setopt(answer->curl, CURLOPT_PROXY, "");
    (void)curl_easy_setopt(answer->curl, CURLOPT_NOSIGNAL, 1L);
    (void)curl_easy_setopt(answer->curl, CURLOPT_TIMEOUT_MS, answer->time);
    if (post)
        (void)curl_easy_setopt(answer->curl, CURLOPT_COPYPOSTFIELDS, "");
    if (answer->tick) {
        (void)curl_easy_setopt(answer->curl, CURLOPT_NOPROGRESS, 0L);
        (void)curl_easy_setopt(answer->curl, CURLOPT_XFERINFOFUNCTION, on_tick);
        (void)curl_easy_setopt(answer->curl, CURLOPT_XFERINFODATA, answer);
    }
    (void)curl_easy_setopt(answer->curl, CURLOPT_WRITEFUNCTION, on_bytes);
    (void)curl_easy_setopt(answer->curl, CURLOPT_WRITEDATA, answer);
    (void)curl_easy_setopt(answer->curl, CURLOPT_HEADERFUNCTION, on_header);
    (void)curl_easy_setopt(answer->curl, CURLOPT_HEADERDATA, answer);
    enum ind_control_client_result asked = result_of(answer, curl_easy_perform(answer->curl));
    curl_easy_cleanup(answer->curl);
    return asked;
}

enum ind_control_client_result ind_ask(const struct ind_config *config, bool post, const char *path,
                                       void (*accepted)(void *context),
                                       bool (*receive)(void *context, const char *bytes, size_t length),
                                       void *context)
{
    struct answer answer = {.accepted = accepted, .receive = receive, .context = context};
    enum ind_control_client_result asked = ask(config, post, path, &answer);
    if (asked == IND_CONTROL_CLIENT_REFUSED) {
        answer.why[strcspn(answer.why, "\n")] = '\0';
        ind_complain("%s", answer.why);
    }
    return asked;
}

enum ind_control_client_result ind_ask_on(const struct ind_config *config, const char *path,
                                          void (*accepted)(void *context),
                                          bool (*receive)(void *context, const char *bytes, size_t length),
                                          bool (*tick)(void *context), void *context, bool *broken)
{
    struct answer answer = {.accepted = accepted, .receive = receive, .tick = tick, .context = context};
    const enum ind_control_client_result asked = ask(config, false, path, &answer);
    *broken = answer.begun && !answer.ended;
    if (asked == IND_CONTROL_CLIENT_REFUSED && !*broken) {
        answer.why[strcspn(answer.why, "\n")] = '\0';
        ind_complain("%s", answer.why);
    }
    return asked;
}

enum ind_control_client_result ind_ask_for(const struct ind_config *config, const char *path,
                                           long milliseconds,
                                           bool (*receive)(void *context, const char *bytes, size_t length),
                                           void *context)
{
    struct answer answer = {.receive = receive, .context = context, .time = milliseconds};
    return ask(config, false, path, &answer);
}

static bool add_text(void *context, const char *bytes, size_t length)
{
    return ind_grown_add(context, bytes, length);
}

enum ind_control_client_result ind_control_client_ask(const struct ind_config *config, bool post,
                                                      const char *path, char **text)
{
    struct ind_grown whole = {NULL, 0, 0};
    struct answer answer = {.receive = add_text, .context = &whole};
    enum ind_control_client_result asked = ask(config, post, path, &answer);
    if (asked == IND_CONTROL_CLIENT_REFUSED) {
        free(whole.at);
        whole.at = strdup(answer.why);
    }
    *text = whole.at;
    return asked;
}

void ind_tell_nobody(const struct ind_config *config)
{
    ind_complain("no collector is running here: nobody answers at %s/" IND_CONTROL_SOCKET
                 "; start one with \"indagator collect\", or name its configuration with -c",
                 config->state);
}

char *ind_query_text(const char *text)
{
    char *escaped = malloc(strlen(text) * 3 + 1), *at = escaped;
    static const char hex[] = "0123456789ABCDEF";
    for (; escaped && *text; text++) {
        unsigned char c = (unsigned char)*text;
        if (ind_is_alpha((char)c) || ind_is_digit((char)c) || c == '-' || c == '_' || c == '.') {
            *at++ = (char)c;
        } else {
            *at++ = '%';
            *at++ = hex[c >> 4];
            *at++ = hex[c & 15];
        }
    }
    if (escaped)
        *at = '\0';
    return escaped;
}
