#include "cli/cli.h"
#include "collect/clock.h"
#include "core/escape.h"
#include "net/socket.h"
#include "store/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { DATAGRAM = 65507, SPIN_ABOVE = 20000 };

static struct {
    char *to, *facility, *severity, *app, *host, *form, *from;
    long count;
    double rate;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"to", '\0', POPT_ARG_STRING, &given.to, 0, "where to send: udp:HOST:PORT", "TARGET"},
        {"facility", '\0', POPT_ARG_STRING, &given.facility, 0, "of the message; user where none is given",
         "NAME"},
        {"severity", '\0', POPT_ARG_STRING, &given.severity, 0, "of the message; notice where none is given",
         "NAME"},
        {"app", '\0', POPT_ARG_STRING, &given.app, 0, "the app name; indagator where none is given", "NAME"},
        {"host", '\0', POPT_ARG_STRING, &given.host, 0, "the host name; this machine's where none is given",
         "NAME"},
        {"form", '\0', POPT_ARG_STRING, &given.form, 0, "rfc5424 (the default) or rfc3164", "FORM"},
        {"from", '\0', POPT_ARG_STRING, &given.from, 0,
         "send each line of a file (- is standard input) as it is", "FILE"},
        {"count", '\0', POPT_ARG_LONG, &given.count, 0,
         "send so many messages, again from the start where there are fewer", "N"},
        {"rate", '\0', POPT_ARG_DOUBLE, &given.rate, 0, "messages a second at most", "R"},
        POPT_TABLEEND};
    return table;
}

struct emitter {
    int socket;
    uint64_t sent, bytes, cut;
    ind_time began;
};

static void keep_rate(const struct emitter *emitter)
{
    if (given.rate <= 0)
        return;
    double due = (double)emitter->sent / given.rate;
    for (;;) {
        double ahead = due - (double)(ind_now() - emitter->began) / (double)IND_SECOND;
        if (ahead <= 0)
            return;
        if (given.rate > SPIN_ABOVE && ahead < 0.001)
            continue;
        struct timespec time = {(time_t)ahead, (long)((ahead - (double)(time_t)ahead) * 1e9)};
        nanosleep(&time, NULL);
    }
}

static bool send_one(struct emitter *emitter, const char *bytes, size_t length)
{
    if (length > DATAGRAM) {
        length = DATAGRAM;
        emitter->cut++;
    }
    keep_rate(emitter);
    for (;;) {
        if (send(emitter->socket, bytes, length, 0) >= 0)
            break;
        if (errno == EINTR || errno == ENOBUFS || errno == ECONNREFUSED) {
            if (errno == ECONNREFUSED) {
                /* An answer to an earlier datagram: nobody listens. It need not be so for long, but say it.
                 */
                ind_complain("nobody listens at %s", given.to + 4);
                return false;
            }
            continue;
        }
        ind_complain("cannot send to %s: %s", given.to + 4, strerror(errno));
        return false;
    }
    emitter->sent++;
    emitter->bytes += length;
    return true;
}

static bool done(const struct emitter *emitter)
{
    return given.count > 0 && emitter->sent >= (uint64_t)given.count;
}

/* ---- One message, made from the options ---- */

static void add_time_3164(struct ind_buffer *buffer)
{
    static const char *const months[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                         "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
    char text[32];
    time_t now = time(NULL);
    struct tm local;
    localtime_r(&now, &local);
    snprintf(text, sizeof text, "%s %2d %02d:%02d:%02d", months[local.tm_mon], local.tm_mday, local.tm_hour,
             local.tm_min, local.tm_sec);
    ind_buffer_text(buffer, text);
}

static bool write_message(const char *text, struct ind_buffer *buffer)
{
    char host[256] = "localhost";
    int facility = given.facility ? ind_facility_read(ind_slice_of(given.facility)) : IND_FACILITY_USER;
    int severity = given.severity ? ind_severity_read(ind_slice_of(given.severity)) : IND_SEVERITY_NOTICE;
    bool old = given.form && strcmp(given.form, "rfc3164") == 0;
    if (facility < 0 || severity < 0) {
        const char *word = facility < 0 ? given.facility : given.severity;
        struct ind_slice near =
            facility < 0 ? ind_facility_near(ind_slice_of(word)) : ind_severity_near(ind_slice_of(word));
        ind_complain("--%s: unknown name \"%s\"%s%s%s", facility < 0 ? "facility" : "severity", word,
                     near.length ? "; did you mean \"" : "", near.length ? near.at : "",
                     near.length ? "\"?" : "");
        return false;
    }
    (void)gethostname(host, sizeof host - 1);
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, (unsigned)facility * 8u + (unsigned)severity);
    ind_buffer_text(buffer, old ? ">" : ">1 ");
    if (old)
        add_time_3164(buffer);
    else
        ind_time_write(buffer, ind_now());
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, ind_slice_of(given.host ? given.host : host), '\0');
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, ind_slice_of(given.app ? given.app : "indagator"), '\0');
    ind_buffer_text(buffer, old ? ": " : " - - - ");
    ind_buffer_text(buffer, text);
    return true;
}

