/* What a running collector says of itself that keeps messages from arriving or from being filed. */
#include "cli/doctor.h"

#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/status_relays.h"
#include "cli/status_view.h"
#include "config/source.h"
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

/* The first few of those of a list of which it is true, as a text; returns how many they are. */
static size_t list_names(const json_t *list, const char *key, bool (*is)(const json_t *one), char *text,
                         size_t room)
{
    enum { MOST = 4 };
    struct ind_buffer out = ind_buffer_on(text, room - 8);
    const json_t *one;
    size_t i, count = 0;
    json_array_foreach(list, i, one)
    {
        if (is && !is(one))
            continue;
        if (count++ >= MOST)
            continue;
        ind_buffer_text(&out, count > 1 ? ", " : "");
        ind_buffer_text(&out, ind_answer_text(one, json_object_get(one, "at") ? "at" : key));
    }
    ind_buffer_text(&out, count > MOST ? ", …" : "");
    text[out.length] = '\0';
    return count;
}

static void look_at_reasons(struct ind_findings *findings, const json_t *status)
{
    const json_t *reason;
    size_t i;
    ind_findings_looked(findings);
    json_array_foreach(json_object_get(status, "not_well"), i, reason)
    {
        const char *word = ind_answer_text(reason, "reason");
        const char *mend = strcmp(word, "paused") == 0 ? ""
                           : strcmp(word, "disk-takes-nothing") == 0
                               ? "make room, or give the right back: it goes on by itself"
                           : strcmp(word, "disk-silent") == 0
                               ? "look at the disk, or at the network that it is behind"
                               : "";
        ind_findings_add(findings, IND_FINDING_BAD, "not-well", mend, "%s", ind_answer_text(reason, "text"));
    }
}

/* A file that was changed after it was read. */
static void look_at_age(struct ind_findings *findings, const struct ind_loaded *loaded, const json_t *status)
{
    ind_time read = ind_answer_time(status, "rules_since");
    ind_findings_looked(findings);
    for (const struct ind_source *source = loaded->sources; source && read != IND_TIME_NONE;
         source = source->next) {
        struct stat facts;
        if (stat(source->path, &facts) == 0 &&
            (ind_time)facts.st_mtim.tv_sec * IND_SECOND + facts.st_mtim.tv_nsec > read) {
            ind_findings_add(
                findings, IND_FINDING_ADVICE, "not-reloaded",
                "systemctl reload indagator, or send it a SIGHUP",
                "%s was changed after the collector had read it: what runs are the rules of before",
                source->path);
            return;
        }
    }
}

static bool has_dropped(const json_t *edit)
{
    return ind_answer_number(edit, "dropped") > 0;
}

static bool took_nothing(const json_t *route)
{
    return ind_answer_number(route, "messages") == 0;
}

static bool was_never_heard(const json_t *device)
{
    return !json_object_get(device, "last");
}

static bool was_heard(const json_t *device)
{
    return json_object_get(device, "last") != NULL;
}

static bool heard_nothing(const json_t *listener)
{
    return ind_answer_number(listener, "received") == 0 &&
           strcmp(ind_answer_text(listener, "listener"), "internal") != 0;
}

static void look_at_ledger(struct ind_findings *findings, const json_t *status)
{
    const json_t *ledger = json_object_get(status, "ledger"), *listener;
    char names[400];
    uint64_t count = 0;
    size_t i;
    ind_findings_looked(findings);
    if (ind_answer_number(ledger, "refused_sender") > 0) {
        (void)list_names(json_object_get(status, "unknown_senders"), "sender", ind_status_is_refused, names,
                         sizeof names);
        ind_findings_add(findings, IND_FINDING_BAD, "refused", "add their networks to allow:, then reload",
                         "messages refused, because their senders are not under allow: %llu, from %s",
                         (unsigned long long)ind_answer_number(ledger, "refused_sender"), names);
    }
    ind_findings_looked(findings);
    if (ind_answer_number(ledger, "unrouted") > 0)
        ind_findings_add(findings, IND_FINDING_BAD, "unrouted",
                         "a last route without \"when\" takes them: {name: rest, file: rest.log}",
                         "messages that no route took, so that they are in no file: %llu",
                         (unsigned long long)ind_answer_number(ledger, "unrouted"));
    ind_findings_looked(findings);
    if (ind_status_lost(ledger) > 0)
        ind_findings_add(findings, IND_FINDING_BAD, "lost",
                         "see \"indagator status\" for the reason; a larger \"burst buffer\", a faster disk",
                         "messages lost since the start: %llu", (unsigned long long)ind_status_lost(ledger));
    json_array_foreach(json_object_get(status, "listeners"), i, listener) count +=
        ind_answer_number(listener, "dropped_by_kernel");
    ind_findings_looked(findings);
    if (count > 0)
        ind_findings_add(findings, IND_FINDING_BAD, "dropped",
                         "a larger net.core.rmem_max, fewer rules, or more processors",
                         "datagrams that the kernel has dropped before they were read: %llu",
                         (unsigned long long)count);
    ind_findings_looked(findings);
    if (list_names(json_object_get(status, "edits"), "edit", has_dropped, names, sizeof names) > 0)
        ind_findings_add(findings, IND_FINDING_ADVICE, "dropped-by-edit",
                         "\"indagator explain MESSAGE\" tells which edit drops it, and why",
                         "messages dropped by edits: %llu, by %s",
                         (unsigned long long)ind_answer_number(ledger, "dropped"), names);
}

