#include "cli/emit.h"
#include "collect/runtime/clock.h"
#include "config/quantity.h"
#include "config/zones.h"
#include "core/base/escape.h"
#include "core/message/names.h"
#include "simulate/fleet.h"
#include "store/disk/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <math.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

enum { NOT_GIVEN = INT_MIN };
enum { MANY = 20000, TRAINS_ABOVE = 250000, MOST_TARGETS = 4 };

static struct {
    char **to;
    char *community;
    int traps;
    char *facility, *severity, *app, *host, *form, *framing, *from, *fleet, *trust, *certificate, *key;
    long count;
    double rate;
} given = {.count = NOT_GIVEN, .rate = NOT_GIVEN, .community = NULL};

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"to", '\0', POPT_ARG_ARGV, &given.to, 0,
         "where to send: udp:HOST:PORT, tcp:HOST:PORT, tls:HOST:PORT, unix:PATH, or traps:HOST:PORT (SNMP "
         "v2c over UDP); a fleet can have one of each",
         "TARGET"},
        {"facility", '\0', POPT_ARG_STRING, &given.facility, 0, "of the message; user where none is given",
         "NAME"},
        {"severity", '\0', POPT_ARG_STRING, &given.severity, 0, "of the message; notice where none is given",
         "NAME"},
        {"app", '\0', POPT_ARG_STRING, &given.app, 0, "the app name; indagator where none is given", "NAME"},
        {"host", '\0', POPT_ARG_STRING, &given.host, 0, "the host name; this machine's where none is given",
         "NAME"},
        {"form", '\0', POPT_ARG_STRING, &given.form, 0, "rfc5424 (the default) or rfc3164", "FORM"},
        {"framing", '\0', POPT_ARG_STRING, &given.framing, 0,
         "over tcp and tls: count (octet counting, the default) or lines", "FRAMING"},
        {"from", '\0', POPT_ARG_STRING, &given.from, 0,
         "send each line of a file (- is standard input) as it is", "FILE"},
        {"fleet", '\0', POPT_ARG_STRING, &given.fleet, 0,
         "play the made-up devices of a file, each from its own address", "FILE"},
        {"count", '\0', POPT_ARG_LONG, &given.count, 0,
         "send so many messages, again from the start where there are fewer", "N"},
        {"trust", '\0', POPT_ARG_STRING, &given.trust, 0,
         "over tls: a file of the authorities of whom one must have signed the other side's certificate, or "
         "its "
         "fingerprint (sha-256:AB:CD:…); the system's authorities where none is given",
         "FILE"},
        {"certificate", '\0', POPT_ARG_STRING, &given.certificate, 0,
         "over tls: our own certificate, where the other side asks for one", "FILE"},
        {"key", '\0', POPT_ARG_STRING, &given.key, 0, "over tls: its private key", "FILE"},
        {"traps", '\0', POPT_ARG_NONE, &given.traps, 0,
         "send texts as traps of SNMP v2c: their name, and what they carry, as in \"linkDown ifIndex=3\"; to "
         "udp:",
         NULL},
        {"community", '\0', POPT_ARG_STRING, &given.community, 0, "of traps; public where none is given",
         "NAME"},
        {"rate", '\0', POPT_ARG_DOUBLE, &given.rate, 0, "messages a second at most", "R"},
        POPT_TABLEEND};
    return table;
}

/* ---- Sending ---- */

void ind_emit_wait_until(struct ind_steady until)
{
    for (;;) {
        int64_t ahead = ind_steady_from(ind_steady_now(), until);
        if (ahead <= 0)
            return;
        struct timespec time = {(time_t)(ahead / IND_SECOND), (long)(ahead % IND_SECOND)};
        nanosleep(&time, NULL);
    }
}