static bool emit_text(struct emitter *emitter, const char *text)
{
    static char message[DATAGRAM];
    uint64_t count = given.count > 0 ? (uint64_t)given.count : 1;
    for (uint64_t i = 0; i < count; i++) {
        struct ind_buffer buffer = ind_buffer_on(message, sizeof message);
        if (!write_message(text, &buffer) || !send_one(emitter, message, buffer.length))
            return false;
    }
    return true;
}

/* ---- A file ---- */

static bool emit_block(struct emitter *emitter, struct ind_slice block)
{
    while (block.length > 0 && !done(emitter)) {
        const char *newline = memchr(block.at, '\n', block.length);
        size_t length = newline ? (size_t)(newline - block.at) : block.length;
        size_t own = length > 0 && block.at[length - 1] == '\r' ? length - 1 : length;
        if (own && !send_one(emitter, block.at, own))
            return false;
        block = ind_slice_from(block, newline ? length + 1 : length);
    }
    return true;
}

/* True also where the file is read to its end; *any: it held at least one message. */
static bool emit_file(struct emitter *emitter, bool *any)
{
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
    while (good && !done(emitter) && (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK)
        good = emit_block(emitter, block);
    if (good && result == IND_READ_FAILED) {
        ind_complain("cannot read all of %s: %s", given.from, ind_reader_reason(reader));
        good = false;
    }
    ind_reader_close(reader);
    *any = emitter->sent > before && !standard;
    return good;
}

static bool emit_files(struct emitter *emitter)
{
    bool any = true;
    do
        if (!emit_file(emitter, &any))
            return false;
    while (given.count > 0 && any && !done(emitter));
    return true;
}

/* ---- ---- */

static bool connect_to(struct emitter *emitter)
{
    char host[256];
    const char *reason = "", *colon = given.to ? strrchr(given.to, ':') : NULL;
    if (!given.to || strncmp(given.to, "udp:", 4) != 0 || colon < given.to + 5 || !colon[1]) {
        ind_complain(given.to ? "--to: \"%s\" is no target; write one such as udp:127.0.0.1:514"
                              : "where to? give --to, such as --to udp:127.0.0.1:514%s",
                     given.to ? given.to : "");
        return false;
    }
    const char *start = given.to + 4;
    size_t length = (size_t)(colon - start);
    if (length > 2 && start[0] == '[' && start[length - 1] == ']') {
        start++;
        length -= 2;
    }
    snprintf(host, sizeof host, "%.*s", (int)length, start);
    emitter->socket = ind_connect(IND_SEND_UDP, host, colon + 1, NULL, &reason);
    if (emitter->socket < 0)
        ind_complain("cannot send to %s: %s", given.to + 4, reason);
    return emitter->socket >= 0;
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

static int run(struct ind_call *call)
{
    static char text[32768];
    struct emitter emitter = {.socket = -1, .began = ind_now()};
    if ((*call->rest != NULL) == (given.from != NULL)) {
        ind_complain("%s", given.from ? "either --from FILE or a text, not both"
                                      : "what is to be sent? give a text, or --from FILE");
        return IND_EXIT_CALL;
    }
    if (given.form && strcmp(given.form, "rfc5424") != 0 && strcmp(given.form, "rfc3164") != 0) {
        ind_complain("--form: unknown form \"%s\"; expected rfc5424 or rfc3164", given.form);
        return IND_EXIT_CALL;
    }
    if (!join_text(call->rest, text, sizeof text)) {
        ind_complain("the text is longer than 32 KiB; send it with --from");
        return IND_EXIT_CALL;
    }
    if (!connect_to(&emitter))
        return IND_EXIT_CALL;
    bool good = given.from ? emit_files(&emitter) : emit_text(&emitter, text);
    char sent[32], size[32];
    if (!good && emitter.sent == 0)
        ; /* nothing came of it, and why has been told */
    else if (call->json)
        printf("{\"sent\":%llu,\"bytes\":%llu}\n", (unsigned long long)emitter.sent,
               (unsigned long long)emitter.bytes);
    else
        printf("sent %s message%s, %s\n", ind_grouped(emitter.sent, sent), emitter.sent == 1 ? "" : "s",
               ind_size_text(emitter.bytes, size));
    if (emitter.cut)
        ind_complain("%llu messages were cut: a datagram holds %d bytes", (unsigned long long)emitter.cut,
                     DATAGRAM);
    close(emitter.socket);
    return good ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

const struct ind_command ind_command_emit = {
    .name = "emit",
    .summary = "sends test messages over UDP: one, or those of a file",
    .arguments = "--to udp:HOST:PORT [--from FILE | TEXT…]",
    .about = "Sends one message made from the options, or each line of a file as it is.\n\n"
             "Example:\n"
             "  indagator emit --to udp:127.0.0.1:5514 --facility local4 --severity warning \"link down\"\n",
    .options = options,
    .run = run,
};