static void look_at_rules(struct ind_findings *findings, const json_t *status)
{
    char names[400];
    ind_findings_looked(findings);
    if (list_names(json_object_get(status, "routes"), "route", took_nothing, names, sizeof names) > 0)
        ind_findings_add(findings, IND_FINDING_ADVICE, "idle-route",
                         "\"indagator explain MESSAGE\" tells why a route does not take it; or the device "
                         "does not send that severity",
                         "routes that have taken nothing since the start: %s", names);
    ind_findings_looked(findings);
    if (list_names(json_object_get(status, "listeners"), "listener", heard_nothing, names, sizeof names) > 0)
        ind_findings_add(
            findings, IND_FINDING_ADVICE, "idle-listener",
            "do the devices send there? does a packet filter here, or on the way, let it through?",
            "nothing has come since the start at: %s", names);
}

static void look_at_relays(struct ind_findings *findings, const json_t *status)
{
    const json_t *relays = json_object_get(status, "relays"), *relay, *target, *taker;
    char number[2][32];
    size_t i, n;
    json_array_foreach(json_object_get(status, "taken_from"), i, taker)
    {
        ind_findings_looked(findings);
        if (ind_taker_is_down(taker))
            ind_findings_add(findings, IND_FINDING_BAD, "not-taken", "is it up, and is the login right?",
                             "%s: nothing can be taken: %s", ind_answer_text(taker, "listener"),
                             ind_answer_text(taker, "reason"));
    }
    json_array_foreach(relays, i, relay)
    {
        const char *name = ind_answer_text(relay, "relay");
        ind_findings_looked(findings);
        json_array_foreach(json_object_get(relay, "targets"), n,
                           target) if (strcmp(ind_answer_text(target, "state"), "down") == 0)
            ind_findings_add(findings, ind_relay_is_cut_off(relay) ? IND_FINDING_BAD : IND_FINDING_ADVICE,
                             "relay-target", "is it up, and does a packet filter let us through?",
                             "the relay %s cannot reach %s: %s", name, ind_answer_text(target, "target"),
                             ind_answer_text(target, "reason"));
        ind_findings_looked(findings);
        if (ind_relay_has_lost(relay))
            ind_findings_add(
                findings, IND_FINDING_BAD, "relay-lost",
                "a larger \"space\" under \"waiting\"; \"indagator status\" tells the reason",
                "messages that the relay %s could not keep, or pass on: %s given up, %s not taken", name,
                ind_grouped(ind_answer_number(relay, "given_up"), number[0]),
                ind_grouped(ind_answer_number(relay, "not_taken") + ind_answer_number(relay, "looped"),
                            number[1]));
        ind_findings_looked(findings);
        if (ind_relay_lags(relay))
            ind_findings_add(findings, IND_FINDING_ADVICE, "relay-lags",
                             "a faster line, a higher \"at most\", or fewer messages for it",
                             "the relay %s lags: its oldest message has waited for %s s", name,
                             ind_grouped(ind_answer_number(relay, "oldest_seconds"), number[0]));
        ind_findings_looked(findings);
        if (*ind_answer_text(relay, "disk"))
            ind_findings_add(findings, IND_FINDING_BAD, "relay-disk",
                             "make room, or give the right back: it goes on by itself",
                             "the queue of the relay %s takes nothing: %s", name,
                             ind_answer_text(relay, "disk"));
    }
}

static void look_at_devices(struct ind_findings *findings, const json_t *status)
{
    const json_t *silent = json_object_get(status, "silent_devices");
    char names[400];
    ind_findings_looked(findings);
    if (list_names(silent, "device", was_never_heard, names, sizeof names) > 0)
        ind_findings_add(findings, IND_FINDING_ADVICE, "never-heard",
                         "is it set to send here, to the right port, with a level low enough? is its address "
                         "right under devices:?",
                         "configured devices that were not heard since the start: %s", names);
    ind_findings_looked(findings);
    if (list_names(silent, "device", was_heard, names, sizeof names) > 0)
        ind_findings_add(findings, IND_FINDING_ADVICE, "silent", "look after the device, and what is between",
                         "configured devices of which nothing has come for an hour: %s", names);
    ind_findings_looked(findings);
    if (list_names(json_object_get(status, "devices"), "device", ind_status_has_wrong_clock, names,
                   sizeof names) > 0)
        ind_findings_add(
            findings, IND_FINDING_ADVICE, "device-clock",
            "\"indagator status\" tells by how much: a zone: under devices:, or a time server there",
            "devices whose clocks are off: %s", names);
}

/* "Max open files            1024                 4096                 files". */
static void look_at_limits(struct ind_findings *findings, const struct ind_config *config,
                           const json_t *status)
{
    char path[64], line[256];
    unsigned long long soft = 0;
    snprintf(path, sizeof path, "/proc/%llu/limits",
             (unsigned long long)ind_answer_number(status, "process"));
    FILE *file = fopen(path, "re");
    ind_findings_looked(findings);
    while (file && fgets(line, sizeof line, file))
        if (sscanf(line, "Max open files %llu", &soft) == 1)
            break;
    if (file)
        (void)fclose(file);
    uint64_t wanted = config->open_files + config->limits.connections;
    if (soft && soft < wanted)
        ind_findings_add(findings, IND_FINDING_ADVICE, "open-files", "LimitNOFILE= in the unit, or ulimit -n",
                         "the collector may have %llu files open; with \"open files\" and \"connections\" as "
                         "they are it could use %llu",
                         soft, (unsigned long long)wanted);
}

void ind_doctor_collector(struct ind_findings *findings, const struct ind_loaded *loaded,
                          const json_t *status)
{
    look_at_reasons(findings, status);
    look_at_age(findings, loaded, status);
    look_at_ledger(findings, status);
    look_at_rules(findings, status);
    look_at_relays(findings, status);
    look_at_devices(findings, status);
    look_at_limits(findings, loaded->config, status);
}
