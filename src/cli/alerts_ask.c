/* What changes alerts: by the running collector, or where none runs, in its file. */
#include "cli/alerts.h"
#include "cli/control_client.h"
#include "collect/runtime/clock.h"
#include "config/quantity.h"
#include "store/alert/alert_file.h"

#include <jansson.h>
#include <pwd.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { PATH_ROOM = 8192 };

/* Who calls, also behind sudo. */
static const char *caller(char room[64])
{
    const char *behind = getuid() == 0 ? getenv("SUDO_USER") : NULL;
    const struct passwd *user = getpwuid(getuid());
    snprintf(room, 64, "%.60s", behind && *behind ? behind : user ? user->pw_name : "somebody");
    return room;
}

static void add(char path[PATH_ROOM], const char *name, const char *value)
{
    char *escaped = value ? ind_query_text(value) : NULL;
    const size_t length = strlen(path);
    if (escaped)
        snprintf(path + length, PATH_ROOM - length, "%c%s=%s", strchr(path, '?') ? '&' : '?', name, escaped);
    free(escaped);
}

/* How many it concerned; -1: none of that name, or it could not be asked, reported; -2: no collector runs. */
static int64_t ask(const struct ind_config *config, const char *path)
{
    char *answer = NULL;
    const enum ind_control_client_result result = ind_control_client_ask(config, true, path, &answer);
    int64_t count = -1;
    if (result == IND_CONTROL_CLIENT_NOBODY) {
        count = -2;
    } else if (result == IND_CONTROL_CLIENT_ANSWERED && answer) {
        json_t *object = json_loads(answer, 0, NULL);
        count = (int64_t)json_integer_value(json_object_get(object, "alerts"));
        json_decref(object);
    } else {
        ind_complain("%.*s", answer ? (int)strcspn(answer, "\n") : 13, answer ? answer : "out of memory");
    }
    free(answer);
    return count;
}

static struct ind_alert_file *open_here(const struct ind_config *config)
{
    char reason[4600];
    struct ind_alert_file *file;
    if (ind_alert_file_open(config->state, false, &file, reason, sizeof reason) != IND_ALERT_FILE_GOOD)
        ind_complain("%s", reason);
    return file;
}

int ind_alerts_ack(const struct ind_config *config, const struct ind_alerts_call *given)
{
    char path[PATH_ROOM] = "/alerts/ack", who[64], number[32];
    add(path, "alert", given->name);
    add(path, "key", given->key);
    add(path, "who", caller(who));
    add(path, "note", given->note);
    int64_t count = ask(config, path);
    if (count == -2) {
        struct ind_alert_file *file = open_here(config);
        count = file ? ind_alert_file_acknowledge(file, given->name, given->key, who, given->note, ind_now())
                     : -1;
        if (file && count < 0)
            ind_complain("%s", ind_alert_file_reason(file));
        ind_alert_file_close(file);
    }
    if (count < 0)
        return IND_EXIT_FAILED;
    if (given->json)
        printf("{\"acknowledged\":%lld}\n", (long long)count);
    else if (count)
        printf("%s acknowledged\n", count == 1 ? "1 alert" : ind_grouped((uint64_t)count, number));
    else
        printf("none of that name%s is open\n", given->key ? " and key" : "");
    return count ? IND_EXIT_DONE : IND_EXIT_NO;
}

static bool is_configured(const struct ind_config *config, const char *name)
{
    if (ind_config_alert(config, name))
        return true;
    ind_complain("the configuration has no alert \"%s\"", name);
    return false;
}

static bool mute_here(const struct ind_config *config, const struct ind_alerts_call *given, int64_t span,
                      const char *who)
{
    if (!is_configured(config, given->name))
        return false;
    struct ind_alert_file *file = open_here(config);
    const bool good = file && ind_alert_file_mute(file, given->name, given->key, ind_now() + span, who);
    if (file && !good)
        ind_complain("%s", ind_alert_file_reason(file));
    ind_alert_file_close(file);
    return good;
}

int ind_alerts_mute(const struct ind_config *config, const struct ind_alerts_call *given)
{
    char path[PATH_ROOM] = "/alerts/mute", who[64], milliseconds[32];
    int64_t span = 0;
    if (!given->span == !given->off) {
        ind_complain("alerts mute: for how long? --for 2h; or --off");
        return IND_EXIT_CALL;
    }
    if (given->span &&
        (!ind_read_span(ind_slice_of(given->span), &span) || span > 366 * 86400 * IND_SECOND)) {
        ind_complain("--for %s: " IND_SPAN_HINT ", a year at most", given->span);
        return IND_EXIT_CALL;
    }
    snprintf(milliseconds, sizeof milliseconds, "%lld", (long long)(span / 1000000));
    add(path, "alert", given->name);
    add(path, "key", given->key);
    add(path, "who", caller(who));
    add(path, "for", milliseconds);
    const int64_t count = ask(config, path);
    if (count == -1 || (count == -2 && !mute_here(config, given, span, who)))
        return IND_EXIT_FAILED;
    printf(given->off ? "it is told again\n" : "it is not told for %s; what happens meanwhile is told then\n",
           given->span);
    return IND_EXIT_DONE;
}

int ind_alerts_test(const struct ind_config *config, const struct ind_alerts_call *given)
{
    char path[PATH_ROOM] = "/alerts/test";
    add(path, "alert", given->name);
    const int64_t count = ask(config, path);
    if (count == -2)
        ind_tell_nobody(config);
    if (count < 0)
        return IND_EXIT_FAILED;
    printf("told; \"indagator status\" says where that fails\n");
    return IND_EXIT_DONE;
}