/* Before a wait what is gathered goes out. A sleep is never exact; what it was too long is made up for. */
static void keep_rate(const struct ind_emitter *emitter, struct ind_outlet *outlet)
{
    if (emitter->rate <= 0 || (emitter->rate > (double)MANY && emitter->sent % 16 != 0))
        return;
    double ahead = (double)emitter->sent / emitter->rate * (double)IND_SECOND;
    struct ind_steady due = ind_steady_after(emitter->began, (int64_t)ahead);
    if (ind_steady_from(ind_steady_now(), due) <= 0)
        return;
    (void)ind_outlet_flush(outlet); /* what fails here fails again, and is reported, with the next message */
    ind_emit_wait_until(due);
}

bool ind_emit_send(struct ind_emitter *emitter, const struct ind_emit_target *target,
                   struct ind_outlet *outlet, struct ind_slice message)
{
    bool cut;
    if (target->traps && (message = ind_emit_trap(emitter->traps, message)).length == 0)
        return false;
    keep_rate(emitter, outlet);
    if (!ind_outlet_send(outlet, message, &cut)) {
        /* Of a datagram refused, an answer to an earlier one tells. */
        if (target->kind != IND_SEND_TLS && errno == ECONNREFUSED)
            ind_complain("nobody listens at %s", target->text);
        else
            ind_complain("cannot send to %s: %s", target->text, ind_outlet_reason(outlet));
        return false;
    }
    emitter->sent++;
    emitter->bytes += cut ? IND_OUTLET_DATAGRAM : message.length;
    emitter->cut += cut;
    return true;
}

bool ind_emit_done(const struct ind_emitter *emitter)
{
    return emitter->most > 0 && emitter->sent >= emitter->most;
}

struct sending {
    struct ind_emitter *emitter;
    const struct ind_emit_target *target;
    struct ind_outlet *outlet;
};

static bool send_one(struct sending *sending, const char *bytes, size_t length)
{
    return ind_emit_send(sending->emitter, sending->target, sending->outlet,
                         (struct ind_slice){bytes, length});
}

/* ---- One message, made from the options ---- */

static bool write_pri(struct ind_buffer *buffer)
{
    int facility = given.facility ? ind_facility_read(ind_slice_of(given.facility)) : IND_FACILITY_USER;
    int severity = given.severity ? ind_severity_read(ind_slice_of(given.severity)) : IND_SEVERITY_NOTICE;
    if (facility < 0 || severity < 0) {
        const char *word = facility < 0 ? given.facility : given.severity;
        struct ind_slice near =
            facility < 0 ? ind_facility_near(ind_slice_of(word)) : ind_severity_near(ind_slice_of(word));
        ind_complain("--%s: unknown name \"%s\"%s%s%s", facility < 0 ? "facility" : "severity", word,
                     near.length ? "; did you mean \"" : "", near.length ? near.at : "",
                     near.length ? "\"?" : "");
        return false;
    }
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, (unsigned)facility * 8u + (unsigned)severity);
    ind_buffer_byte(buffer, '>');
    return true;
}

static bool write_message(const char *text, const struct ind_zone *zone, struct ind_buffer *buffer)
{
    char host[256] = "localhost";
    bool old = given.form && strcmp(given.form, "rfc3164") == 0;
    if (!write_pri(buffer))
        return false;
    (void)gethostname(host, sizeof host - 1);
    ind_buffer_text(buffer, old ? "" : "1 ");
    if (old)
        ind_time_write_3164(buffer, zone, ind_now());
    else
        ind_time_write(buffer, ind_now());
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, ind_slice_of(given.host ? given.host : host));
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, ind_slice_of(given.app ? given.app : "indagator"));
    ind_buffer_text(buffer, old ? ": " : " - - - ");
    ind_buffer_text(buffer, text);
    return true;
}

static bool emit_text(struct sending *sending, const char *text)
{
    static char message[IND_OUTLET_DATAGRAM];
    uint64_t count = sending->emitter->most ? sending->emitter->most : 1;
    struct ind_zone *zone = ind_zone_of_machine();
    bool good = zone != NULL;
    for (uint64_t i = 0; good && i < count; i++) {
        struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
        if (sending->target->traps)
            good = send_one(sending, text, strlen(text));
        else
            good = write_message(text, zone, &buffer) && send_one(sending, message, buffer.length);
    }
    ind_zone_free(zone);
    return good;
}

/* ---- A file ---- */

static bool emit_block(struct sending *sending, struct ind_slice block)
{
    struct ind_slice line;
    while (!ind_emit_done(sending->emitter) && ind_slice_line(&block, &line)) {
        line.length -= line.length > 0 && line.at[line.length - 1] == '\r';
        if (line.length && !send_one(sending, line.at, line.length))
            return false;
    }
    return true;
}

/* True also where the file is read to its end; *any: it held at least one message. */
static bool emit_file(struct sending *sending, bool *any)
{
    struct ind_emitter *emitter = sending->emitter;
    bool standard = strcmp(given.from, "-") == 0;
    int file = standard ? dup(STDIN_FILENO) : open(given.from, O_RDONLY | O_CLOEXEC);
    struct ind_reader *reader =
        file < 0 ? NULL : ind_reader_open(file, ind_compression_of(given.from), 0, UINT64_MAX);
    struct ind_slice block;
    uint64_t at, before = emitter->sent;
    if (!reader) {
        ind_complain("cannot read %s: %s", given.from, strerror(errno));
        return false;
    }
    bool good = true;
    enum ind_read result = IND_READ_END;
    while (good && !ind_emit_done(emitter) &&
           (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK)
        good = emit_block(sending, ind_without_mark(block, at));
    if (good && result == IND_READ_FAILED) {
        ind_complain("cannot read all of %s: %s", given.from, ind_reader_reason(reader));
        good = false;
    }
    ind_reader_close(reader);
    *any = emitter->sent > before && !standard;
    return good;
}

static bool emit_files(struct sending *sending)
{
    bool any = true;
    do
        if (!emit_file(sending, &any))
            return false;
    while (sending->emitter->most > 0 && any && !ind_emit_done(sending->emitter));
    return true;
}

/* ---- ---- */

/* A number of a port, or the name of a service. */
static bool is_port(const char *text)
{
    uint64_t number;
    return ind_is_digit(*text) ? ind_read_count(ind_slice_of(text), 1, 65535, &number) : *text != '\0';
}

bool ind_emit_read_target(const char *text, struct ind_emit_target *target)
{
    static const char *const schemes[] = {"udp:", "tcp:", "tls:", "unix:"};
    static const char traps[] = "traps:";
    const char *colon = strrchr(text, ':');
    target->text = text;
    target->traps = strncmp(text, traps, sizeof traps - 1) == 0;
    for (int i = 0; i <= IND_SEND_UNIX; i++) {
        size_t scheme = target->traps ? sizeof traps - 1 : strlen(schemes[i]);
        if (!target->traps && strncmp(text, schemes[i], scheme) != 0)
            continue; /* the first is UDP, which is how traps go */
        const char *start = text + scheme;
        target->kind = (enum ind_transport_kind)i;
        target->port[0] = '\0';
        if (target->kind == IND_SEND_UNIX && *start) {
            snprintf(target->host, sizeof target->host, "%s", start);
            return true;
        }
        if (target->kind == IND_SEND_UNIX)
            break;
        size_t length = colon > start ? (size_t)(colon - start) : 0;
        if (length > 2 && start[0] == '[' && start[length - 1] == ']') {
            start++;
            length -= 2;
        }
        snprintf(target->host, sizeof target->host, "%.*s", (int)length, start);
        snprintf(target->port, sizeof target->port, "%s", colon + 1);
        if (length > 0 && is_port(colon + 1))
            return true;
    }
    ind_complain("--to: \"%s\" is not a target; write one such as udp:127.0.0.1:514, tcp:127.0.0.1:601, "
                 "tls:collector.skerry.example:6514, unix:/run/indagator/log or traps:127.0.0.1:162",
                 text);
    return false;
}

static bool join_text(const char **words, char *text, size_t room)
{
    struct ind_buffer buffer = ind_buffer_on(text, room - 1);
    for (size_t i = 0; words[i]; i++) {
        if (i > 0)
            ind_buffer_byte(&buffer, ' ');
        ind_buffer_text(&buffer, words[i]);
    }
    text[buffer.length] = '\0';
    return !buffer.full;
}

static bool one_of(const char *option, const char *value, const char *first, const char *second)
{
    if (!value || strcmp(value, first) == 0 || strcmp(value, second) == 0)
        return true;
    ind_complain("--%s: unknown %s \"%s\"; expected %s or %s", option, option, value, first, second);
    return false;
}

static bool check_numbers(void)
{
    if (given.count != NOT_GIVEN && given.count < 1)
        ind_complain("--count: a number of messages, from 1 on");
    else if (given.rate != (double)NOT_GIVEN && !(isfinite(given.rate) && given.rate > 0))
        ind_complain("--rate: a number of messages a second, more than 0");
    else
        return true;
    return false;
}

static bool check_call(const struct ind_call *call)
{
    int sources = (*call->rest != NULL) + (given.from != NULL) + (given.fleet != NULL);
    if (sources != 1) {
        ind_complain("%s", sources ? "either --from FILE, or --fleet FILE, or a text: one of them"
                                   : "what is to be sent? give a text, --from FILE or --fleet FILE");
        return false;
    }
    if (!given.to || !given.to[0]) {
        ind_complain("where to? give --to, such as --to udp:127.0.0.1:514");
        return false;
    }
    char pri[8];
    struct ind_buffer room = ind_buffer_on(pri, sizeof pri);
    return check_numbers() && write_pri(&room) && one_of("form", given.form, "rfc5424", "rfc3164") &&
           one_of("framing", given.framing, "count", "lines");
}

/* Whom we believe, and who we are. NULL, told, where that cannot be read. */
static struct ind_tls *make_tls(void)
{
    struct ind_fingerprint fingerprint;
    struct ind_tls_fault fault;
    bool pinned = given.trust && ind_fingerprint_read(ind_slice_of(given.trust), &fingerprint);
    const struct ind_tls_settings settings = {.certificate = given.certificate,
                                              .key = given.key,
                                              .authorities = pinned ? NULL : given.trust,
                                              .fingerprints = pinned ? &fingerprint : NULL,
                                              .fingerprint_count = pinned};
    const char *const files[IND_TLS_PARTS + 1] = {given.certificate, given.key, given.trust, NULL, "TLS"};
    struct ind_tls *tls = ind_tls_client_new(&settings, &fault);
    if (!tls)
        ind_complain("%s: %s", files[fault.part], fault.text);
    return tls;
}

/* --traps makes those of UDP targets for them. False, told, where one is of another kind. */
static bool read_traps(struct ind_emit_target *targets, size_t count, struct ind_emitter *emitter)
{
    bool any = false;
    for (size_t i = 0; i < count; i++) {
        if (given.traps && targets[i].kind != IND_SEND_UDP) {
            ind_complain("--traps goes with --to udp:HOST:PORT");
            return false;
        }
        targets[i].traps |= given.traps;
        any |= targets[i].traps;
    }
    if (!any && given.community) {
        ind_complain("--community goes with --traps");
        return false;
    }
    if (any && !(emitter->traps = ind_emit_traps_new(given.community ? given.community : "public"))) {
        ind_complain("out of memory");
        return false;
    }
    return true;
}

/* The options of TLS, where there is a target that has it, and only there. False, told, where they are wrong.
 */
static bool read_tls(struct ind_emit_target *targets, size_t count, struct ind_tls **tls)
{
    bool wanted = false;
    for (size_t i = 0; i < count; i++)
        wanted |= targets[i].kind == IND_SEND_TLS;
    if (!given.certificate != !given.key) {
        ind_complain("--certificate and --key go together");
        return false;
    }
    if (!wanted && (given.trust || given.certificate)) {
        ind_complain("--trust, --certificate and --key go with --to tls:HOST:PORT");
        return false;
    }
    *tls = wanted ? make_tls() : NULL;
    for (size_t i = 0; i < count; i++)
        targets[i].tls = *tls;
    return !wanted || *tls;
}

static int emit_to_one(struct ind_emitter *emitter, const struct ind_emit_target *target, const char *text)
{
    const char *reason;
    struct ind_outlet_settings settings = {.kind = target->kind,
                                           .host = target->host,
                                           .port = target->port,
                                           .tls = target->tls,
                                           .lines = given.framing && strcmp(given.framing, "lines") == 0,
                                           .trains = given.rate > (double)TRAINS_ABOVE};
    struct sending sending = {emitter, target, ind_outlet_open(&settings, &reason)};
    if (!sending.outlet) {
        ind_complain("cannot send to %s: %s", target->text, reason);
        return IND_EXIT_FAILED;
    }
    emitter->began = ind_steady_now();
    bool good = (given.from ? emit_files(&sending) : emit_text(&sending, text));
    if (good && !ind_outlet_finish(sending.outlet)) {
        ind_complain("cannot send to %s: %s", target->text, ind_outlet_reason(sending.outlet));
        good = false;
    }
    ind_outlet_close(sending.outlet);
    return good ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

static void print_sent(const struct ind_emitter *emitter, bool json)
{
    char sent[32], size[32];
    if (json)
        printf("{\"sent\":%llu,\"bytes\":%llu}\n", (unsigned long long)emitter->sent,
               (unsigned long long)emitter->bytes);
    else
        printf("sent %s message%s, %s\n", ind_grouped(emitter->sent, sent), emitter->sent == 1 ? "" : "s",
               ind_size_text(emitter->bytes, size));
    if (emitter->cut)
        ind_complain("%llu messages were cut: one is %d bytes at most", (unsigned long long)emitter->cut,
                     IND_OUTLET_DATAGRAM);
}

static int run(struct ind_call *call)
{
    static char text[32768];
    struct ind_emit_target targets[MOST_TARGETS];
    size_t count = 0;
    struct ind_emitter emitter = {.most = given.count > 0 ? (uint64_t)given.count : 0, .rate = given.rate};
    if (!check_call(call))
        return IND_EXIT_CALL;
    for (; count < MOST_TARGETS && given.to[count]; count++)
        if (!ind_emit_read_target(given.to[count], &targets[count]))
            return IND_EXIT_CALL;
    if (count > 1 && !given.fleet) {
        ind_complain("several --to go with --fleet only: its devices choose by their transport");
        return IND_EXIT_CALL;
    }
    if (!join_text(call->rest, text, sizeof text)) {
        ind_complain("the text is longer than 32 KiB; send it with --from");
        return IND_EXIT_CALL;
    }
    struct ind_tls *tls = NULL;
    if (!read_tls(targets, count, &tls) || !read_traps(targets, count, &emitter)) {
        ind_tls_release(tls);
        return IND_EXIT_CALL;
    }
    int status = given.fleet ? ind_emit_fleet(&emitter, given.fleet, targets, count)
                             : emit_to_one(&emitter, &targets[0], text);
    if (status == IND_EXIT_DONE || emitter.sent > 0)
        print_sent(&emitter, call->json);
    ind_tls_release(tls);
    ind_emit_traps_free(emitter.traps);
    return status;
}

const struct ind_command ind_command_emit = {
    .name = "emit",
    .summary = "sends test messages, those of a file, or a made-up fleet's",
    .arguments = "--to udp:HOST:PORT|tcp:HOST:PORT|tls:HOST:PORT|unix:PATH|traps:HOST:PORT [--from FILE | "
                 "--fleet FILE | TEXT…]",
    .about =
        "Sends one message made from the options, each line of a file as it is, or what the devices of a\n"
        "fleet file say, each from its own address.\n\n"
        "Example:\n"
        "  indagator emit --to udp:127.0.0.1:5514 --facility local4 --severity warning \"link down\"\n"
        "  indagator emit --to traps:127.0.0.1:162 --community skerry linkDown ifIndex=3 ifDescr=ge0/3\n",
    .options = options,
    .run = run,
};
